"""Accounts that may not be used."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.account.root import refuses_root
from hollow_chain.causes.case import ACCOUNTS, Case
from hollow_chain.causes.finding import FITS, PROOF, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import ACCOUNT, Boot, Shown
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import numbered
from hollow_chain.facts.host import HostAccount
from hollow_chain.wording import lines

EXIT_PAM = 224
"""Exit status of systemd itself: no session could be opened (systemd.exec(5), "Process Exit Codes")."""
_LAST = 3
"""Lines at the end of a run among which it may stand that its account is barred: a session that is closed for that comes behind it."""
_BARRED_NUMBERS = {
    1069: "the logon failed",
    1385: "the account lacks the right to run as a service",
    1326: "the password does not fit",
    1327: "the account is restricted",
    1330: "the password has expired",
    1331: "the account is switched off",
    1793: "the account has expired",
    1907: "the password must be changed first",
    1909: "the account is locked",
}


@cause(
    "account-barred",
    Boot.STAYS,
    answered_by=(ACCOUNT,),
    states=NOT_UP,
    shown=Shown(1069, "resources", "{name} could not log on as {account}"),
)
def account_barred(case: Case) -> Iterator[Finding]:
    """Its account is locked, expired, has another password, or lacks the right to run as a service; or is root, and the program refuses that.

    Looks at: the error number, the manager's exit status 224, what is known of the account, what the log says of it.
    Convinced by: an error number of the logon; an account that is expired, of a service that opens a session with it.
    Against: a locked account of a systemd host where no session is opened: such accounts are usual there.
    Mend: renew the account's password or right; the least that is enough.
    """
    service = case.service
    user = service.account.user if service.account else ""
    known = case.account(user) if user else None
    if known is not None and not known.exists:
        return  # `account-missing` says it
    evidence = [*_barred_by_number(case), *(_barred_by_session(case) if failed_last(service) else ())]
    seen = [] if known is None else _bars(case, known)
    if not evidence:
        yield from refuses_root(case)
    if not evidence and (not case.family.locked_accounts_barred or not seen or not failed_last(service)):
        return
    reasons = [text for _, text in (*evidence, *seen)]
    yield Finding(
        says=f"{service.name} may not run as {user or 'its account'}: {', '.join(dict.fromkeys(reasons))}.",
        evidence=(
            *(piece for piece, _ in evidence),
            *(case.seen(f"account {user or '(not named)'}: {reason}", ACCOUNTS, bears=SAID) for _, reason in seen),
        ),
        mends=(
            Mend(
                f"Put the account {user or 'of the service'} right (password, lock, expiry, right to run services), no more."
            ),
        ),
        explains=("exits-with-error", "crash-loop"),
    )


def _barred_by_number(case: Case) -> list[tuple[Evidence, str]]:
    told = numbered(case, *_BARRED_NUMBERS, bears=PROOF)
    last = case.service.last
    number = last.error_number if last and last.error_number in _BARRED_NUMBERS else None
    more = [e for e in case.last_events() if e.number in _BARRED_NUMBERS and e.number != 1069]
    if more and told:
        number = more[-1].number
        told = [*told, case.quoted(more[-1], FITS)]
    if told and number is None:
        number = next((e.number for e in reversed(case.last_events()) if e.number in _BARRED_NUMBERS), None)
    return [(piece, _BARRED_NUMBERS.get(number or 1069, "the logon failed")) for piece in told]


def _barred_by_session(case: Case) -> list[tuple[Evidence, str]]:
    last = case.service.last
    said = lines.saying(case.told_events(), "account barred")
    ended_on = any(event is said[-1] for event in case.own_events()[-_LAST:]) if said else False
    found = [(case.quoted(said[-1], SAID if ended_on else FITS), "its log says so")] if said else []
    if last is not None and last.exit_status == EXIT_PAM:
        status = case.seen(
            f"exit status {EXIT_PAM} of the manager: no session could be opened for the account", bears=SAID
        )
        found.insert(0, (status, "no session could be opened for it"))
    return found


def _bars(case: Case, known: HostAccount) -> list[tuple[HostAccount, str]]:
    found = []
    if known.exists and known.locked:
        found.append("it is locked")
    if known.expires_at and case.host.read_at and known.expires_at < case.host.read_at:
        found.append(f"it expired at {known.expires_at:%Y-%m-%d}")
    if known.may_run_services is False:
        found.append("it lacks the right to run as a service")
    return [(known, reason) for reason in found]

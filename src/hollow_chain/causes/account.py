"""Account: who the service runs as, and what that account may do."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import ACCOUNTS, Case
from hollow_chain.causes.rule import AFTER_RELOAD, NOT_UP, Evidence, Finding, Mend, cause

EXIT_GROUP, EXIT_USER = 216, 217
"""Exit statuses of systemd itself (systemd.exec(5), "Process Exit Codes")."""


@cause("account-missing", states=NOT_UP)
def account_missing(case: Case) -> Iterator[Finding]:
    """The user or group that it is to run as does not exist.

    Looks at: the accounts of the host; the manager's exit statuses 216 and 217.
    Convinced by: an account data base without that name.
    Against: an account made anew at each start.
    Mend: create the account, or correct its name in the definition.
    """
    service = case.service
    account = service.account
    if account is None or account.dynamic:
        return
    status = service.last.exit_status if service.last else None
    missing: list[tuple[str, str]] = []
    evidence: list[Evidence] = []
    for kind, name, number in (("user", account.user, EXIT_USER), ("group", account.group, EXIT_GROUP)):
        known = case.account(name, kind) if name else None
        if not name or (known.exists if known else status != number):
            continue
        missing.append((kind, name))
        if known:
            evidence.append(case.seen(f"no {kind} {name!r} on {case.node.host}", ACCOUNTS))
        if status == number:
            evidence.append(case.seen(f"exit status {number} of the manager: the {kind} could not be determined"))
    if not missing:
        return
    words = " and the ".join(f"{kind} {name!r}" for kind, name in missing)
    yield Finding(
        says=f"{service.name} is to run as the {words}, which {'do' if len(missing) > 1 else 'does'} not exist.",
        evidence=tuple(evidence),
        mends=(
            Mend(f"Create the {words} as the package of {service.name} would."),
            Mend(f"Or correct the {missing[0][0]} in the definition of {service.name}.", AFTER_RELOAD),
        ),
        sure=0.97 if status in (EXIT_GROUP, EXIT_USER) else 0.9,
    )

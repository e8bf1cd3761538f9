"""Accounts and groups that do not exist."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import ACCOUNTS, Case
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, PROOF, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import ACCOUNT, Boot, Shown, When
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import numbered
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.lines import CONFIGURATION

EXIT_GROUP, EXIT_USER = 216, 217
"""Exit statuses of systemd itself (systemd.exec(5), "Process Exit Codes")."""
EX_NOUSER = 67
"""Exit status by convention: an account is not known (sysexits.h(3head))."""


@cause(
    "account-missing",
    Boot.STAYS,
    answered_by=(ACCOUNT,),
    states=("running", *NOT_UP),
    when=When.UNWELL,
    shown=Shown(1069, "resources", "{name} could not log on as {account}"),
)
def account_missing(case: Case) -> Iterator[Finding]:
    """The user or group that it is to run as does not exist.

    Looks at: the accounts of the host; the manager's exit statuses 216 and 217; accounts that its log calls unknown.
    Convinced by: an account data base without that name.
    Against: an account made anew at each start.
    Mend: create the account, or correct its name in the definition.
    """
    yield from _of_definition(case)
    yield from _of_configuration(case)


def _of_definition(case: Case) -> Iterator[Finding]:
    service = case.service
    account = service.account
    if account is None:
        return
    status = service.last.exit_status if service.last else None
    missing: list[tuple[str, str]] = []
    evidence: list[Evidence] = []
    # Made anew at each start are its user and group; further groups have to be there (systemd.exec(5), "DynamicUser=").
    own = [] if account.dynamic else [("user", account.user, EXIT_USER), ("group", account.group, EXIT_GROUP)]
    for kind, name, number in (*own, *(("group", name, EXIT_GROUP) for name in account.groups)):
        # A number needs no entry, but where the manager itself looks for one.
        known = case.account(name, kind) if name and not name.isdigit() else None
        if not name or (name.isdigit() and status != number) or (known.exists if known else status != number):
            continue
        missing.append((kind, name))
        if known:
            evidence.append(case.seen(f"no {kind} '{name}' on {case.node.host}", ACCOUNTS, bears=PROOF))
        if status == number:
            said = f"exit status {number} of the manager: the {kind} could not be determined"
            evidence.append(case.seen(said, bears=PROOF))
    if case.family.numbers_failures and not missing and account.user and not account.dynamic:
        evidence += numbered(case, 1057, bears=PROOF)
        missing += [("user", account.user)] if evidence else []
    if not missing:
        return
    words = " and the ".join(f"{kind} '{name}'" for kind, name in missing)
    yield Finding(
        says=f"{service.name} is to run as the {words}, which {'do' if len(missing) > 1 else 'does'} not exist.",
        evidence=tuple(evidence),
        mends=(
            Mend(f"Create the {words} as the package of {service.name} would."),
            Mend(f"Or correct the {missing[0][0]} in the definition of {service.name}.", AFTER_RELOAD, instead=True),
        ),
        explains=("exits-with-error", "crash-loop"),
    )


_OF_THE_SYSTEM = pattern(
    r"(?i)getpw|getgr|getuser|passwd|\buid\b|system user|set[_ ]?user|setuid|initgroups|privileges|No such process"
)
"""Words that speak of the accounts of the system: its calls, its table, and what the C library says where it finds none."""


def _is_argument(case: Case, name: str) -> bool:
    program = case.service.program
    return program is not None and name in {part for word in program.arguments[1:] for part in word.split("=")}


def _of_configuration(case: Case) -> Iterator[Finding]:
    """An account that the program itself was to change to, and did not find."""
    if not failed_last(case.service):
        return
    own = case.own_events()
    named_so = (
        *(("user", *found) for found in lines.unknown_user(own)),
        *(("group", *found) for found in lines.unknown_group(own)),
    )
    for kind, event, name in named_so:
        known = case.account(name, kind)
        if known is not None and known.exists:
            continue
        status = case.service.last.exit_status if case.service.last else None
        named = [
            one
            for one in case.own_events()
            if one.source.startswith(CONFIGURATION) and lines.names_account(one.text, name)
        ]
        of_system = (
            bool(named) or status == EX_NOUSER or bool(_OF_THE_SYSTEM.search(event.text)) or _is_argument(case, name)
        )
        # A database or a service that is called has users of its own, which are no accounts of this host.
        bears = SAID if of_system else TELLS
        yield Finding(
            says=f"{case.service.name} is to {'change to' if kind == 'user' else 'use'} the {kind} '{name}', which does not exist.",
            evidence=(
                case.quoted(event, SAID),
                *((case.seen(f"no {kind} '{name}' on {case.node.host}", ACCOUNTS, bears=bears),) if known else ()),
                *((case.quoted(named[0], FITS),) if named else ()),
                *((case.seen(f"exit status {EX_NOUSER}: no such account", bears=HINT),) if status == EX_NOUSER else ()),
            ),
            mends=(
                Mend(
                    f"Correct the name of the account in the configuration of {case.service.name}.", "at the next start"
                ),
                Mend(f"Or create the user '{name}' as the package of {case.service.name} would.", instead=True),
            ),
            explains=("exits-with-error", "crash-loop", "config-rejected", "exits-at-once"),
        )
        return

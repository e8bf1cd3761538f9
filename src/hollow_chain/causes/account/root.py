"""Programs that ask to run as root, and programs that refuse it, by their own words and against the account that they have."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import AFTER_RELOAD, ENDS, FITS, SAID, Evidence, Finding, Mend
from hollow_chain.causes.standing import failed_last
from hollow_chain.facts.host import Event
from hollow_chain.wording import lines

_ROOT = ("", "root", "0")
"""How a definition that sets no account, or root, is read (systemd.exec(5), "User=")."""


def wants_root(case: Case) -> Iterator[Finding]:
    """It asks for the rights of root, and its account is another (``access-denied``)."""
    user = _account(case)
    for event in _last_words(case, "wants root") if user not in _ROOT else ():
        name = case.service.name
        yield Finding(
            says=f"{name} asks for the rights of root, and its account is {user}.",
            evidence=_evidence(case, event, f"the definition of {name} has it run as {user}"),
            mends=(
                Mend(f"See which right {name} needs, and give it that one alone (AmbientCapabilities=).", AFTER_RELOAD),
                Mend(f"Or take User={user} from its definition, if it is to give up root's rights by itself.", AFTER_RELOAD, instead=True),
            ),
            explains=ENDS,
        )  # fmt: skip
        return


def refuses_root(case: Case) -> Iterator[Finding]:
    """It refuses to run as root, and has no other account (``account-barred``)."""
    user = _account(case)
    for event in _last_words(case, "refuses root") if user in _ROOT else ():
        name = case.service.name
        yield Finding(
            says=f"{name} may not run as root: its program refuses that.",
            evidence=_evidence(case, event, f"the definition of {name} {'has it run as root' if user else 'sets no account'}"),
            mends=(Mend(f"Set the account that {name} is to run under in its definition (User=).", AFTER_RELOAD),),
            explains=ENDS,
        )  # fmt: skip
        return


def _account(case: Case) -> str:
    account = case.service.account
    return account.user if account is not None else ""


def _last_words(case: Case, what: str) -> list[Event]:
    """Of hosts where root is an account, and of a program that the definition itself gives that account."""
    if not case.family.defined_in_files or case.service.program is None or not failed_last(case.service):
        return []
    return lines.saying(case.final_events(), what)[-1:]


def _evidence(case: Case, event: Event, fact: str) -> tuple[Evidence, ...]:
    return case.quoted(event, SAID), case.seen(fact, "definition", bears=FITS)

"""Calls that a policy of the host refuses, by the kernel's own records."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import ENDS, PROOF, Finding, Mend
from hollow_chain.causes.standing import failed_last
from hollow_chain.wording.policy import PolicyDenial, denial_in

_REFUSES = {
    "AppArmor": "the AppArmor profile {0} does not let it",
    "SELinux": "the SELinux policy does not let it, as it runs as {0}",
}


def refused_by_policy(case: Case) -> Iterator[Finding]:
    """The last call that was refused before the end: whatever owner and mode say, no process that the policy holds gets by it."""
    if not failed_last(case.service):
        return
    for event in reversed(case.last_events()):
        found = denial_in(event.text) if event.trust == "trusted" else None
        if found is None:
            continue
        name, thing = case.service.name, found.thing or "what it needs"
        refuses = _REFUSES[found.system].format(found.subject or "(not named)")
        yield Finding(
            says=f"{name} may not use {thing} ({found.asked or 'not told how'}): {refuses}.",
            evidence=(case.quoted(event, PROOF),),
            mends=(Mend(_let(found, name, thing)),),
            explains=(*ENDS, "path-missing", "port-forbidden"),
        )
        return


def _let(found: PolicyDenial, name: str, thing: str) -> str:
    if found.system == "AppArmor":
        way = f"let the profile {found.subject} allow it, and load the profile anew"
    else:
        way = "give what it uses the type that its policy expects, or let the policy allow it"
    return f"See first whether {name} is meant to use {thing}; if it is, {way}; then start {name}."

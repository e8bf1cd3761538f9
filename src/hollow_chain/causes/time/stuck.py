"""What a start that was watched was stuck in."""

from __future__ import annotations

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import SAID, Evidence
from hollow_chain.facts.observed import ObservedWait
from hollow_chain.wording.observed import SOURCE, is_answer

_STUCK = ("connect", "lock", "open", "look", "run", "enter", "poll")
"""Calls that come back at once unless somebody else keeps them; who is up and idle waits in none of them, or asks nobody meanwhile."""


def stuck_in(case: Case) -> ObservedWait | None:
    """The call that kept the last start that was watched; None where none was, or it kept none."""
    seen = [one for one in case.host.observed or () if one.service == case.node.name]
    waits = seen[-1].waits if seen else []
    return next((one for one in waits if one.thing and (one.kind in _STUCK or is_answer(one))), None)


def in_words(wait: ObservedWait) -> str:
    """A wait in a few words."""
    return f"it waits in {wait.name} of {wait.thing}" + (f", which process {wait.holder} has" if wait.holder else "")


def stuck(case: Case) -> list[Evidence]:
    """The same as evidence."""
    wait = stuck_in(case)
    if wait is None:
        return []
    of = f"process {wait.process} ({wait.program})" if wait.program else f"process {wait.process}"
    return [case.seen(f"{of}: {in_words(wait)}", SOURCE, bears=SAID)]

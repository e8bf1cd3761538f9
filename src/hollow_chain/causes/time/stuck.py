"""What a start that was watched was stuck in."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import FITS, SAID, Evidence, Finding, Mend
from hollow_chain.facts.endpoints import is_loopback
from hollow_chain.facts.observed import ObservedWait
from hollow_chain.facts.service import Service
from hollow_chain.wording.last_words import telling
from hollow_chain.wording.observed import SOURCE, is_answer, on

_STUCK = ("connect", "lock", "open", "look", "run", "enter", "poll")
"""Calls that come back at once unless somebody else keeps them; who is up and idle waits in none of them, or asks nobody meanwhile."""


def stuck_in(case: Case) -> ObservedWait | None:
    """The call that kept the last start that was watched; None where none was, or it kept none."""
    seen = [one for one in case.host.observed or () if one.service == case.node.name]
    waits = seen[-1].waits if seen else []
    return next((one for one in waits if one.thing and (one.kind in _STUCK or is_answer(one))), None)


def in_words(wait: ObservedWait) -> str:
    """A wait in a few words."""
    return f"it waits in {wait.name} {on(wait)}" + (f", which process {wait.holder} has" if wait.holder else "")


def stuck(case: Case, bears: str = SAID) -> list[Evidence]:
    """The same as evidence."""
    wait = stuck_in(case)
    if wait is None:
        return []
    of = f"process {wait.process} ({wait.program})" if wait.program else f"process {wait.process}"
    return [case.seen(f"{of}: {in_words(wait)}", SOURCE, bears=bears)]


def stuck_so_far(case: Case) -> Iterator[Finding]:
    """A start that was watched, is still under way, and is kept by one call: until its limit, or for ever."""
    wait, name = stuck_in(case), case.node.name
    if wait is None or case.service.state != "starting" or not case.was_seen_not_to_come_up:
        return
    keeper = next((one.name for one in _asked(case, wait)), "")
    said = (case.quoted(event) for event in telling(case.last_events()) if event.call is None)
    yield Finding(
        says=f"{name} hangs in its start, in {wait.name} {on(wait)}{f', where {keeper} listens' if keeper else ''}.",
        evidence=(*stuck(case, bears=FITS), *said),
        mends=(Mend(f"See why {keeper or wait.thing} keeps it waiting; then start {name} anew.", seeks=True),),
        residual=True,
    )


def _asked(case: Case, wait: ObservedWait) -> list[Service]:
    """The services of this host that listen where a start waits for an answer."""
    address, _, port = wait.thing.rpartition(":")
    if not port.isdigit() or not is_loopback(address.strip("[]")):
        return []
    return case.index.sockets.holders(int(port))

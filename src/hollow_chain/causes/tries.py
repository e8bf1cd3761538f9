"""The tries of a start, as the records of the manager tell them apart."""

from __future__ import annotations

from datetime import datetime, timedelta

from hollow_chain.facts.host import Event
from hollow_chain.families.messages import EXITED, STARTED, STARTING, STOPPING

_ONE_AFTER_THE_OTHER = timedelta(minutes=10)
"""Two tries that end alike within so long fail for one reason."""


def tries_begun(events: list[Event]) -> list[datetime]:
    """When starts were begun by the manager's records: at "starting", or at "started" where no other came before it."""
    found: list[datetime] = []
    pending = False
    for event in events:
        if event.code == STARTING or (event.code == STARTED and not pending):
            found.append(event.at)
        if event.code in (STARTING, STARTED):
            pending = event.code == STARTING
    return found


def since_stop(events: list[Event], tries: list[datetime]) -> list[datetime]:
    """Those starts that came after the last stop by hand: the manager announces no such stop between its own restarts."""
    stops = [event.at for event in events if event.code == STOPPING]
    return [at for at in tries if not stops or at > stops[-1]]


def with_the_try_before(events: list[Event], since: list[Event]) -> list[Event]:
    """The records of the last try with those of the one before it, where the program's own words of the last one were lost and the two
    ended alike: of a process that is gone at once the journal may not learn whose it was. Empty where that does not hold."""
    ends = [e for e in events if e.code == EXITED]
    if (
        len(ends) < 2
        or ends[-1] not in since
        or ends[-1].text != ends[-2].text
        or ends[-1].at - ends[-2].at > _ONE_AFTER_THE_OTHER
    ):
        return []
    tries = [at for at in tries_begun(events) if at <= ends[-2].at]
    return [e for e in events if tries and e.at >= tries[-1]]

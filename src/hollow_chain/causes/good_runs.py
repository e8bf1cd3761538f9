"""What a program says in its good starts too: such lines, however alarming, are not why another start failed."""

from __future__ import annotations

from datetime import datetime, timedelta

from hollow_chain.facts.host import Event
from hollow_chain.families.messages import STARTED, STARTING, STOPPING
from hollow_chain.lazy import pattern

_NUMBERS = pattern(r"\d+")
_WENT_ON = timedelta(seconds=0.5)
"""So long a run has to go on after a line, until somebody has it stopped, for the line to have been harmless."""
_AT_ITS_START = timedelta(seconds=10)
"""After its start a run's lines are about its work, and may tell of a trouble that the next start meets."""


def plain(text: str) -> str:
    """A line without what differs from run to run: moments, processes, counts."""
    return _NUMBERS.sub("0", text)


def said_when_well(events: list[Event]) -> frozenset[str]:
    """What the program said at the start of runs that came up and were up until somebody had them stopped; without numbers."""
    if not any(event.code == STOPPING for event in events):
        return frozenset()
    found: set[str] = set()
    begun: datetime | None = None
    came_up, lines = False, list[Event]()
    for event in events:
        if event.by_manager and event.code in (STARTING, STARTED):
            if event.code == STARTING or not came_up:
                begun, lines = (event.at, []) if event.code == STARTING or begun is None else (begun, lines)
            came_up = event.code == STARTED
        elif event.by_manager and event.code == STOPPING:
            if came_up and begun is not None:
                found |= {plain(e.text) for e in lines if e.at - begun < _AT_ITS_START and event.at - e.at > _WENT_ON}
            begun, came_up, lines = None, False, []
        elif event.by_manager and event.code:
            begun, came_up, lines = None, False, []  # it ended by itself
        elif not event.by_manager and begun is not None:
            lines.append(event)
    return frozenset(found)

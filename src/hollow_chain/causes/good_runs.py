"""What a program says in its good starts too: such lines, however alarming, are not why another start failed."""

from __future__ import annotations

from dataclasses import dataclass, field
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
    run = _Run()
    for event in events:
        if not event.by_manager:
            run.lines.append(event)
        elif event.code == STARTING:
            run = _Run(event.at)
        elif event.code == STARTED:
            run = _Run(run.begun or event.at, True, run.lines if run.begun else [])
        elif event.code:
            if event.code == STOPPING and run.came_up:
                found |= run.said_at_its_start(event.at)
            run = _Run()  # its end, whether asked for or its own
    return frozenset(found)


@dataclass
class _Run:
    """A run as the manager's records tell it."""

    begun: datetime | None = None
    came_up: bool = False
    lines: list[Event] = field(default_factory=list)

    def said_at_its_start(self, stopped: datetime) -> set[str]:
        """What the program said at its start, and went on after, until it was *stopped*."""
        begun = self.begun or stopped
        return {
            plain(e.text) for e in self.lines if e.at - begun < _AT_ITS_START and stopped - _latest(e.at) > _WENT_ON
        }


def _latest(at: datetime) -> datetime:
    """The latest moment that one as a log tells it may be: many tell whole seconds."""
    return at if at.microsecond else at + timedelta(seconds=1)

"""What a watched start is asked for, and what has been seen of it so far."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, NamedTuple

from hollow_chain.facts.observed import ObservedWait, Outcome
from hollow_chain.observing.along import Along, run_of

SETTLED = 3.0
"""Seconds for which a start has to stay good: as long as a first start of a program is watched."""
STATE, LOG, SOCKET, WAITS, PROCESS = "state", "log", "socket", "waits", "process"


class Seen(NamedTuple):
    """One thing that was seen while a start was watched."""

    kind: str
    seconds: float
    """Since the start was begun."""
    text: str


class WatchWish(NamedTuple):
    """How a start is to be watched."""

    unit: str
    programs: tuple[str, ...] = ()
    """Those of its definition."""
    seconds: float | None = None
    """How long at most; None: its start limit, and until it has stayed up for a moment."""
    attach: bool = False
    """Wait for the next try of what is restarted anyway, and start nothing."""
    restart: bool = False
    """Stop it first: it runs."""
    logs: tuple[str, ...] = ()
    """Log files of its own."""


@dataclass
class Course:
    """What has been seen so far."""

    began: float
    at: datetime
    state: str = ""
    processes: set[int] = field(default_factory=set)
    told_processes: set[int] = field(default_factory=set)
    result: str = ""
    along: list[Along] = field(default_factory=list)
    """The services that it takes along and that were not up before."""
    logs: dict[str, int] = field(default_factory=dict)
    """Log files of its own, and how much of each is told."""
    ports: set[str] = field(default_factory=set)
    said: set[tuple[datetime, str]] = field(default_factory=set)
    waits: list[ObservedWait] = field(default_factory=list)
    told_waits: set[tuple[int, str, str]] = field(default_factory=set)
    up_at: float = 0.0
    ran_at: float = 0.0
    outcome: Outcome = "not-up"

    settles: float = SETTLED
    job: int = 0
    """The start in the manager's queue."""
    begun_after: float = 0.0
    """Seconds until the manager began with the start: before that it stops the run that there was."""
    was_begun: bool | None = None
    """Whether the manager's own records say that it was begun; False of one that it passed over."""
    failed: bool = False
    """Whether these say that it failed."""
    run: bytes = b""
    """What the manager told the run before this one from others by (``InvocationID``, systemd.exec(5))."""

    def is_begun(self, unit: dict[str, Any]) -> bool:
        """Whether the manager has begun with this start, or is through with it: until then its words are of the run before."""
        return run_of(unit) != self.run or unit.get("Job", (0,))[0] != self.job

    @property
    def seconds(self) -> float:
        return time.monotonic() - self.began


Tell = Callable[[Seen], None]
Turn = Callable[[], None]

"""The services that a start takes along: what one of them that comes to nothing tried is told as well, for then it is the link that does
not hold, and not the one that was asked for."""

from __future__ import annotations

import contextlib
from collections import deque
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from hollow_chain.facts.observed import Observation, ObservedWait, Outcome
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.systemd_calls import Manager
from hollow_chain.observing import good_starts
from hollow_chain.observing.last_read import last_read
from hollow_chain.observing.missing import missed
from hollow_chain.observing.story import Story, told
from hollow_chain.observing.waiting import waits_of
from hollow_chain.observing.weighing import weighed

_MOST_NEEDS = 40
"""Services below one that are gone through: a chain of so many is none that a person would follow."""
_HARD, _SOFT = ("Requires", "BindsTo"), ("Wants",)
_UP = ("active", "reloading")
TIMEOUT = "timeout"
"""The manager's result of a start that ran out of time (systemd.service(5))."""


@dataclass
class Along:
    """One service that a start takes along, or may."""

    name: str
    unit: dict[str, Any]
    """What the manager told of it before the start, and tells after it."""
    hard: bool
    """Whether the one above it cannot be without it."""
    run: bytes = b""
    processes: set[int] = field(default_factory=set)
    waits: list[ObservedWait] = field(default_factory=list)

    @property
    def is_up(self) -> bool:
        """Whether it is up."""
        return self.unit.get("ActiveState") in _UP

    @property
    def ran_out_of_time(self) -> bool:
        """Whether the manager ended its start, as that took too long."""
        return self.unit.get("Result") == TIMEOUT

    def came_to(self, above: Outcome) -> Outcome | None:
        """What its start came to, where that is worth telling: it was begun with the other's, which came to *above*, and is not up."""
        state = self.unit.get("ActiveState")
        if run_of(self.unit) == self.run or state in _UP or above == "up":
            return None
        if self.unit.get("Result") not in (None, "", "success"):
            return "failed"
        if state == "inactive":
            return "ended" if self.hard and self.unit.get("Type") != "oneshot" else None
        # One that is only slow is none that failed: it was waited for to the end of the watch.
        return "not-up" if above == "not-up" and self.hard else None


def story_of(
    unit: dict[str, Any], name: str, lines: Sequence[str], programs: Iterable[str], known: Iterable[int]
) -> Story:
    """What a trace tells of a unit: *programs* are those by which its processes are told apart, *known* such that were seen in its group."""
    return told(lines, name, programs, known, _commands(unit), _forgiven(unit))


def _commands(unit: dict[str, Any]) -> int:
    """How many commands a start of a unit runs, those before and after its program included."""
    return sum(len(unit.get(key) or ()) for key in ("ExecCondition", "ExecStartPre", "ExecStart", "ExecStartPost"))


def _forgiven(unit: dict[str, Any]) -> set[str]:
    """The programs of those of them before the start whose failure stops nothing."""
    return {str(command[0]) for command in unit.get("ExecStartPre") or () if len(command) > 2 and command[2]}


def seen_along(
    one: Along, above: Outcome, at: datetime, seconds: float, lines: Sequence[str], traced: bool
) -> Observation | None:
    """What was seen of a service that a start took along, which came to *above* and was watched from *at* on for *seconds*; None where
    that says nothing. *lines* are those of the trace, if it was *traced*."""
    outcome = one.came_to(above)
    if outcome is None:
        return None
    # By its group alone: what it runs may be what the other runs, an interpreter or a shell.
    story = story_of(one.unit, one.name, lines, (), one.processes)
    good = good_starts.known(one.name) if traced else frozenset()
    hangs = outcome == "not-up" or one.ran_out_of_time
    return Observation(
        one.name, at, round(seconds, 3), outcome, traced,
        calls=weighed(story, good, outcome != "ended", missed(story, names_in(one.name, one.unit)), hangs) if traced else [],
        waits=waits_of(story, one.waits, at.timestamp() + seconds) if hangs else [],
        read_last=(last_read(story) or None) if traced and not hangs else None,
        known_good=bool(good),
    )  # fmt: skip


def names_in(name: str, unit: dict[str, Any]) -> set[str]:
    """The names that the own folders of a unit bear: its own, and that of its account."""
    return {name.rpartition(".")[0].partition("@")[0], str(unit.get("User") or "")} - {"", "root"}


def run_of(unit: dict[str, Any]) -> bytes:
    """What the manager tells this run from others by (``InvocationID``, systemd.exec(5))."""
    return bytes(unit.get("InvocationID") or b"")


def needed_by(manager: Manager, name: str, unit: dict[str, Any]) -> list[Along]:
    """The services that the start of a unit takes along, those that it needs itself first."""
    found: list[Along] = []
    seen = {name}
    left = deque(_named(unit))
    while left and len(found) < _MOST_NEEDS:
        need, hard = left.popleft()
        if need in seen or not need.endswith(".service"):
            continue
        seen.add(need)
        with contextlib.suppress(NotDone):
            facts = manager.unit(need)
            found.append(Along(need, facts, hard, run_of(facts)))
            left += [(below, hard and below_hard) for below, below_hard in _named(facts)]
    return found


def _named(unit: dict[str, Any]) -> Iterable[tuple[str, bool]]:
    for keys, hard in ((_HARD, True), (_SOFT, False)):
        for key in keys:
            yield from ((str(name), hard) for name in unit.get(key) or ())

"""Watching one start on this machine: the manager's states, the log as it grows, sockets as they are opened, and, where that can be had,
the calls of the service's processes."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

from hollow_chain.facts.observed import Observation, ObservedPart, ObservedWait, Outcome
from hollow_chain.families.messages import FAILED, SKIPPED, STARTED, STARTING
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.systemd_calls import Manager
from hollow_chain.observing import good_starts
from hollow_chain.observing.along import Along, needed_by, run_of, seen_along, story_of
from hollow_chain.observing.call_table import BIND, traced_names
from hollow_chain.observing.last_read import last_read
from hollow_chain.observing.story import Story
from hollow_chain.observing.waiting import at_work, waits_of
from hollow_chain.observing.weighing import signature, signatures, weighed
from hollow_chain.reach.handles import NotOpened
from hollow_chain.reach.here import here
from hollow_chain.reach.interfaces import NotThere
from hollow_chain.sources.systemd.groups import unit_of
from hollow_chain.sources.systemd.journal import Journal
from hollow_chain.wording.secrets import mask_text

_POLL = 0.1
"""Seconds between two looks: while the manager is traced, each costs it some hundred calls."""
_SETTLED, _LONGEST_SETTLED = 3.0, 60.0
"""Seconds for which a start has to stay good: as long as a first start of a program is watched; longer for one that went on for longer
before it failed last time, up to what somebody sits through."""
_SLOWED = 4.0
"""By how much tracing slows a start at the most (``make bench``, "observed start")."""
_QUIET = 0.3
"""Seconds after the end in which the last records and calls come in."""
_USUAL_LIMIT = 90.0
"""Start limit where none is set (systemd-system.conf(5), ``DefaultTimeoutStartSec=``)."""
_LONGEST = 600.0
"""Seconds that are watched at most, whatever limit is set: nobody sits longer before it."""
_MOST_LINES, _MOST_SOCKETS = 40, 20_000
"""Records between two looks, and sockets that are gone through: a busy server has some thousands."""
_MOST_ALONG = 4
"""Services beside it of which is told what they tried: where more than a few fail together, one reason is behind them."""
_MOST_BYTES = 16 << 10
"""Bytes of a log that are told between two looks."""
_NEVER = 2**64 - 1
"""``USEC_INFINITY``: no limit."""

_TIMEOUT = "timeout"
"""The manager's result of a start that ran out of time (systemd.service(5))."""

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
class _Course:
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

    settles: float = _SETTLED
    job: int = 0
    """The start in the manager's queue."""
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


def limit_of(unit: dict[str, Any]) -> float:
    """How long a start of a unit may take, in seconds."""
    limit = unit.get("TimeoutStartUSec")
    return _USUAL_LIMIT if not isinstance(limit, int) or limit in (0, _NEVER) else min(limit / 1e6, _LONGEST)


def observed(wish: WatchWish, tell: Tell, turn: Turn) -> tuple[Observation, ...]:
    """Watch a start; behind what was seen of it stands what was seen of services that came along and to nothing.

    Raises :class:`~hollow_chain.mend.hands.NotDone` where the manager cannot be asked, or refuses the start.

    A Ctrl-C goes through, and whatever *turn* raises, which is called at each look; the manager is let go on the way.
    """
    manager = Manager()
    from hollow_chain.reach.posix.tracer import NotTraced, Tracer

    unit = manager.unit(wish.unit)
    settles = _settles(unit)
    most = wish.seconds if wish.seconds is not None else limit_of(unit) + settles + 1
    why_not, story, lines = "", Story(), []
    along = [] if wish.attach else needed_by(manager, wish.unit, unit)
    with contextlib.ExitStack() as stack:
        tracer = None
        try:
            tracer = stack.enter_context(Tracer(traced_names(), most))
        except NotTraced as reason:
            why_not = str(reason)
        course = _Course(time.monotonic(), datetime.now(UTC))
        course.logs = {path: _size(path) for path in wish.logs}
        course.settles = settles
        course.along = [one for one in along if not one.is_up]
        _begin(manager, wish, unit, course)
        for _ in _looks(manager, wish, most, course, tell):
            turn()
        _ask_of_others(manager, course)
        if tracer is not None:
            whole = tracer.runs
            lines = tracer.lines()
            if not whole:
                why_not = "the trace was cut: its tracer ended before the start did"
    if lines:
        story = story_of(unit, wish.unit, lines, wish.programs, course.processes)
    of_others = (seen_along(one, course.outcome, course.at, course.seconds, lines, bool(lines)) for one in course.along)
    return (
        _observation(wish, course, story, bool(lines), why_not),
        *[seen for seen in of_others if seen is not None][:_MOST_ALONG],
    )


def _settles(unit: dict[str, Any]) -> float:
    """For how long a start has to stay good: as long as the run before needed to fail, and what tracing costs."""
    began, ended = (int(unit.get(f"ExecMain{what}Timestamp") or 0) for what in ("Start", "Exit"))
    ran = (ended - began) / 1e6
    if unit.get("Result") in (None, "", "success") or not 0 < ran < _LONGEST_SETTLED:
        return _SETTLED  # who ran for minutes does not fail at its start
    return min(max(_SETTLED, ran * _SLOWED), _LONGEST_SETTLED)


def _unbar(manager: Manager, name: str, unit: dict[str, Any], along: list[Along]) -> None:
    """Reset the failed state of a unit, and of those that it needs and that are barred from starting (systemd.unit(5),
    "StartLimitIntervalSec="): else not the program would be observed, but the bar."""
    barred = ("start-limit-hit",)
    # One that is restarted again and again would be barred by the start that is to be observed.
    if unit.get("Result") in barred or unit.get("ActiveState") == "failed" or unit.get("NRestarts"):
        with contextlib.suppress(NotDone):
            manager.call("ResetFailedUnit", "s", name)
    for one in along:
        if one.hard and one.unit.get("Result") in barred:
            with contextlib.suppress(NotDone):
                manager.call("ResetFailedUnit", "s", one.name)


def _begin(manager: Manager, wish: WatchWish, unit: dict[str, Any], course: _Course) -> None:
    if wish.attach:
        return
    _unbar(manager, wish.unit, unit, course.along)
    course.run = run_of(manager.unit(wish.unit))
    course.began, course.at = time.monotonic(), datetime.now(UTC)
    # One that waits for its next try is not begun by a start, which only waits with it (systemd.service(5), "RestartSec="); nor one that
    # is up for a moment between two ends.
    anew = wish.restart or unit.get("SubState") == "auto-restart" or bool(unit.get("NRestarts"))
    answer = manager.call("RestartUnit" if anew else "StartUnit", "ss", wish.unit, "replace")
    course.job = int(str(answer[0]).rpartition("/")[2])


def _looks(manager: Manager, wish: WatchWish, most: float, course: _Course, tell: Tell) -> Iterator[None]:
    """Look again and again, until it is clear what the start came to."""
    tries: int | None = None
    while True:
        unit = manager.unit(wish.unit)
        if not wish.attach and not course.is_begun(unit):
            _processes_of(wish.unit, course, tell)
            if course.seconds > most:
                return
            yield
            time.sleep(_POLL)
            continue
        tries = int(unit.get("NRestarts") or 0) if tries is None else tries
        _look(wish.unit, unit, course, tell)
        if wish.attach and not course.ran_at:
            if _is_under_way(unit) or int(unit.get("NRestarts") or 0) > tries:
                course.ran_at = course.seconds
        elif _is_over(unit, course, tries if not wish.attach else None):
            time.sleep(_QUIET)
            _look(wish.unit, manager.unit(wish.unit), course, tell)
            if course.outcome == "ended" and course.failed:
                course.outcome = (
                    "failed"  # the next try is under way, and the manager has forgotten what this one came to
                )
            return
        if course.seconds > most:
            return
        yield
        time.sleep(_POLL)


def _is_under_way(unit: dict[str, Any]) -> bool:
    return unit.get("ActiveState") == "activating" and unit.get("SubState") != "auto-restart"


def _is_over(unit: dict[str, Any], course: _Course, tries: int | None) -> bool:
    state, sub = unit.get("ActiveState"), unit.get("SubState")
    queued = bool(unit.get("Job", (0,))[0])
    if sub == "auto-restart" or (tries is not None and int(unit.get("NRestarts") or 0) > tries):
        course.outcome = "failed" if unit.get("Result") != "success" else "ended"
        return True
    if state == "active":
        course.up_at = course.up_at or course.seconds
        if course.seconds - course.up_at >= course.settles or sub == "exited":
            course.outcome = "up"
            return True
        return False
    if state in ("failed", "inactive") and not queued:
        well = state == "inactive" and unit.get("Result") == "success"
        meant_to_end = unit.get("Type") == "oneshot"
        began = course.was_begun is not False and bool(course.was_begun or course.told_processes or course.up_at)
        course.outcome = ("up" if meant_to_end else "ended") if well and began else "failed"
        return True
    return False


def _ask_of_others(manager: Manager, course: _Course) -> None:
    """What became of the services that came along."""
    for one in course.along:
        with contextlib.suppress(NotDone):
            one.unit = manager.unit(one.name)


def _processes_of(name: str, course: _Course, tell: Tell) -> set[int]:
    """The processes of the unit now; those of the services that come along are noted, and what they are told."""
    processes = here().processes
    groups: dict[str, set[int]] = {}
    for number in processes.numbers():
        if number > 1:
            groups.setdefault(unit_of(number, processes), set()).add(number)
    for one in course.along:
        now = groups.get(one.name, set())
        for number in sorted(now - one.processes):
            if program := _program(number):
                one.processes.add(number)
                tell(Seen(PROCESS, course.seconds, f"{program} (process {number}) of {one.name}"))
        one.waits = _waits(now) or one.waits
    return groups.get(name, set())


def _program(number: int) -> str:
    """The program of a process; empty of one that is still the manager's own, and has yet to become the program."""
    program = here().processes.program(number)
    return "" if program.startswith("(") else program


def _waits(processes: set[int]) -> list[ObservedWait]:
    return [wait for number in sorted(processes) if (wait := at_work(number)) is not None]


def _look(name: str, unit: dict[str, Any], course: _Course, tell: Tell) -> None:
    _look_at_log(name, course, tell)
    _look_at_own_logs(course, tell)
    state = f"{unit.get('ActiveState')} ({unit.get('SubState')})"
    if state != course.state and not (
        not course.state and unit.get("ActiveState") in ("inactive", "failed") and unit.get("Job", (0,))[0]
    ):
        course.state = state
        tell(Seen(STATE, course.seconds, state))
    now = _processes_of(name, course, tell)
    for number in sorted(now - course.told_processes):
        program = _program(number)
        if program:
            course.told_processes.add(number)
            tell(Seen(PROCESS, course.seconds, f"{program} (process {number})"))
    course.processes |= now
    course.result = str(unit.get("Result") or "")
    _look_at_sockets(now, course, tell)
    waits = _waits(now)
    for wait in waits:
        key = wait.process, wait.name, wait.thing
        if key not in course.told_waits and course.up_at == 0.0 and course.seconds > 1.0:
            course.told_waits.add(key)
            tell(
                Seen(
                    WAITS,
                    course.seconds,
                    f"process {wait.process} waits in {wait.name}{f': {wait.thing}' if wait.thing else ''}",
                )
            )
    course.waits = waits or course.waits


def _look_at_sockets(now: set[int], course: _Course, tell: Tell) -> None:
    if not now:
        return
    try:
        sockets = here().network.sockets(_MOST_SOCKETS)
    except OSError:
        return
    for one in sockets:
        endpoint = f"{one.protocol} {one.address or '*'}:{one.port}"
        if one.process in now and endpoint not in course.ports:
            course.ports.add(endpoint)
            tell(Seen(SOCKET, course.seconds, endpoint))


def _look_at_log(name: str, course: _Course, tell: Tell) -> None:
    try:
        with here().journal() as records:
            events = Journal(records).last(name, _MOST_LINES)
    except NotThere:
        return
    since = course.at - timedelta(seconds=0.05)
    for event in events:
        key = event.at, event.text
        if event.at >= since and event.code in (STARTING, STARTED, SKIPPED):
            course.was_begun = course.was_begun is not False and event.code != SKIPPED
        course.failed = course.failed or (event.at >= since and event.code == FAILED)
        if event.at >= since and key not in course.said:
            course.said.add(key)
            tell(Seen(LOG, (event.at - course.at).total_seconds(), event.text))


def _size(path: str) -> int:
    try:
        return Path(path).stat().st_size
    except OSError:
        return 0


def _look_at_own_logs(course: _Course, tell: Tell) -> None:
    """What has been written to log files of the service's own since the last look."""
    for path, told_to in course.logs.items():
        grown = _size(path) - told_to
        if grown == 0:
            continue
        course.logs[path] = told_to + grown
        with contextlib.suppress(OSError, NotOpened):
            data = here().files.walker().read(path, min(grown, _MOST_BYTES), from_end=True).data if grown > 0 else b""
            for line in data.decode("utf-8", "replace").splitlines()[-_MOST_LINES:]:
                if line.strip():
                    tell(Seen(LOG, course.seconds, f"{mask_text(line)}  [{path}]"))


_REFUSED_LISTENERS = ("EADDRINUSE", "EADDRNOTAVAIL", "EACCES", "EPERM")


def _observation(wish: WatchWish, course: _Course, story: Story, traced: bool, why_not: str) -> Observation:
    good = good_starts.known(wish.unit) if traced else frozenset()
    calls = []
    if traced and course.outcome == "up":
        # Up, and deaf: where it could not listen is told, and is not kept as what happens in good starts.
        deaf = [one for one in weighed(story, good, False) if one.kind == BIND and one.error in _REFUSED_LISTENERS]
        calls = [
            one
            for one in deaf
            if not any(one.thing.rpartition(":")[2] == port.rpartition(":")[2] for port in course.ports)
        ]
        good_starts.keep(wish.unit, signatures(story) - {signature(one.name, one.error, one.thing) for one in calls})
    elif traced:
        calls = weighed(story, good, course.outcome != "ended")
    waits: list[ObservedWait] = []
    if course.outcome == "not-up" or (course.outcome == "failed" and course.result == _TIMEOUT):
        waits = waits_of(story, course.waits, course.at.timestamp() + course.seconds)
    read = last_read(story) if traced and course.outcome in ("failed", "ended") and course.result != _TIMEOUT else ""
    return Observation(
        wish.unit, course.at, round(course.seconds, 3), course.outcome, traced, why_not, _parts(course, story), calls, waits,
        read or None, bool(good),
    )  # fmt: skip


def _parts(course: _Course, story: Story) -> list[ObservedPart]:
    """What took how long: what the manager prepares, what comes before the program, and the program until it was up."""
    begun = course.at.timestamp()
    tops = [life for life in story.lives.values() if story.top(life) is life and life.ran_at]
    found = []
    if tops:
        found.append(ObservedPart("the manager's preparation", round(max(0.0, min(t.ran_at for t in tops) - begun), 3)))
        for top in sorted(tops, key=lambda one: one.ran_at)[:8]:
            until = top.end.at if top.end is not None else begun + (course.up_at or course.seconds)
            found.append(ObservedPart(top.program, round(max(0.0, until - top.ran_at), 3)))
    if course.up_at:
        found.append(ObservedPart("until it was up", round(course.up_at, 3)))
    return found

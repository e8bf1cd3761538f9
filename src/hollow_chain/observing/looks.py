"""One look at a start that is watched: its state, processes, sockets and logs, and those of what comes along; what is new is told."""

from __future__ import annotations

import contextlib
from datetime import timedelta
from pathlib import Path
from typing import Any

from hollow_chain.facts.observed import ObservedWait
from hollow_chain.families.messages import FAILED, SKIPPED, STARTED, STARTING
from hollow_chain.observing.course import LOG, PROCESS, SOCKET, STATE, WAITS, Course, Seen, Tell
from hollow_chain.observing.waiting import at_work
from hollow_chain.reach.handles import NotOpened
from hollow_chain.reach.here import here
from hollow_chain.reach.interfaces import NotThere
from hollow_chain.sources.systemd.groups import unit_of
from hollow_chain.sources.systemd.journal import Journal
from hollow_chain.wording.secrets import mask_text

_MOST_LINES, _MOST_SOCKETS = 40, 20_000
"""Records between two looks, and sockets that are gone through: a busy server has some thousands."""
_MOST_BYTES = 16 << 10
"""Bytes of a log that are told between two looks."""


def processes_of(name: str, course: Course, tell: Tell) -> set[int]:
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


def look(name: str, unit: dict[str, Any], course: Course, tell: Tell) -> None:
    """Look once, and tell what is new; *unit* are the properties of the unit now."""
    _look_at_log(name, course, tell)
    _look_at_own_logs(course, tell)
    state = f"{unit.get('ActiveState')} ({unit.get('SubState')})"
    if state != course.state and not (
        not course.state and unit.get("ActiveState") in ("inactive", "failed") and unit.get("Job", (0,))[0]
    ):
        course.state = state
        tell(Seen(STATE, course.seconds, state))
    now = processes_of(name, course, tell)
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


def _look_at_sockets(now: set[int], course: Course, tell: Tell) -> None:
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


def _look_at_log(name: str, course: Course, tell: Tell) -> None:
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


def size(path: str) -> int:
    """Bytes of a log file; 0 of one that is not there."""
    try:
        return Path(path).stat().st_size
    except OSError:
        return 0


def _look_at_own_logs(course: Course, tell: Tell) -> None:
    """What has been written to log files of the service's own since the last look."""
    for path, told_to in course.logs.items():
        grown = size(path) - told_to
        if grown == 0:
            continue
        course.logs[path] = told_to + grown
        with contextlib.suppress(OSError, NotOpened):
            data = here().files.walker().read(path, min(grown, _MOST_BYTES), from_end=True).data if grown > 0 else b""
            for line in data.decode("utf-8", "replace").splitlines()[-_MOST_LINES:]:
                if line.strip():
                    tell(Seen(LOG, course.seconds, f"{mask_text(line)}  [{path}]"))

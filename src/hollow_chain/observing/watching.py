"""Watching one start on this machine: the manager's states, the log as it grows, sockets as they are opened, and, where that can be had,
the calls of the service's processes."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from hollow_chain.facts.observed import Observation, ObservedCall, ObservedPart, ObservedWait
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.systemd_calls import Manager
from hollow_chain.observing import good_starts
from hollow_chain.observing.along import TIMEOUT, Along, names_in, needed_by, run_of, seen_along, story_of
from hollow_chain.observing.call_table import BIND, CONNECT, traced_names
from hollow_chain.observing.course import SETTLED, Course, Tell, Turn, WatchWish
from hollow_chain.observing.last_read import last_read
from hollow_chain.observing.looks import look, processes_of, size
from hollow_chain.observing.missing import missed
from hollow_chain.observing.story import Story
from hollow_chain.observing.waiting import waits_of
from hollow_chain.observing.weighing import asked_again, signature, signatures, weighed

_POLL = 0.1
"""Seconds between two looks: while the manager is traced, each costs it some hundred calls."""
_LONGEST_SETTLED = 60.0
"""Seconds for which a start has to stay good that went on for long before it failed last time: what somebody sits through."""
_SLOWED = 4.0
"""By how much tracing slows a start at the most (``make bench``, "observed start")."""
_QUIET = 0.3
"""Seconds after the end in which the last records and calls come in."""
_USUAL_LIMIT = 90.0
"""Start limit where none is set (systemd-system.conf(5), ``DefaultTimeoutStartSec=``)."""
_LONGEST = 600.0
"""Seconds that are watched at most, whatever limit is set: nobody sits longer before it."""
_MOST_ALONG = 4
"""Services beside it of which is told what they tried: where more than a few fail together, one reason is behind them."""
_NEVER = 2**64 - 1
"""``USEC_INFINITY``: no limit."""


def limit_of(unit: dict[str, Any]) -> float:
    """How long a start of a unit may take, in seconds."""
    limit = unit.get("TimeoutStartUSec")
    return _USUAL_LIMIT if not isinstance(limit, int) or limit in (0, _NEVER) else min(limit / 1e6, _LONGEST)


def _stop_limit(unit: dict[str, Any]) -> float:
    """How long the stop of what runs may take before a start anew, in seconds: it is killed at its limit, and once more at twice that."""
    limit = unit.get("TimeoutStopUSec")
    runs = unit.get("ActiveState") not in ("inactive", "failed")
    return 2 * min(limit / 1e6, _LONGEST) if runs and isinstance(limit, int) and limit not in (0, _NEVER) else 0.0


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
    stop = _stop_limit(unit) if wish.restart else 0.0
    why_not, story, lines = "", Story(), []
    along = [] if wish.attach else needed_by(manager, wish.unit, unit)
    with contextlib.ExitStack() as stack:
        tracer = None
        try:
            tracer = stack.enter_context(Tracer(traced_names(), most + stop))
        except NotTraced as reason:
            why_not = str(reason)
        course = Course(time.monotonic(), datetime.now(UTC))
        course.logs = {path: size(path) for path in wish.logs}
        course.settles = settles
        course.along = [one for one in along if not one.is_up]
        _begin(manager, wish, unit, course)
        for _ in _looks(manager, wish, most, stop, course, tell):
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
        _observation(wish, course, story, bool(lines), why_not, names_in(wish.unit, unit)),
        *[seen for seen in of_others if seen is not None][:_MOST_ALONG],
    )


def _settles(unit: dict[str, Any]) -> float:
    """For how long a start has to stay good: as long as the run before needed to fail, and what tracing costs."""
    began, ended = (int(unit.get(f"ExecMain{what}Timestamp") or 0) for what in ("Start", "Exit"))
    ran = (ended - began) / 1e6
    if unit.get("Result") in (None, "", "success") or not 0 < ran < _LONGEST_SETTLED:
        return SETTLED  # who ran for minutes does not fail at its start
    return min(max(SETTLED, ran * _SLOWED), _LONGEST_SETTLED)


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


def _begin(manager: Manager, wish: WatchWish, unit: dict[str, Any], course: Course) -> None:
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


def _looks(manager: Manager, wish: WatchWish, most: float, stop: float, course: Course, tell: Tell) -> Iterator[None]:
    """Look again and again, until it is clear what the start came to, for *most* seconds of it, behind *stop* seconds at the most in which
    what runs is stopped."""
    tries: int | None = None
    while True:
        unit = manager.unit(wish.unit)
        if not wish.attach and not course.is_begun(unit):
            processes_of(wish.unit, course, tell)
            if course.seconds > most + stop:
                return
            yield
            time.sleep(_POLL)
            continue
        course.begun_after = course.begun_after or course.seconds
        tries = int(unit.get("NRestarts") or 0) if tries is None else tries
        look(wish.unit, unit, course, tell)
        if wish.attach and not course.ran_at:
            if _is_under_way(unit) or int(unit.get("NRestarts") or 0) > tries:
                course.ran_at = course.seconds
        elif _is_over(unit, course, tries if not wish.attach else None):
            time.sleep(_QUIET)
            look(wish.unit, manager.unit(wish.unit), course, tell)
            if course.outcome == "ended" and course.failed:
                course.outcome = (
                    "failed"  # the next try is under way, and the manager has forgotten what this one came to
                )
            return
        if course.seconds - (0.0 if wish.attach else course.begun_after) > most:
            if wish.attach and not course.ran_at:
                course.outcome = "no-try"
            return
        yield
        time.sleep(_POLL)


def _is_under_way(unit: dict[str, Any]) -> bool:
    return unit.get("ActiveState") == "activating" and unit.get("SubState") != "auto-restart"


def _is_over(unit: dict[str, Any], course: Course, tries: int | None) -> bool:
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


def _ask_of_others(manager: Manager, course: Course) -> None:
    """What became of the services that came along."""
    for one in course.along:
        with contextlib.suppress(NotDone):
            one.unit = manager.unit(one.name)


_REFUSED_LISTENERS = ("EADDRINUSE", "EADDRNOTAVAIL", "EACCES", "EPERM")


def _observation(
    wish: WatchWish, course: Course, story: Story, traced: bool, why_not: str, names: set[str]
) -> Observation:
    good = good_starts.known(wish.unit) if traced else frozenset()
    calls = []
    if traced and course.outcome == "up":
        # What a service that is up was left without is told, and is not kept as what happens in good starts.
        calls = _left_without(story, good, course)
        good_starts.keep(wish.unit, signatures(story) - {signature(one.name, one.error, one.thing) for one in calls})
    hung = course.outcome == "not-up" or (course.outcome == "failed" and course.result == TIMEOUT)
    if traced and course.outcome not in ("up", "no-try"):
        calls = weighed(story, good, course.outcome != "ended", missed(story, names), hung)
    waits: list[ObservedWait] = []
    if hung:
        waits = waits_of(story, course.waits, course.at.timestamp() + course.seconds)
    read = last_read(story) if traced and course.outcome in ("failed", "ended") and course.result != TIMEOUT else ""
    return Observation(
        wish.unit, course.at, round(course.seconds, 3), course.outcome, traced, why_not, _parts(course, story), calls, waits,
        read or None, bool(good),
    )  # fmt: skip


def _left_without(story: Story, good: frozenset[str], course: Course) -> list[ObservedCall]:
    """Where a service that is up could not listen, and whom it calls again and again in vain."""
    again = asked_again(story)
    found = weighed(story, good, False, hung=True)
    deaf = [
        one
        for one in found
        if one.kind == BIND
        and one.error in _REFUSED_LISTENERS
        and not any(_port(one.thing) == _port(port) for port in course.ports)
        and not _took_another(story, one)
    ]
    return deaf + [one for one in found if one.kind == CONNECT and (one.error, one.thing) in again]


def _port(endpoint: str) -> str:
    return endpoint.rpartition(":")[2]


_ANY_OF = range(512, 1024)
"""Ports of which a program that only wants a port of root's tries one after the other (bindresvport(3))."""


def _took_another(story: Story, one: ObservedCall) -> bool:
    """Whether a port that was taken was only the first of several that a process would have been content with."""
    life = story.lives.get(one.process)
    taken = [_port(thing) for kind, thing in life.succeeded_as if kind == BIND] if life is not None else []
    return all(port.isdigit() and int(port) in _ANY_OF for port in (_port(one.thing), *taken[-1:])) and bool(taken)


_TELLING = 0.5
"""Seconds that a stop before the start takes at the least to be told as a part of it."""


def _parts(course: Course, story: Story) -> list[ObservedPart]:
    """What took how long: what the manager prepares, what comes before the program, and the program until it was up."""
    begun = course.at.timestamp()
    stopped = course.begun_after if course.begun_after >= _TELLING else 0.0
    tops = [life for life in story.lives.values() if story.top(life) is life and life.ran_at]
    found = [ObservedPart("until the run before was stopped", round(stopped, 3))] if stopped else []
    if tops:
        prepared = min(t.ran_at for t in tops) - begun - stopped
        found.append(ObservedPart("the manager's preparation", round(max(0.0, prepared), 3)))
        for top in sorted(tops, key=lambda one: one.ran_at)[:8]:
            until = top.end.at if top.end is not None else begun + (course.up_at or course.seconds)
            found.append(ObservedPart(top.program, round(max(0.0, until - top.ran_at), 3)))
    if course.up_at:
        found.append(ObservedPart("until it was up", round(course.up_at - stopped, 3)))
    return found

"""Wording and small readings that several families share."""

from __future__ import annotations

import itertools
from datetime import datetime, timedelta

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import FITS, Evidence
from hollow_chain.causes.standing import NO_TRY_SINCE_BOOT, SIGTERM, failed_last
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Service
from hollow_chain.families.messages import EXITED, FAILED, STARTED, STARTING, STOPPED, STOPPING
from hollow_chain.families.times import ENDED_AT_ONCE

_WITH_ITS_END = timedelta(seconds=0.5)
"""Between the end of a process that the manager stopped and its record of that: it writes it as soon as it has learned of the end."""


def clock(moment: datetime | None) -> str:
    """A moment as it is said in a sentence, in UTC as the facts are."""
    if moment is None:
        return "an unknown time"
    return f"{moment:%Y-%m-%d %H:%M:%S}{'Z' if moment.utcoffset() == timedelta(0) else moment.strftime('%z')}"


def span(seconds: float) -> str:
    """A duration as it is said in a sentence."""
    if seconds < 0:
        return f"-{span(-seconds)}"
    if 0 < seconds < 0.95:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 10:
        return f"{seconds:.1f} s".replace(".0 s", " s")
    if seconds < 120:
        return f"{seconds:.0f} s"
    if seconds < 7200:
        return f"{seconds / 60:.0f} min"
    if seconds < 172800:
        return f"{seconds / 3600:.0f} h"
    return f"{seconds / 86400:.0f} days"


def between(least: float, most: float) -> str:
    """Two durations as it is said in a sentence; one where they do not differ."""
    return span(least) if span(least) == span(most) else f"{span(least)} to {span(most)}"


def manager_word(case: Case, systemd: str, control_manager: str) -> str:
    """The wording that fits the host's family of service managers."""
    return case.family.word(systemd, control_manager)


def started_since_boot(service: Service, boot_at: datetime | None) -> bool:
    """Whether anything tried to start the service in this boot."""
    last = service.last
    if last is None or last.error_number == NO_TRY_SINCE_BOOT:
        return False
    begun = last.started_at or last.up_at or last.ended_at
    if begun is None:
        # A number that says "no error" is of a run; without a run there is none, or one that says so.
        return bool(last.restarts) or failed_last(service) or last.error_number == 0
    return boot_at is None or begun >= boot_at - timedelta(seconds=1)


def stop_was_asked(case: Case) -> bool:
    """Whether the last run was ended from outside: the manager recorded the request, or sent the usual signal."""
    last = case.service.last
    if _stop_recorded(case):
        return True
    return last is not None and last.signal == SIGTERM and not failed_last(case.service)


def run_seconds(service: Service) -> float | None:
    """How long the last run took from its start to its end."""
    last = service.last
    if last is None or last.started_at is None or last.ended_at is None or last.ended_at < last.started_at:
        return None
    return (last.ended_at - last.started_at).total_seconds()


def ended_at_once(case: Case) -> bool:
    """Whether the last run ended by itself, within seconds of its start."""
    ran = run_seconds(case.service)
    in_time = ran is not None and ran < ENDED_AT_ONCE
    return in_time and case.service.kind == "service" and not stop_was_asked(case)


def came_to_nothing(case: Case) -> bool:
    """Whether the last run failed: by the manager's own words, or because it ended by itself at once and left nothing behind, with
    whatever number (many programs, and the scripts around them, end with 0 then)."""
    service = case.service
    if failed_last(service) or case.was_seen_not_to_come_up:
        return True
    works_to_its_end = service.program is not None and service.program.style == "oneshot"
    return service.state == "stopped" and not works_to_its_end and ended_at_once(case)


def tells_of_an_end(event: Event) -> bool:
    """Whether a record of the control-manager family's manager is about the end of a program that had run (its messages 7023 and 7024):
    what the number in it is about is none of the program then."""
    return event.by_manager and "terminated with" in event.text


def ended_by_request(case: Case) -> bool:
    """Whether a run that the manager calls failed only ended the way programs do that do not catch its stop signal."""
    last = case.service.last
    if last is None or last.result not in ("exit-code", "signal", "timeout"):
        return False
    by_signal = last.exit_status == 128 + SIGTERM or last.signal == SIGTERM
    if last.step and not by_signal:
        return False
    return (by_signal or was_up(case.service)) and _stop_recorded(case)


def was_up(service: Service) -> bool:
    """Whether the last run was up before it ended; a status of any kind may then come of the way it was stopped."""
    last = service.last
    return last is not None and last.up_at is not None and last.started_at is not None and last.up_at >= last.started_at


def was_up_before(case: Case, moment: datetime) -> bool:
    """Whether the last run that began before *moment* came up, and did not fail by then: by the recorded starts, or by the records."""
    if any(start.outcome == "up" and start.at < moment for start in case.service.starts):
        return True
    told = [event.code for event in case.events() if event.at < moment and event.code in (STARTED, FAILED)]
    return bool(told) and told[-1] == STARTED


def came_up_after(case: Case, moment: datetime) -> bool:
    """Whether a start after *moment* went well by the manager's records: it came up, and was up until somebody stopped it."""
    told = [e for e in case.events() if e.at > moment and e.code in (STARTED, STARTING, STOPPING, EXITED, FAILED)]
    return any(one.code == STARTED and after.code == STOPPING for one, after in itertools.pairwise(told))


def ended_up(service: Service) -> bool:
    """Whether the last run had come up, and ceased to be up: whatever ended it was no matter of its start."""
    last = service.last
    return (
        was_up(service)
        and last is not None
        and last.up_at is not None
        and last.left_up_at is not None
        and last.left_up_at >= last.up_at
    )


def _stop_recorded(case: Case) -> bool:
    """Whether a stop was asked for after the last start: the one before it is the first half of a restart."""
    told = [event for event in case.last_events() if event.code in (STOPPING, STOPPED, STARTING, STARTED)]
    if not told or told[-1].code in (STARTING, STARTED):
        return False
    # Of what was not up yet the manager tells only that it was stopped: with the end of its process, or, of one that had ended by
    # itself and waited to be started again, later.
    ended = case.service.last.ended_at if case.service.last is not None else None
    stopping = any(event.code == STOPPING for event in told[-2:])
    return stopping or (ended is not None and abs(told[-1].at - ended) < _WITH_ITS_END)


def numbered(case: Case, *numbers: int, bears: str = FITS) -> list[Evidence]:
    """Evidence that the last start ended with one of *numbers*: as the manager reports it, or as a record quotes it."""
    if not case.family.numbers_failures or case.standing.well:
        return []
    last = case.service.last
    if last is not None and last.error_number in numbers:
        at = last.ended_at or last.started_at
        return [case.seen(f"the last start ended with error {last.error_number}", at=at, bears=bears)]
    if last is not None and last.error_number not in (None, 0):
        return []
    return [case.quoted(event, bears) for event in case.last_events() if event.number in numbers][-1:]

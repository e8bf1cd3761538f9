"""How a start got on until it was waited for no longer, against what good starts took."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from hollow_chain.causes.case import Case
from hollow_chain.causes.words import clock, span
from hollow_chain.facts.host import Event
from hollow_chain.families.times import NO_LIMIT, Limit, start_limit


class Needed(NamedTuple):
    """What recorded good starts took, in seconds."""

    quickest: float
    slowest: float
    starts: int


def limit_of(case: Case) -> Limit | None:
    """The start limit of the service, its own before the host's; None where it is not known or there is none."""
    limit = start_limit(case.service, case.host)
    return limit if limit is not None and limit.seconds < NO_LIMIT else None


def needed_by(case: Case) -> Needed | None:
    """What the recorded good starts of the service took; None where none is recorded."""
    took = [start.seconds for start in case.service.starts if start.outcome == "up" and start.seconds > 0]
    return Needed(min(took), max(took), len(took)) if took else None


_BUSY = 0.2
"""Part of the time allowed for which a start that gets on has used a processor, at least."""
_TIGHT = 0.5
"""Part of the time allowed that the slowest good start took, from which on the limit is what is short."""
_SOON = 0.5
"""Part of a start in which one has said its last word that has nothing more to say."""
_OF_ONE_AND_MORE = 1.2
"""Computing time by the clock of one processor, and some for what comes before the first and after the last word."""
_TO_THE_END = 0.75
"""Part of a start after which one that still tells of its steps was getting on."""


def gets_on(case: Case, limit: Limit | None, needed: Needed | None) -> str:
    """How it shows that the start was getting on when its limit ended it; empty where it does not: more time would then be spent on
    the same wait."""
    last, progress = case.service.last, case.service.progress
    if limit is None or last is None:
        return ""
    if needed is not None and needed.slowest >= _TIGHT * limit.seconds:
        return f"its slowest good start took {span(needed.slowest)} of the {span(limit.seconds)} allowed"
    if last.cpu_seconds is not None and last.cpu_seconds >= _BUSY * limit.seconds and not went_quiet(case):
        return f"it had used {span(last.cpu_seconds)} of computing time, so it was at work"
    if progress is not None and progress.moves:
        return "it counted on between two looks"
    ended = given_up(case)
    if last.started_at is None or ended is None:
        return ""
    late = last.started_at + _TO_THE_END * (ended - last.started_at)
    told = [event for event in spoken_by(case, ended) if last.started_at <= event.at]
    if len({event.text for event in told}) > 2 and told[-1].at >= late:
        return f"it was still telling of its steps at {clock(told[-1].at)}"
    return ""


def given_up(case: Case) -> datetime | None:
    """When it was waited for no longer: what it says when it is told to stop is no step of its start."""
    last = case.service.last
    began = last.started_at if last is not None else None
    told = (
        e.at for e in case.last_events() if e.by_manager and "timed out" in e.text and (began is None or e.at >= began)
    )
    return next(told, None) or ((last.ended_at or case.host.read_at) if last is not None else None)


def spoken_by(case: Case, until: datetime | None) -> list[Event]:
    """All that the program itself said in its last start, what it says in good starts among it."""
    return [event for event in case.last_events() if not event.by_manager and (until is None or event.at <= until)]


def went_quiet(case: Case) -> bool:
    """Whether it said its last word in the first half of the start, and used no more of a processor in all than it can have used by then:
    it was done, or waited, for the rest of the time."""
    last = case.service.last
    ended = given_up(case)
    if last is None or last.started_at is None or ended is None or last.cpu_seconds is None:
        return False
    told = [event.at for event in spoken_by(case, ended) if last.started_at <= event.at]
    spoke = (max(told) - last.started_at).total_seconds() if told else 0.0
    return (
        0.0 < spoke <= _SOON * (ended - last.started_at).total_seconds()
        and last.cpu_seconds <= spoke * _OF_ONE_AND_MORE
    )

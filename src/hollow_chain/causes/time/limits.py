"""Start limits: seconds needed against seconds allowed, and limits that are not what was meant."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.causes.acts import limit as set_limit
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import AFTER_REBOOT, FITS, HINT, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, Shown, When
from hollow_chain.causes.process.telling import ending
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import NO_TRY_SINCE_BOOT, hangs, overdue
from hollow_chain.causes.time.awaited import awaited
from hollow_chain.causes.time.pace import Needed, gets_on, limit_of, needed_by
from hollow_chain.causes.time.stuck import stuck_so_far
from hollow_chain.causes.two_looks import two_looks
from hollow_chain.causes.words import between, ended_up, span
from hollow_chain.families import Family
from hollow_chain.families.times import Limit, start_limit
from hollow_chain.lazy import pattern
from hollow_chain.wording.last_words import telling

TIMED_OUT = 1053
"""Control-manager error number: the service did not report in time."""
_MARGIN = 1.5
"""A limit is proposed half as long again as the slowest good start on record: room for a start in worse company than any of these."""
_USUAL = (
    10,
    15,
    20,
    30,
    40,
    45,
    50,
    60,
    75,
    90,
    100,
    120,
    150,
    180,
    200,
    240,
    300,
    360,
    400,
    450,
    500,
    600,
    900,
    1200,
    1800,
    3600,
)
"""Limits in seconds that people set: a proposal is one of them, and so is what was meant by a mistyped one."""


def proposed(seconds: float) -> int:
    """A limit that leaves half as much again as the slowest start needed: the next usual one."""
    wanted = seconds * _MARGIN
    return next((usual for usual in _USUAL if usual >= wanted), int(wanted) + 1)


def timed_out(case: Case) -> bool:
    """Whether the last start was ended by its limit, or has outlasted it."""
    service, last = case.service, case.service.last
    if last is None or case.standing.well or (last.result == "timeout" and ended_up(service)):
        return False
    over = overdue(service, case.host) if service.state == "starting" else None
    told = last.error_number in (None, 0) and any(e.number == TIMED_OUT for e in case.last_events())
    return last.result == "timeout" or last.error_number == TIMED_OUT or over is not None or told


@cause(
    "start-timeout",
    Boot.ANEW,
    states=("running", *NOT_UP),
    shown=Shown(1053, "timeout", "{name} did not answer within its start limit"),
    when=When.UNWELL,
)
def start_timeout(case: Case) -> Iterator[Finding]:
    """It was still busy with starting when its limit ran out.

    Looks at: the manager's result, the limit, recorded starts.
    Convinced by: an end by the time limit; a start that has outlasted it.
    Against: an error of its own before the limit; a limit that is mistyped (then that is the cause).
    Mend: find out what it waits for; where it was getting on, a limit by its slowest good start.
    """
    if hangs(case.service, case.host) == "still" and case.service.state == "starting":
        yield _hanging(case)
        return
    if not timed_out(case):
        yield from stuck_so_far(case)
        return
    service, last = case.service, case.service.last
    limit, needed = limit_of(case), needed_by(case)
    allowed = f"{span(limit.seconds)} allowed" if limit else "its limit"
    slow = f"; its slowest good start took {span(needed.slowest)}" if needed else ""
    how = (last.result if last and last.result not in ("", "success", "exit-code") else "") or ending(service)
    waits = awaited(case)
    yield Finding(
        says=f"{service.name} was still starting when its time limit ran out ({allowed}{slow}){f': {waits.says}' if waits else ''}.",
        evidence=(
            *(waits.evidence if waits else ()),
            case.seen(f"last start ended with {how}", MANAGER, last.ended_at if last else None, SAID),
            case.seen(f"start limit: {_said(limit) if limit else _why_unsaid(case)}"),
            *_needs_more(case, limit, needed),
            *(
                (case.seen(getting_on, bears=HINT),)
                if (getting_on := gets_on(case, limit, needed)) and needed is None
                else ()
            ),
            *(case.quoted(event) for event in telling(case.last_events())),
        ),
        mends=(*_longer(case, limit, needed), Mend(waits.does, seeks=True) if waits else _look_why(case)),
        explains=("exits-with-error", "killed", "crash-loop"),
        residual=True,
    )


def _hanging(case: Case) -> Finding:
    """A start that is under way and does not come along."""
    name, progress = case.node.name, case.service.progress
    assert progress is not None
    process = case.service.program.process if case.service.program else 0
    return Finding(
        says=f"{name} hangs in its start: it reports no progress, and its process{f' {process}' if process else ''} is there.",
        evidence=(
            two_looks(case, progress),
            *(case.quoted(event) for event in telling(case.last_events())),
        ),
        mends=(_look_why(case),),
        residual=True,
    )


def _said(limit: Limit) -> str:
    typed = f", typed as {limit.typed!r}" if limit.typed else ""
    return f"{span(limit.seconds)}{typed}{', one limit for all services' if limit.for_all else ''}"


def _why_unsaid(case: Case) -> str:
    return "not known" if start_limit(case.service, case.host) is None else "none by now"


def _needs_more(case: Case, limit: Limit | None, needed: Needed | None) -> Iterator[Evidence]:
    if needed is None:
        return
    text = f"{needed.starts} good starts on record took {between(needed.quickest, needed.slowest)}"
    short = limit is not None and needed.slowest > 0.8 * limit.seconds
    yield case.seen(text, "recorded starts", bears=FITS if short else HINT)


def _look_why(case: Case) -> Mend:
    return Mend(
        f"Find out what {case.service.name} waits for while it starts; its log around the start says it.", seeks=True
    )


def longer_limit(limit: Limit | None, needed: Needed | None) -> int | None:
    """Seconds of a limit with a reason: half as much again as the slowest good start; None where that is no more than now."""
    if needed is None:
        return None
    new = proposed(needed.slowest)
    return new if limit is None or new > limit.seconds else None


def sum_of(needed: Needed, new: float) -> str:
    """The sum behind a limit, in words."""
    slowest = round(needed.slowest, 2)
    exact = round(slowest * _MARGIN, 2)
    rounded = "" if exact == new else f", rounded up to {new:g} s"
    return f"its slowest good start took {slowest:g} s, and half as much again is {exact:g} s{rounded}"


def _longer(case: Case, limit: Limit | None, needed: Needed | None) -> Iterator[Mend]:
    """A longer limit where that has a reason; else what to measure first."""
    if not gets_on(case, limit, needed):
        return
    new = longer_limit(limit, needed)
    if needed is None:
        does = f"Measure how long a start of {case.service.name} takes without a limit: no good one is on record to set one by."
        yield Mend(does, seeks=True)
    elif new is not None and limit is not None and limit.for_all:
        reason = sum_of(needed, new)
        yield Mend(
            f"Set the one start limit of {case.node.host} to {new} s ({new * 1000} ms, base 10): {reason}. "
            f"It holds for all {len(case.host.services)} services there; the others only wait longer when they hang.",
            AFTER_REBOOT,
            (set_limit("", new),),
            because=f"{reason[:1].upper()}{reason[1:]}.",
        )
    elif new is not None:
        reason = sum_of(needed, new)
        yield Mend(
            f"Give {case.service.name} a start limit of {new} s: {reason}.",
            "after a reload, at the next start",
            (set_limit(case.node.name, new),),
            because=f"{reason[:1].upper()}{reason[1:]}.",
        )


_FAR_SHORT = 2
"""So many times shorter than the quickest good start a limit has to be before it is taken for mistyped: else it is only too short."""


class Slip(NamedTuple):
    """A way to mistype a limit: what was meant instead, and how it came about."""

    meant: float
    how: str


_TYPED = pattern(r"^\s*(?P<number>0[xX][0-9A-Fa-f]+|\d+(?:\.\d+)?)\s*(?P<unit>[A-Za-z]*)\s*$")
_MILLI = ("ms", "msec", "us", "usec")


def slips(limit: Limit, family: Family) -> list[Slip]:
    """What may have been meant by *limit*, by arithmetic on the number as it was typed.

    One family takes a bare number for seconds (systemd.time(7)), the other for milliseconds in a chosen base.
    """
    found = _TYPED.match(limit.typed)
    unit = found["unit"].lower() if found else ""
    if family.limit_typed_in_milliseconds:
        milliseconds = round(limit.seconds * 1000)
        of_base = f"{milliseconds:x}"
        made = [Slip(milliseconds, f"{milliseconds} ms were set where {milliseconds} s were meant")]
        if milliseconds < 60:
            made.append(Slip(milliseconds * 60, f"{milliseconds} ms were set where {milliseconds} min were meant"))
        if of_base.isdigit() and milliseconds > 9 and int(of_base) % 1000 == 0:
            how = f"{of_base} was typed in base 16, which is {milliseconds} ms; {of_base} ms in base 10 were meant"
            made.append(Slip(int(of_base) / 1000, how))
        if of_base.isdigit() and milliseconds < 1000:
            how = f"{of_base} was typed in base 16 and as milliseconds, which is {milliseconds} ms; {of_base} s were meant"
            made.append(Slip(int(of_base), how))
        return made
    number = float(found["number"]) if found and not found["number"].lower().startswith("0x") else None
    if number is not None and unit in _MILLI:
        return [Slip(number, f"{limit.typed} was typed where {number:g} s were meant")]
    if unit not in ("", "s", "sec", "second", "seconds"):
        return []
    seconds = number if number is not None else limit.seconds
    # Who wrote seconds behind the number meant seconds.
    made = [] if unit else [Slip(seconds * 60, f"{seconds:g} was counted in seconds where minutes were meant")]
    if seconds < 1:
        made.append(Slip(seconds * 1000, f"{seconds * 1000:g} ms were set where {seconds * 1000:g} s were meant"))
    if seconds >= 5000:
        made.append(Slip(seconds / 1000, f"{seconds:g} was counted in seconds where milliseconds were meant"))
    return made


@cause("limit-unit-slip", Boot.ANEW, states=("running", *NOT_UP))
def limit_unit_slip(case: Case) -> Iterator[Finding]:
    """The limit itself looks mistyped: base 16 for base 10, ms for s, s for min.

    Looks at: the limit as it was typed, recorded good starts, the failed or hanging try.
    Convinced by: a limit below every good start on record, or below a second, which by a slip of unit or base stands for
    one that covers them all; a start that hangs for longer than the limit that was meant.
    Against: a limit that some good start kept; arithmetic that does not come out at a usual limit.
    Mend: type the limit anew; it takes effect with the next start, the one limit of a host with the next reboot.
    """
    limit = limit_of(case)
    if limit is None or case.service.last is None:
        return
    needed = needed_by(case)
    short = timed_out(case) or _cannot_have_come_up(case, limit)
    hanging = _starting_for(case)
    for slip in slips(limit, case.family):
        if short and slip.meant > limit.seconds and _too_short(limit, slip, needed):
            yield _slipped(case, limit, slip, needed, "shorter than any start needs")
            return
        covers = needed is None or slip.meant >= needed.slowest
        if slip.meant < limit.seconds and hanging > slip.meant and covers and _is_usual(slip.meant):
            yield _slipped(
                case, limit, slip, needed, f"so long that a start which hangs (by now {span(hanging)}) is not ended"
            )
            return


def _cannot_have_come_up(case: Case, limit: Limit) -> bool:
    """Whether the boot should have started it, nothing is on record of that, and the one limit for all lets no start come to an end: not
    every manager keeps the number of a start that it gave up."""
    service = case.service
    wanted = service.state == "stopped" and service.startup in ("automatic", "delayed") and not case.standing.well
    untold = service.last is not None and service.last.error_number == NO_TRY_SINCE_BOOT
    return wanted and untold and limit.for_all and limit.seconds < 1


def _too_short(limit: Limit, slip: Slip, needed: Needed | None) -> bool:
    if needed is not None:
        return limit.seconds * _FAR_SHORT < needed.quickest and slip.meant >= needed.slowest and _is_usual(slip.meant)
    return limit.seconds < 1 and _is_usual(slip.meant)


def _is_usual(seconds: float) -> bool:
    return any(abs(seconds - usual) < 0.001 for usual in (1, 2, 5, *_USUAL))


def _starting_for(case: Case) -> float:
    """Seconds for which a start has been under way; 0 where none is."""
    last, read_at = case.service.last, case.host.read_at
    if case.service.state != "starting" or last is None or last.started_at is None or read_at is None:
        return 0.0
    return (read_at - last.started_at).total_seconds()


def _slipped(case: Case, limit: Limit, slip: Slip, needed: Needed | None, effect: str) -> Finding:
    name = f"the one start limit of {case.node.host}" if limit.for_all else f"the start limit of {case.service.name}"
    evidence = [
        case.seen(f"start limit: {_said(limit)}", bears=FITS),
        case.seen(f"{slip.how}: {span(slip.meant)} instead of {span(limit.seconds)}", "arithmetic", bears=FITS),
    ]
    if needed is not None:
        text = f"{needed.starts} good starts on record took {between(needed.quickest, needed.slowest)}"
        evidence.append(case.seen(text, "recorded starts", bears=FITS))
    if timed_out(case):
        last = case.service.last
        evidence.append(case.seen("the start was ended by this limit", MANAGER, last.ended_at if last else None, FITS))
    new = max(slip.meant, proposed(needed.slowest) if needed and slip.meant > limit.seconds else 0.0)
    if limit.for_all:
        does = (
            f"Set {name} to {new * 1000:.0f} ms, in base 10. It holds for all {len(case.host.services)} services there."
        )
        mends = (Mend(does, AFTER_REBOOT, (set_limit("", new),)),)
    else:
        does = f"Set {name} to {new:g} s, with its unit."
        mends = (Mend(does, "after a reload, at the next start", (set_limit(case.node.name, new),)),)
    return Finding(
        says=f"{name[0].upper()}{name[1:]} is {span(limit.seconds)}, {effect}; it looks mistyped: {slip.how}.",
        evidence=tuple(evidence),
        mends=mends,
        explains=("start-timeout", "killed", "crash-loop", "exits-with-error", "start-rate-limited", "never-started"),
    )

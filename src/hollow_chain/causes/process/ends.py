"""Process: the program was started, and did not stay. Mostly symptoms, named when no other cause explains them."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes import looked, meanings
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, Shown, When
from hollow_chain.causes.process.telling import FAILED_STATES, after_how_long, ending, heed, last_words, own_last_words
from hollow_chain.causes.reached import unanswered
from hollow_chain.causes.rule import cause
from hollow_chain.causes.standing import GAVE_UP_OVER, Standing, failed_last, hangs, skipped
from hollow_chain.causes.words import clock, run_seconds, stop_was_asked
from hollow_chain.facts.service import is_deserted
from hollow_chain.families.times import ENDED_AT_ONCE
from hollow_chain.wording.forms import says
from hollow_chain.wording.last_words import lines_of_trouble, telling

_CALM_LEVELS = ("info", "debug")


def _in_its_words(case: Case, words: tuple[Evidence, ...]) -> str:
    """The last words, as the reason, or as what they are where the program itself does not call them a trouble."""
    if not words:
        return "; its log says nothing about it"
    last = telling(case.told_events())[-1]
    calm = last.level in _CALM_LEVELS and not says(last.text, *looked.TELLING)
    return f"; the last that it says is {words[-1].fact}" if calm else f": {words[-1].fact}"


@cause(
    "exits-with-error",
    Boot.STAYS,
    states=FAILED_STATES,
    when=When.FAILED,
    shown=Shown(1067, "exit-code", "{name} ended unexpectedly", 3),
)
def exits_with_error(case: Case) -> Iterator[Finding]:
    """It ends with a number or an error, and no other cause explains it.

    Looks at: exit status, error number, last words.
    Convinced by: a status that is not 0 and that the manager calls a failure.
    Against: any cause that explains the same end; then this one is only its symptom.
    Mend: what its log lines say, quoted, and where the rest of them is.
    """
    service = case.service
    last = service.last
    if last is None or not failed_last(service) or case.standing.well:
        return
    if last.result == "success" and last.exit_status in (None, 0):
        return
    if last.result in ("timeout", "oom-kill", "watchdog", "signal", "core-dump", "protocol"):
        return
    if (
        last.exit_status in (None, 0)
        and last.error_number in (None, 0)
        and last.result not in ("exit-code", "resources")
    ):
        return
    words = last_words(case)
    alone = unanswered(case)
    if alone is not None:
        words = (*words, alone.evidence)
    what = f": it {alone.says}" if alone else _in_its_words(case, words)
    yield Finding(
        says=f"{service.name} ends with {ending(service)}{_meant(case)}{after_how_long(service)}{what}.",
        evidence=(
            case.seen(
                f"last run ended with {ending(service)}, result {last.result or 'failed'}",
                MANAGER,
                last.ended_at,
                FITS,
            ),
            *words,
        ),
        mends=(Mend(alone.does if alone else heed(case), seeks=True),),
        residual=True,
        # Given up after several tries, with words of its own: then these are the reason, and the tries its symptom.
        explains=("crash-loop",) if case.gave_up_speaking else (),
    )


def _meant(case: Case) -> str:
    """What the status of the last run means, or the error number of the last start where that says nothing, if the family numbers its
    failures."""
    last = case.service.last
    if last is None or not case.family.numbers_failures:
        return ""
    status = meanings.number_of_status(last.exit_status) if last.exit_status else None
    number = status or (last.error_number if last.exit_status in (None, 0) else 0)
    entry = meanings.control(number) if number else None
    return f" ({entry.within})" if entry is not None and not entry.of_others else ""


def _deserted(case: Case) -> Finding:
    """It counts as up, and nothing of it runs."""
    service = case.service
    words = last_words(case)
    made_from = service.definition.made_from if service.definition else ""
    starts = f"its start, {made_from}," if made_from else "its start"
    up = service.last.up_at if service.last else None
    counts = "up" if service.state == "running" else service.state
    number = service.program.process if service.program else 0
    left = f": process {number} is gone" if number else f": {starts} was to leave one behind"
    return Finding(
        says=f"{service.name} counts as {counts}{f' since {clock(up)}' if up else ''}, but no process of it is left{left}"
        + (f"; {words[-1].fact}." if words else "."),
        evidence=(
            case.seen(
                f"state of {service.name}: {service.detail or service.state}: {counts}, and none of its processes is left",
                MANAGER,
                bears=SAID,
            ),
            *words,
        ),
        mends=(
            Mend(
                f"Run the program of {service.name} as its start does, and read what it says; then restart {service.name}.",
                seeks=True,
            ),
        ),
        residual=True,
        explains=("start-timeout", "stopped"),
    )


@cause("exits-at-once", Boot.STAYS, states=FAILED_STATES)
def exits_at_once(case: Case) -> Iterator[Finding]:
    """It ends at once without an error, so nothing is left running.

    Looks at: how long the last run took, its status, whether a stop was asked for.
    Convinced by: a clean end within seconds of the start that nobody asked for; a program that ended before it
    reported that it was up.
    Against: a service that is meant to end (oneshot); a requested stop.
    Mend: make the program stay in the foreground, or declare how it runs.
    """
    service = case.service
    last = service.last
    if is_deserted(service) or hangs(service, case.host) == "gone":
        yield _deserted(case)
        return
    if last is None or service.kind != "service" or (service.program and service.program.style == "oneshot"):
        return
    if skipped(service):
        return  # it has been run before, and was not since
    protocol = last.result == "protocol"
    ran = run_seconds(service)
    clean = not failed_last(service) and last.exit_status in (None, 0) and service.state != "running"
    if not protocol and not (clean and ran is not None and ran < ENDED_AT_ONCE and not stop_was_asked(case)):
        return
    style = service.program.style if service.program else ""
    words = last_words(case)
    if protocol and (own := own_last_words(case)):
        yield Finding(
            says=f"{service.name} ends{after_how_long(service)} before it reported that it was up: {own[-1].fact}.",
            evidence=(case.seen(f"last run ended with {ending(service)}", MANAGER, last.ended_at, FITS), *words),
            mends=(Mend(heed(case), seeks=True),),
            residual=True,
            explains=("crash-loop", "exits-with-error"),
        )
        return
    why = f"before it reported that it was up (start type {style})" if protocol else "so nothing is left running"
    troubles = lines_of_trouble(case.told_events())
    though = f", though it says {case.quoted(troubles[-1]).fact}" if troubles else ""
    yield Finding(
        says=f"{service.name} ends{after_how_long(service)} without an error, {why}{though}.",
        evidence=(
            case.seen(
                f"last run ended with {ending(service)}{after_how_long(service)}",
                MANAGER,
                last.ended_at,
                FITS if words else SAID,
            ),
            *words,
        ),
        mends=(
            Mend(heed(case), seeks=True)
            if troubles
            else Mend(
                f"Make the program of {service.name} stay in the foreground, or declare a start type that fits it.",
                AFTER_RELOAD,
            ),
        ),
        residual=True,
        explains=("crash-loop",),
    )


def _triggers_a_failed_one(case: Case) -> bool:
    return any(s.state == "failed" and any(t.name == case.node.name for t in s.triggers) for s in case.host.services)


@cause("unexplained", Boot.STAYS, last_resort=True, states=FAILED_STATES, when=When.DOWN)
def unexplained(case: Case) -> Iterator[Finding]:
    """It is not well, and no fact that was read says why. Named so that it is not passed over.

    Looks at: the state.
    Convinced by: a service that is not well.
    Against: every other cause.
    Mend: none; where to look next is told.
    """
    service = case.service
    if service.last is not None and service.last.result in GAVE_UP_OVER and _triggers_a_failed_one(case):
        return  # it ended because what it starts failed again and again: that one tells why
    untold = case.asked and service.startup == "unknown" and not service.template
    if case.standing in (Standing.UP, Standing.NOT_YET):
        return
    if case.standing is Standing.IDLE and not failed_last(service) and not untold:
        return
    yield Finding(
        says=f"{service.name} is {service.state}, and nothing that was read says why.",
        evidence=(
            case.seen(f"state of {service.name}: {service.detail or service.state}, {ending(service)}"),
            *last_words(case),
        ),
        mends=(Mend(f"Start {service.name} once more and read its log at that moment."),),
        residual=True,
    )

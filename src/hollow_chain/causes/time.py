"""Time: limits that ran out, starts that come too often."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes import lines
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.process.ends import ending
from hollow_chain.causes.rule import NOT_UP, Finding, Mend, cause
from hollow_chain.causes.standing import Standing, overdue
from hollow_chain.causes.words import span

_TIMED_OUT = 1053
"""Control-manager error number: the service did not report in time."""


@cause("start-timeout", states=("running", *NOT_UP))
def start_timeout(case: Case) -> Iterator[Finding]:
    """It was still busy with starting when its limit ran out.

    Looks at: the manager's result, the limit, recorded starts.
    Convinced by: an end by the time limit; a start that has outlasted it.
    Against: an error of its own before the limit.
    Mend: a longer limit, with a reason; cure the slowness.
    """
    service = case.service
    last = service.last
    if last is None or case.standing.well:
        return
    over = overdue(service, case.host) if service.state == "starting" else None
    if last.result != "timeout" and last.error_number != _TIMED_OUT and over is None:
        return
    limit = service.limits.start_seconds if service.limits else None
    if limit is None and case.host.limits:
        limit = case.host.limits.start_seconds
    slowest = max((start.seconds for start in service.starts if start.outcome == "up"), default=None)
    allowed = f"{span(limit)} allowed" if limit is not None and limit >= 0 else "its limit"
    needed = f"; its slowest good start took {span(slowest)}" if slowest is not None else ""
    yield Finding(
        says=f"{service.name} was still starting when its time limit ran out ({allowed}{needed}).",
        evidence=(
            case.seen(f"last start ended with {last.result or ending(service)}", MANAGER, last.ended_at),
            case.seen(f"start limit: {span(limit) if limit is not None else 'not known'}"),
            *(case.quoted(event) for event in lines.telling(case.last_events())),
        ),
        mends=(
            Mend(f"Find out what {service.name} waits for while it starts; its log around the start says it."),
            Mend(
                f"If it is only slow, give {service.name} a longer start limit.",
                "after a reload and a restart",
            ),
        ),
        sure=0.88,
        explains=("exits-with-error", "killed", "crash-loop"),
        residual=True,
    )


@cause("start-rate-limited", states=("failed", "stopped"))
def start_rate_limited(case: Case) -> Iterator[Finding]:
    """Nothing else is wrong: it was started too often in a short time and is barred.

    Looks at: the manager's result, the rate limit.
    Convinced by: the manager's result ``start-limit-hit`` and a last run without error.
    Against: a last run with an error: then the reason of that is the cause, and the bar its consequence.
    Mend: clear the bar, start once.
    """
    service = case.service
    last = service.last
    if last is None or last.result != "start-limit-hit":
        return
    bad_end = last.exit_status not in (None, 0) or last.signal not in (None, 15)
    limits = service.limits
    rate = (
        f"{limits.rate_count} starts in {span(limits.rate_seconds)}"
        if limits and limits.rate_seconds
        else "its rate limit"
    )
    yield Finding(
        says=f"{service.name} was started too often in a short time ({rate}) and is barred from starting.",
        evidence=(
            case.seen("result start-limit-hit", MANAGER, last.ended_at),
            *(case.quoted(event) for event in lines.telling(case.last_events())),
        ),
        mends=(Mend(f"Clear the bar of {service.name} (reset its failed state), then start it once."),),
        sure=0.55 if bad_end else 0.85,
        residual=True,
        explains=("stopped", "exits-at-once") if not bad_end else (),
    )


@cause("crash-loop", states=("running", "starting", "failed"))
def crash_loop(case: Case) -> Iterator[Finding]:
    """It starts, dies and is restarted, again and again. A symptom where the reason is known.

    Looks at: the number of restarts by the manager, how long the present run has lasted.
    Convinced by: several restarts, the last one just now, although it may look as if it were up.
    Against: a long run since the last restart.
    Mend: act on the reason of its ends.
    """
    service = case.service
    last = service.last
    enough = 1 if case.standing is Standing.UNSTABLE else 2
    if last is None or last.restarts < enough or (case.standing is not Standing.UNSTABLE and service.state != "failed"):
        return
    times = "once" if last.restarts == 1 else f"{last.restarts} times"
    limits = service.limits
    pause = f", {span(limits.restart_seconds)} apart" if limits and limits.restart_seconds else ""
    yield Finding(
        says=f"{service.name} keeps ending and has been restarted {times}{pause}; its last end: {ending(service)}.",
        evidence=(
            case.seen(f"{last.restarts} restarts by the manager; state {service.detail or service.state}"),
            *(case.quoted(event) for event in lines.telling(case.events())),
        ),
        mends=(Mend(f"Act on the reason that the log of {service.name} gives; then start it once."),),
        sure=0.6,
        residual=True,
        explains=("stopped", "start-rate-limited"),
    )

"""Starts that come too often: barred, or again and again."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from hollow_chain.causes.acts import start
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import FITS, PROOF, SAID, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.process.telling import ending, heed, own_last_words
from hollow_chain.causes.rule import cause
from hollow_chain.causes.standing import Standing, between_restarts
from hollow_chain.causes.words import clock, span
from hollow_chain.facts.service import Service
from hollow_chain.lazy import pattern
from hollow_chain.wording.last_words import telling


@cause("start-rate-limited", Boot.OVER, states=("failed", "stopped"))
def start_rate_limited(case: Case) -> Iterator[Finding]:
    """Nothing else is wrong: it was started too often in a short time and is barred.

    Looks at: the manager's result, the rate limit.
    Convinced by: the manager's result ``start-limit-hit`` and a last run without error.
    Against: a last run with an error: then the reason of that is the cause, and the bar its consequence.
    Mend: reset its failed state, start once.
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
            case.seen("result start-limit-hit", MANAGER, last.ended_at, SAID if bad_end else PROOF),
            *(case.quoted(event) for event in telling(case.last_events())),
        ),
        mends=(
            Mend(
                f"Reset the failed state of {service.name}, then start it once.",
                acts=(start(service.name),),
            ),
        ),
        residual=True,
        explains=("stopped", "exits-at-once") if not bad_end else (),
    )


@cause("retry-pending", Boot.OVER, states=("stopped", "failed", "starting"), when=When.FAILED)
def retry_pending(case: Case) -> Iterator[Finding]:
    """It failed, and the manager is about to start it again by itself. Not a cause: it says when.

    Looks at: what the manager does after a failure, when it failed.
    Convinced by: a next try that lies ahead.
    Against: a moment that has passed.
    Mend: none; the reason of its end is the cause.
    """
    service, now = case.service, case.host.read_at
    ended = service.last.ended_at if service.last is not None else None
    after = _tries_again_after(service)
    if ended is None or now is None or after is None or ended + timedelta(seconds=after) <= now:
        return
    due = ended + timedelta(seconds=after)
    yield Finding(
        says=f"{service.name} is started again by the manager at {clock(due)}, in {span((due - now).total_seconds())}.",
        evidence=(
            case.seen(
                f"ended at {clock(ended)}; after a failure the manager waits {span(after)}, and starts it again",
                MANAGER,
            ),
        ),
        note=True,
    )


_WAITS = pattern(r"restart(?: after (\d{1,9}(?:\.\d+)?) s)?$")
"""An action after a failure, as the facts have it (:attr:`Service.failure_actions`)."""


def _tries_again_after(service: Service) -> float | None:
    """How many seconds after a failure the manager starts it again; None where it does not, or does not wait."""
    if between_restarts(service) and service.limits is not None:
        return service.limits.restart_seconds
    found = _WAITS.match(service.failure_actions[0]) if service.failure_actions else None
    return float(found[1] or 0) if found and service.state == "stopped" else None


@cause("crash-loop", Boot.STAYS, states=("running", "starting", "failed"))
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
    ends = "keeps ending and has been restarted"
    times = f"{ends} {last.restarts} times" if last.restarts > 1 else "ended, and has been restarted once"
    limits = service.limits
    pause = f", {span(limits.restart_seconds)} apart" if limits and limits.restart_seconds else ""
    words = own_last_words(case)
    says = f", and the last that it says is {words[-1].fact}" if words else ""
    yield Finding(
        says=f"{service.name} {times}{pause if last.restarts > 1 else ''}; its last end: {ending(service)}{says}.",
        evidence=(
            case.seen(
                f"{last.restarts} restarts by the manager; state {service.detail or service.state}",
                bears=FITS,  # that it is so is sure; that this were the reason is not
            ),
            *(case.quoted(event) for event in telling(case.events())),
        ),
        mends=(Mend(heed(case), seeks=True),),
        residual=True,
        explains=("stopped", "start-rate-limited", "exits-with-error")
        if last.restarts > 1 and not case.gave_up_speaking
        else ("stopped", "start-rate-limited"),
    )

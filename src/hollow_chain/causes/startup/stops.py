"""Stops and pauses: the service is whole, and somebody or something has ended or halted it."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.acts import resume, start
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import FITS, HINT, PROOF, SAID, TELLS, Finding, Mend
from hollow_chain.causes.nature import Boot
from hollow_chain.causes.rule import cause
from hollow_chain.causes.standing import (
    Standing,
    delayed_left,
    failed_last,
    hangs,
    skipped,
)
from hollow_chain.causes.startup.last_end import end_of, last_records, stopped_with, was_bound, went_down_with
from hollow_chain.causes.two_looks import two_looks
from hollow_chain.causes.words import (
    clock,
    ended_at_once,
    ended_by_request,
    run_seconds,
    span,
    started_since_boot,
    stop_was_asked,
    was_up,
)


@cause("stopped", Boot.OVER, lacks_only_a_start=True, comes_along=True, states=("stopped", "failed", "stopping"))
def stopped(case: Case) -> Iterator[Finding]:
    """It ran in this boot, ended cleanly, and nothing is wrong with it.

    Looks at: startup type, result of the last run, records of a requested stop, how long it ran.
    Convinced by: a recorded request to stop it, or a clean end after a real run.
    Against: an end with an error, an end by itself within seconds of its start, a condition that does not hold.
    Mend: start it.
    """
    if case.service.template or case.service.kind == "device":
        return
    service = case.service
    if service.startup in ("disabled", "event") or (failed_last(service) and not ended_by_request(case)):
        return
    if was_bound(case):
        return
    if skipped(service) or (service.state == "stopped" and service.triggers and case.standing is Standing.NOT_YET):
        return
    if service.state == "stopping":
        if hangs(service, case.host) == "still":
            yield _hangs_in_its_stop(case)
            return
        state = f"state of {service.name}: {service.detail or service.state}"
        yield Finding(
            says=f"{service.name} is being stopped at this moment.",
            # Without a request, it is on its way down for a reason that is not told yet.
            evidence=(case.seen(state, bears=FITS if stop_was_asked(case) else HINT),),
            mends=(Mend(f"Wait for its end, then start {service.name}.", seeks=True),),
            residual=True,
        )
        return
    if not started_since_boot(service, case.host.boot_at):
        yield from _automatic_but_stopped(case)
        return
    if service.startup != "manual":
        yield from _ended_cleanly(case)


def _hangs_in_its_stop(case: Case) -> Finding:
    name, progress = case.node.name, case.service.progress
    assert progress is not None
    process = case.service.program.process if case.service.program else 0
    which = f"process {process}" if process else "its process"
    return Finding(
        says=f"{name} hangs in its stop: it reports no progress, and {which} is there.",
        evidence=(two_looks(case, progress),),
        mends=(Mend(f"See what {which} waits for; end it, then start {name}.", seeks=True),),
        residual=True,
    )


@cause("paused", Boot.OVER, states=("paused",))
def paused(case: Case) -> Iterator[Finding]:
    """Somebody or something paused it.

    Looks at: its state, and whether its main process is stopped.
    Convinced by: the manager calling it paused or frozen; a main process that a signal has stopped.
    Against: nothing.
    Mend: continue it.
    """
    name = case.node.name
    yield Finding(
        says=f"{name} was paused and not continued: it does nothing until then.",
        evidence=(case.seen(f"state of {name}: {case.service.detail or case.service.state}", bears=PROOF),),
        mends=(Mend(f"Continue {name}.", acts=(resume(name),)),),
    )


def _ended_cleanly(case: Case) -> Iterator[Finding]:
    service = case.service
    if ended_at_once(case):
        return
    asked = stop_was_asked(case)
    ran, ended = run_seconds(service), end_of(service)
    result = (service.last.result if service.last else "") or "success"
    by = "it was stopped on request" if asked else "it ended cleanly"
    by += "" if was_up(service) or not asked else ", before it was up,"
    if service.stops_unneeded and not _is_needed(case):
        yield _not_needed(case)
        return
    yield Finding(
        says=f"{service.name} is stopped: {by} at {clock(ended)}, and has not been started again.",
        evidence=(
            case.seen(
                f"{service.name} ended with result {result}" + (f" after {span(ran)}" if ran is not None else ""),
                MANAGER,
                ended,
                SAID if asked else FITS,
            ),
            case.seen(f"{service.name} had been up, and no error of its run is recorded", bears=HINT)
            if was_up(service)
            else case.seen(f"{service.name} was not up yet: its start was called off", bears=TELLS),
            *([along] if (along := stopped_with(case)) else []),
            *last_records(case),
        ),
        mends=(Mend(f"Start {service.name}.", acts=(start(service.name),)),),
        residual=True,
        note=(service.startup == "on-need" and case.asked and not asked) or went_down_with(case),
        explains=("exits-with-error", "killed"),
    )


def _is_needed(case: Case) -> bool:
    """Whether anything that is up needs or wants it."""
    users = (edge.tail for edge in case.graph.needed_by(case.node, ("hard", "soft")))
    return any(user.service is not None and user.service.state in ("running", "done", "starting") for user in users)


def _not_needed(case: Case) -> Finding:
    """The manager itself stops it where nobody needs it: a start by hand would not last."""
    name = case.service.name
    users = [edge.tail for edge in case.graph.needed_by(case.node, ("hard", "soft")) if edge.link.pulls]
    by = (
        f"start what needs it: {', '.join(user.name for user in users[:_MOST_USERS])}"
        if users
        else "let something need it"
    )
    return Finding(
        says=f"{name} is stopped since {clock(end_of(case.service))}, as nothing that is up needs it: its definition says to stop it then.",
        evidence=(
            case.seen(f"{name} is set to be stopped where it is not needed (StopWhenUnneeded=)", bears=SAID),
            case.seen(f"nothing that is up needs or wants {name}"),
            *last_records(case),
        ),
        mends=(Mend(f"To have it up, {by}; or take StopWhenUnneeded= out of its definition.", seeks=True),),
        residual=True,
        note=not case.asked,
        explains=("exits-with-error", "killed"),
    )


_MOST_USERS = 4
"""Names that a sentence takes."""


def _automatic_but_stopped(case: Case) -> Iterator[Finding]:
    service = case.service
    if service.startup not in ("automatic", "delayed") or delayed_left(service, case.host) is not None:
        return
    if case.family.remembers_starts or service.last is not None:
        return  # `never-started` says it better
    yield Finding(
        says=f"{service.name} is set to start at boot and is not running; its last run is not recorded.",
        evidence=(case.seen(f"startup type of {service.name}: {service.startup}; state: {service.state}", bears=FITS),),
        mends=(Mend(f"Start {service.name}, and look whether it stays up.", acts=(start(service.name),)),),
        residual=True,
    )

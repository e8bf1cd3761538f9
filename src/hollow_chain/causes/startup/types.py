"""Startup types and stops: the service is whole, but its startup type, or somebody, keeps it down."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from datetime import datetime, timedelta

from hollow_chain.causes.acts import resume, start, startup
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import FITS, HINT, PROOF, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, Shown
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import (
    Standing,
    delayed_left,
    failed_last,
    hangs,
    skipped,
    up_targets,
)
from hollow_chain.causes.two_looks import two_looks
from hollow_chain.causes.words import (
    clock,
    ended_by_request,
    manager_word,
    run_seconds,
    span,
    started_since_boot,
    stop_was_asked,
    was_up,
)
from hollow_chain.facts.service import Service
from hollow_chain.families.times import delayed_after
from hollow_chain.lazy import pattern

_SHORT_RUN = 10.0
"""A run that ends by itself within this many seconds was no run at all: see ``exits-at-once``."""


_STARTUP_CHANGED = pattern(r"(?i)start(?:up)?[ -]type|\bdisabled\b|\bmasked\b")


@cause(
    "disabled",
    Boot.ANEW,
    states=NOT_UP,
    shown=Shown(1068, "dependency", "{name} was not started: {blame} cannot be started"),
)
def disabled(case: Case) -> Iterator[Finding]:
    """Nobody can start it.

    Looks at: the startup type, which is ``disabled`` for a masked unit too.
    Convinced by: that type on a service that is not up.
    Against: nothing; while it stands, every start is refused.
    Mend: the startup type that it had, or that its siblings have; then a start.
    """
    if case.service.startup != "disabled":
        return
    service = case.service
    wanted = _usual_startup(case)
    how = manager_word(
        case,
        "its unit is masked, so that every start is refused",
        "its startup type is disabled, so that every start is refused",
    )
    file = service.definition.file if service.definition else ""
    yield Finding(
        says=f"{service.name} is disabled: {how}.",
        evidence=(
            case.seen(f"startup type of {service.name}: disabled{f' ({file})' if file else ''}", bears=PROOF),
            case.seen(f"state: {service.state}"),
            *(case.quoted(event) for event in case.events() if _STARTUP_CHANGED.search(event.text)),
        ),
        mends=(
            Mend(
                f"{manager_word(case, 'Unmask', 'Enable')} {service.name} and give it the startup type {wanted}.",
                acts=(startup(service.name, wanted),),
            ),
            Mend(f"Then start {service.name}.", acts=(start(service.name),), only_starts=True),
        ),
        explains=("never-started", "stopped", "stale-definition"),
    )


def _usual_startup(case: Case) -> str:
    kinds = Counter(s.startup for s in case.siblings() if s.startup in ("automatic", "delayed", "manual"))
    if kinds:
        return str(kinds.most_common(1)[0][0])
    missed = any(
        edge.tail.service is not None and edge.tail.service.startup in ("automatic", "delayed")
        for edge in case.graph.needed_by(case.node, ("hard",))
    )
    return "automatic" if missed or case.service.wanted_by or case.needed_from is not None else "manual"


@cause("manual-not-started", Boot.OVER, lacks_only_a_start=True, comes_along=True, states=("stopped", "unknown"))
def manual_not_started(case: Case) -> Iterator[Finding]:
    """Its startup type is manual, and nothing has started it since boot, or since it was last stopped.

    Looks at: startup type, the records of this boot.
    Convinced by: manual, and no start in this boot that was not ended on request or cleanly.
    Against: a last run that failed, or that ended by itself at once.
    Mend: start it; set it automatic where it should survive a reboot.
    """
    service = case.service
    if service.template or service.kind == "device" or service.startup not in ("manual", "on-need"):
        return
    if service.triggers and case.family.triggers_start_any and case.standing.well:
        return  # `event-pending` says it
    if service.job is not None:
        return  # somebody has asked for a start
    if failed_last(service) or skipped(service):
        return
    started = started_since_boot(service, case.host.boot_at)
    if started and (service.startup == "on-need" or _ended_at_once(case) or _is_done(case)):
        return
    only_on_need = service.startup == "on-need"
    reason = "its startup type is manual, and nothing has started it since boot"
    evidence = [
        case.seen(f"startup type of {service.name}: {service.startup}; state: {service.state}", bears=FITS),
        case.seen(f"no start of {service.name} since boot at {clock(case.host.boot_at)}", bears=HINT),
    ]
    if started:
        ended = _end_of(service)
        how = "stopped on request" if stop_was_asked(case) else "ended cleanly"
        reason = f"its startup type is manual, it was {how} at {clock(ended)}, and nothing has started it since"
        evidence[1:] = [case.seen(f"{service.name} was {how}", MANAGER, ended, HINT), *_last_records(case)]
    elif only_on_need:
        reason = "it is started only when something needs it, and nothing that does has been started"
    mends = [Mend(f"Start {service.name}.", acts=(start(service.name),))]
    if not only_on_need:
        does = f"Set {service.name} to automatic if it should survive a reboot."
        mends.append(Mend(does, "at the next boot", (startup(service.name, "automatic"),)))
    yield Finding(
        says=f"{service.name} is not running: {reason}.",
        evidence=tuple(evidence),
        mends=tuple(mends),
        residual=True,
        note=only_on_need and case.asked,
    )


def _is_done(case: Case) -> bool:
    """Whether it is meant to end, and ended well: nothing is left to be started."""
    program = case.service.program
    return program is not None and program.style == "oneshot" and not program.stays


def _ended_at_once(case: Case) -> bool:
    """Whether the last run ended by itself, within seconds of its start."""
    ran = run_seconds(case.service)
    return not stop_was_asked(case) and case.service.kind == "service" and ran is not None and ran < _SHORT_RUN


def _end_of(service: Service) -> datetime | None:
    last = service.last
    return (last.left_up_at or last.ended_at) if last else None


def _last_records(case: Case) -> list[Evidence]:
    return [case.quoted(event) for event in case.last_events()[-3:] if event.text]


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
            evidence=(case.seen(state, bears=SAID if stop_was_asked(case) else HINT),),
            mends=(Mend(f"Wait for its end, then start {service.name}."),),
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
        mends=(Mend(f"See what {which} waits for; end it, then start {name}."),),
        residual=True,
    )


@cause("paused", Boot.OVER, states=("paused",))
def paused(case: Case) -> Iterator[Finding]:
    """Somebody or something paused it.

    Looks at: its state.
    Convinced by: the manager calling it paused.
    Against: nothing.
    Mend: continue it.
    """
    name = case.node.name
    yield Finding(
        says=f"{name} is paused.",
        evidence=(case.seen(f"state of {name}: {case.service.detail or case.service.state}", bears=PROOF),),
        mends=(Mend(f"Continue {name}.", acts=(resume(name),)),),
    )


def _ended_cleanly(case: Case) -> Iterator[Finding]:
    service = case.service
    if _ended_at_once(case):
        return
    asked = stop_was_asked(case)
    ran, ended = run_seconds(service), _end_of(service)
    result = (service.last.result if service.last else "") or "success"
    by = "it was stopped on request" if asked else "it ended cleanly"
    by += "" if was_up(service) or not asked else ", before it was up,"
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
            *_last_records(case),
        ),
        mends=(Mend(f"Start {service.name}.", acts=(start(service.name),)),),
        residual=True,
        note=service.startup == "on-need" and case.asked and not asked,
        explains=("exits-with-error", "killed"),
    )


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


@cause("never-started", Boot.OVER, lacks_only_a_start=True, comes_along=True, states=("stopped", "unknown"))
def never_started(case: Case) -> Iterator[Finding]:
    """It was set to start at boot after the last boot, and has not been started since.

    Looks at: when it was set to start at boot, against the boot; records of a start.
    Convinced by: set after the boot, and no start.
    Against: a start in this boot. Where it was set before the boot, something else kept it from being tried.
    Mend: start it; the next boot will do so by itself.
    """
    if case.service.startup not in ("automatic", "delayed") or case.service.template:
        return
    service = case.service
    if started_since_boot(service, case.host.boot_at) or skipped(service) or case.standing is Standing.NOT_YET:
        return
    if service.kind in ("target", "device"):
        return
    enabled = service.definition.enabled_at if service.definition else None
    boot = case.host.boot_at
    known_later = enabled is not None and boot is not None and enabled > boot
    if not known_later and not case.family.remembers_starts and service.last is None:
        return
    when = f"at {clock(enabled)}, after the boot at {clock(boot)}," if known_later else "to start at boot"
    unwanted = [t for t in service.wanted_by if t not in up_targets(case.host)]
    evidence = [
        case.seen(
            f"startup type of {service.name}: {service.startup}; no start since boot at {clock(boot)}", bears=FITS
        ),
    ]
    if known_later:
        evidence.append(case.seen(f"set to start at boot at {clock(enabled)}", "file system", enabled, FITS))
    elif unwanted and len(unwanted) == len(service.wanted_by):
        evidence.append(case.seen(f"it is started by {', '.join(unwanted)}, which this boot does not reach"))
    evidence += [case.quoted(event) for event in case.events()[-3:] if event.text]
    yield Finding(
        says=f"{service.name} was set {when} and has not been started since.",
        evidence=tuple(evidence),
        mends=(Mend(f"Start {service.name}; from the next boot on it starts by itself.", acts=(start(service.name),)),),
        residual=True,
    )


@cause("delayed-pending", Boot.OVER, lacks_only_a_start=True, states=("stopped", "starting", "unknown"))
def delayed_pending(case: Case) -> Iterator[Finding]:
    """It starts some minutes after boot, and its moment has not come. Not a fault.

    Looks at: startup type delayed, time since boot against the host's delay.
    Convinced by: the delay (and the time its group needs) not being over.
    Against: a try in this boot.
    Mend: wait; the moment is named.
    """
    if case.service.startup != "delayed":
        return
    left = delayed_left(case.service, case.host)
    boot = case.host.boot_at
    if left is None or boot is None:
        return
    begins = delayed_after(case.host)
    due = boot + timedelta(seconds=begins)
    when = (
        f"due from {clock(due)} on, in {span(left)}" if left else f"due since {clock(due)}, its group is being started"
    )
    yield Finding(
        says=f"{case.service.name} is not running yet: it starts delayed, {when}.",
        evidence=(
            case.seen(f"startup type of {case.service.name}: delayed; boot at {clock(boot)}, delay {span(begins)}"),
        ),
        mends=(Mend(f"Wait until {clock(due)}, then look again."),),
        note=True,
    )


@cause("event-pending", Boot.OVER, lacks_only_a_start=True, states=("stopped", "unknown"))
def event_pending(case: Case) -> Iterator[Finding]:
    """It starts on an event that has not happened. Not a fault.

    Looks at: startup type, what triggers it.
    Convinced by: a trigger that is itself in order.
    Against: a failed last run; a trigger that is not up (then the trigger is the hollow link).
    Mend: wait for the event, or start it by hand.
    """
    if case.standing is not Standing.NOT_YET or case.service.startup == "delayed" or case.service.job is not None:
        return
    if case.facts.silent_triggers(case.node) or failed_last(case.service):
        return
    service = case.service
    events = [
        f"{t.kind} {t.name}".strip() + (f", due {clock(t.due_at)}" if t.due_at else "") for t in service.triggers
    ] or ["an event that the facts do not name"]
    yield Finding(
        says=f"{service.name} is not running: it waits for {' or '.join(events[:4])}.",
        evidence=(case.seen(f"{service.name} is started on an event ({'; '.join(events[:4])})"),),
        mends=(Mend(f"Wait for the event, or start {service.name} by hand."),),
        note=True,
    )


@cause("not-persistent", Boot.OVER, lacks_only_a_start=True, of_the_next_boot=True, states=("running",))
def not_persistent(case: Case) -> Iterator[Finding]:
    """It runs now, and will not come back at the next boot. A warning.

    Looks at: startup type of a running service; whether anything that is started at boot starts it.
    Convinced by: manual or disabled, and nothing automatic that pulls it in.
    Against: a trigger, or a service or target started at boot that needs it.
    Mend: set it automatic.
    """
    service = case.service
    if case.asked:
        yield from _cannot_return(case)
    if service.startup not in ("manual", "disabled") or service.kind not in (
        "service",
        "socket",
        "timer",
        "path",
    ):
        return
    if service.triggers or (not case.asked and case.needed_from is None):
        return
    for edge in case.graph.needed_by(case.node):
        above = edge.tail.service
        if (
            not edge.crosses
            and edge.link.pulls
            and above is not None
            and above.startup in ("automatic", "delayed", "on-need")
        ):
            return
    yield Finding(
        says=f"{service.name} runs now but will not come back at the next boot: its startup type is {service.startup}.",
        evidence=(case.seen(f"startup type of {service.name}: {service.startup}; state: running"),),
        mends=(Mend(f"Set {service.name} to automatic.", "at the next boot", (startup(service.name, "automatic"),)),),
        note=True,
    )


def _cannot_return(case: Case) -> Iterator[Finding]:
    """What it hard-needs cannot be started any more: it runs on, and its next start will fail."""
    for edge in case.graph.needs(case.node, ("hard",)):
        head = edge.head.service
        if edge.crosses or edge.head.name.endswith((".slice", ".scope", ".device")):
            continue
        if head is not None and (head.startup != "disabled" or head.state in ("running", "done")):
            continue
        state = "is not registered" if head is None else "is disabled"
        yield Finding(
            says=f"{case.node.name} runs now, but its next start will fail: it needs {edge.head.name}, which {state}.",
            evidence=(
                case.seen(f"hard need of {case.node.name}: {edge.head.name} ({edge.link.word or 'hard'})"),
                case.seen(f"{edge.head.name} {state}"),
            ),
            mends=(Mend(f"Put {edge.head.name} right, or cut that need, before {case.node.name} is started again."),),
            note=True,
        )
        return

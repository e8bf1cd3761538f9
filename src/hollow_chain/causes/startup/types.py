"""Startup types: the service is whole, but its startup type keeps it down, or nobody has started it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from hollow_chain.causes.acts import start, startup
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import FITS, HINT, PROOF, Finding, Mend
from hollow_chain.causes.nature import Boot, Shown
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import (
    Standing,
    failed_last,
    skipped,
    up_targets,
)
from hollow_chain.causes.startup.last_end import end_of, is_done, last_records, stopped_with, was_bound
from hollow_chain.causes.words import (
    clock,
    ended_at_once,
    ended_by_request,
    manager_word,
    started_since_boot,
    stop_was_asked,
)
from hollow_chain.facts.habits import NOT_LOADED
from hollow_chain.facts.service import Service
from hollow_chain.families.messages import JOB_FAILED
from hollow_chain.lazy import pattern

_STARTUP_CHANGED = pattern(r"(?i)start(?:up)?[ -]type|\bis masked\b")


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


@cause(
    "manual-not-started", Boot.OVER, lacks_only_a_start=True, comes_along=True, states=("stopped", "failed", "unknown")
)
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
    if service.job is not None or _is_untold(service):
        return  # somebody has asked for a start; or it may well run
    if was_bound(case):
        return  # the manager stopped it with what it is bound to
    # A stop that was asked for in the middle of a start leaves a failure, which is none.
    if (failed_last(service) and not ended_by_request(case)) or skipped(service):
        return
    started = started_since_boot(service, case.host.boot_at)
    if started and (service.startup == "on-need" or ended_at_once(case) or is_done(case)):
        return
    only_on_need = service.startup == "on-need"
    reason = "its startup type is manual, and nothing has started it since boot"
    evidence = [
        case.seen(f"startup type of {service.name}: {service.startup}; state: {service.state}", bears=FITS),
        case.seen(f"no start of {service.name} since boot at {clock(case.host.boot_at)}", bears=HINT),
    ]
    if started:
        ended = end_of(service)
        how = "stopped on request" if stop_was_asked(case) else "ended cleanly"
        reason = f"its startup type is manual, it was {how} at {clock(ended)}, and nothing has started it since"
        along = stopped_with(case)
        evidence[1:] = [
            case.seen(f"{service.name} was {how}", MANAGER, ended, HINT),
            *([along] if along else []),
            *last_records(case),
        ]
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


def _is_untold(service: Service) -> bool:
    """Whether nobody has said how a service stands, so that nothing follows from its not being seen to run."""
    last = service.last
    return service.state == "unknown" and (last is None or (last.error_number is None and not last.result))


def _was_tried(case: Case) -> bool:
    """Whether the manager says of a start in this boot that it failed: not for want of another one, which may be there by now."""
    boot = case.host.boot_at
    told = (e for e in case.events() if e.by_manager and e.code == JOB_FAILED and (boot is None or e.at >= boot))
    return any(e.text.startswith("Failed to ") for e in told)


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
    if service.kind in ("target", "device") or _was_tried(case):
        return
    enabled = service.definition.enabled_at if service.definition else None
    boot = case.host.boot_at
    known_later = enabled is not None and boot is not None and enabled > boot
    if not known_later and not case.family.remembers_starts and service.last is None:
        return
    if not known_later and service.detail == NOT_LOADED:
        return  # the manager loads all that the boot wants (systemd(1), "Concepts"): nothing that is up wants this
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

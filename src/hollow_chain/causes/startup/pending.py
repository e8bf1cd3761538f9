"""What has not come yet, and what will not come again: delayed starts, events, services that the next boot leaves down."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta

from hollow_chain.causes.acts import startup
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import Finding, Mend
from hollow_chain.causes.nature import Boot
from hollow_chain.causes.rule import cause
from hollow_chain.causes.standing import (
    Standing,
    delayed_left,
    failed_last,
)
from hollow_chain.causes.words import (
    clock,
    span,
)
from hollow_chain.families.times import delayed_after


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
        mends=(Mend(f"Wait until {clock(due)}, then look again.", seeks=True),),
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
        mends=(Mend(f"Wait for the event, or start {service.name} by hand.", seeks=True),),
        note=True,
    )


@cause("not-persistent", Boot.OVER, lacks_only_a_start=True, of_the_next_boot=True, states=("running",))
def not_persistent(case: Case) -> Iterator[Finding]:
    """It runs now, and will not come back at the next boot. A warning.

    Looks at: startup type of a running service; whether anything that is started at boot starts it.
    Convinced by: manual or disabled, and nothing automatic that pulls it in; a definition of this boot only.
    Against: a trigger, or a service or target started at boot that needs it.
    Mend: set it automatic.
    """
    service = case.service
    if case.asked:
        yield from _cannot_return(case)
    if service.kind not in ("service", "socket", "timer", "path"):
        return
    if case.asked and service.definition is not None and service.definition.file.startswith(_OF_THIS_BOOT):
        yield _of_this_boot(case)
        return
    if service.startup not in ("manual", "disabled"):
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


_OF_THIS_BOOT = ("/run/systemd/transient/", "/run/systemd/system/")
"""Where definitions lie that are gone with the next boot (systemd.unit(5), "Unit File Load Path"); generated ones are made anew."""


def _of_this_boot(case: Case) -> Finding:
    name, file = case.service.name, case.service.definition.file if case.service.definition else ""
    return Finding(
        says=f"{name} runs now but will not come back at the next boot: its definition, {file}, is of this boot only.",
        evidence=(case.seen(f"definition of {name}: {file}", FILES),),
        mends=(Mend("Put its definition where it lasts, in /etc/systemd/system, and enable it.", "at the next boot"),),
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

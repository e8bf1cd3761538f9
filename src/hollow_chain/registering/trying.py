"""What only a first start can tell of a program: what *up* means for it, on which ports it listens, what it lives without."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, replace

import msgspec

from hollow_chain.boot.changes import seconds
from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts.host import Host
from hollow_chain.mend.hands import Hands, NotDone, TryingHands
from hollow_chain.registering import events
from hollow_chain.registering.objections import port_objections
from hollow_chain.registering.offers import Look
from hollow_chain.registering.planning import Registration
from hollow_chain.registering.systemd_form import CONFINED
from hollow_chain.verdict import diagnose

_SAYS = {
    "started": "it stays in front and does not report",
    "forked": "its first process ends and leaves another",
    "reported": "it reports to the manager",
    "ended": "it ends at once with status 0: it is taken for a job, which is done when it ends",
}
_DEVICES = re.compile(r"(?m)^(?:BindsTo|After)=\S+\.device\n")
"""Lines that hang a service on a device, which a first start is not to wait for: it tells what the program does."""
_MOST_CAUSES = 2
"""Causes that are told of what is gone by then: a sentence has to stay one."""


@dataclass(frozen=True)
class Tried:
    """What first starts have told."""

    says: str
    failed: bool = False
    ports: tuple[int, ...] = ()
    """Ports that it was seen to hold, and that nobody has spoken of."""


def settle(
    hands: Hands, one: Registration, host: Host, facts: Facts, confine: bool, agree: Callable[[Hands], None]
) -> Tried | None:
    """Try the program of *one* where something is open that only that can tell, and settle it; None where nothing is. *agree* asks
    before anything runs."""
    if not isinstance(hands, TryingHands) or one.wish.instance_of or (one.wish.up_when and not confine):
        return None
    index = facts.index(host.name)
    if absent := _absent_devices(one, index.file):
        return Tried(
            f"not tried, as {' and '.join(absent)} is not there: that it stays in front is taken for granted; "
            "say --up-when, or register it while the device is there"
        )
    agree(hands)
    one.chosen = replace(one.chosen, confine=CONFINED if confine else ())
    one.fit(host, index.file)
    told = _tried(hands, one)
    dropped: list[str] = []
    if told.failed and confine:
        kept, dropped = _lived_with(hands, one, host, index.file)
        one.chosen = replace(one.chosen, confine=kept)
        one.fit(host, index.file)
        told = _tried(hands, one)
    if dropped and not told.failed:
        told = replace(told, says=f"{told.says}; it does not live with {', '.join(dropped)}, which is left out")
    one.fit(host, index.file)
    return told


def _absent_devices(one: Registration, look: Look) -> list[str]:
    """Devices that start or stop it and are not there: a start without them tells nothing."""
    wished = (*events.starts_of(one.wish.start).events, *events.stops_of(one.wish.stop_on))
    paths = dict.fromkeys(event.what for event in wished if event.kind == events.DEVICE)
    return [path for path in paths if (file := look(path)) is None or not file.exists]


def hold_to(one: Registration, host: Host, facts: Facts, ports: tuple[int, ...]) -> list[str]:
    """Have *one* listen on the *ports* that it was seen to hold; what speaks against that, if anything."""
    one.wish = msgspec.structs.replace(one.wish, port=[*one.wish.port, *ports])
    one.fit(host, facts.index(host.name).file)
    return port_objections(host, one.new)


def _tried(hands: TryingHands, one: Registration) -> Tried:
    limit = seconds(one.wish.limit) if one.wish.limit else None
    try:
        with hands.first_start(_DEVICES.sub("", one.pieces[0].text), one.new.name, one.wish.port, limit) as seen:
            if not seen.up_when:
                return Tried(
                    f"{one.new.name} is not registered: tried once, {seen.said}{_why(hands, seen.unit, one.new.name)}",
                    True,
                )
    except NotDone as problem:
        return Tried(f"{one.new.name} is not registered: it could not be tried: {problem}", True)
    if not one.wish.up_when:
        one.wish = msgspec.structs.replace(one.wish, up_when=seen.up_when, pid_file=one.wish.pid_file or seen.pid_file)
    ports = [port for port in seen.ports if port not in one.wish.port]
    listens = f"; it listens on port {', '.join(map(str, seen.ports))}" if seen.ports else ""
    not_said = " (not said with --port)" if ports else ""
    lives = (
        f"; it lives with {len(one.chosen.confine)} of {len(CONFINED)} lines that confine it"
        if one.chosen.confine
        else ""
    )
    names = f"; {seen.pid_file} names its process" if seen.pid_file else ""
    return Tried(f"tried once: {_SAYS[seen.up_when]}{names}{listens}{not_said}{lives}", ports=tuple(ports))


def _why(hands: TryingHands, unit: str, name: str) -> str:
    """What a diagnosis makes of a first start that failed, under the name that the service was to have."""
    try:
        facts = Facts(Graph(hands.facts_of(unit)))
    except NotDone:
        return ""
    verdict = diagnose(facts, facts.graph.node(hands.host, unit))
    said = [f"{cause.finding.cause}: {cause.finding.says}" for cause in verdict.causes[:_MOST_CAUSES]]
    return (
        f". {' '.join(said)}".replace(unit, name).replace(unit.removesuffix(".service"), name.removesuffix(".service"))
        if said
        else ""
    )


def _lived_with(
    hands: TryingHands, one: Registration, host: Host, look: Look
) -> tuple[tuple[tuple[str, str, str], ...], list[str]]:
    """The lines that the program lives with, each tried on top of those before it; and the names of the others."""
    kept: tuple[tuple[str, str, str], ...] = ()
    dropped: list[str] = []
    for line in CONFINED:
        one.chosen = replace(one.chosen, confine=(*kept, line))
        one.fit(host, look)
        if _tried(hands, one).failed:
            dropped.append(line[0])
        else:
            kept = (*kept, line)
    return kept, dropped

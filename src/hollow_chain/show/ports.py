"""The ports for a person: who claims, who holds, and first of all where two cannot both have it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from hollow_chain.chain import Graph
from hollow_chain.facts.endpoints import is_any
from hollow_chain.facts.host import Listener
from hollow_chain.show.clean import clean
from hollow_chain.show.page import Page, age
from hollow_chain.show.signs import CAUTION, HOLLOW, PENDING, RESTING, SOLID, WEAK
from hollow_chain.verdict.between_hosts import Crossing, WayToPort
from hollow_chain.verdict.ports import PortRow
from hollow_chain.wording.counts import counted


def show_ports(
    page: Page, graph: Graph, rows: list[PortRow], sought: PortsWish, between: Sequence[Crossing] = ()
) -> None:
    """Write the ports host by host, and what they amount to."""
    for port in sought.free:
        page.line(
            (f"Port {port} is free", "bold"),
            f": no service is set to it, and nothing holds it, on {_hosts(sought.hosts)}.",
        )
    if not rows and not sought.free and not between:
        page.line(_none(sought))
    if between:
        page.line(("Between hosts", "bold"))
        for crossing in sorted(between, key=lambda one: one.well):
            _show_crossing(page, crossing)
    if not rows:
        page.legend()
        return
    if between:
        page.gap()
    for name in dict.fromkeys(row.host for row in rows):
        page.line((clean(name, 80), "bold"), (f"  {age(graph.hosts[name].read_at)}", "dim"))
        for row in (row for row in rows if row.host == name):
            _show_row(page, row)
    clashing = sum(1 for row in rows if row.clash)
    page.gap()
    page.line(
        f"{counted(len(rows), 'port')}: ",
        (counted(clashing, "clash") if clashing else "no clash", "bold red" if clashing else ""),
        f", {sum(1 for row in rows if row.holders)} held, {sum(1 for row in rows if row.claims)} claimed",
    )
    page.legend()


def _show_crossing(page: Page, one: Crossing) -> None:
    """A need that leads to another host, with each port that it leads to."""
    sign = SOLID if one.well else WEAK
    client, server = (f"{clean(node.name, 80)} on {clean(node.host, 60)}" for node in (one.client, one.server))
    page.line((f"{page.sign(sign)} ", sign.style), (client, "bold"), " needs ", (server, "bold"), indent=2, hang=4)
    if not one.is_read:
        page.line(f"no facts of {clean(one.server.host, 60)} are here", indent=6)
    elif not one.ports:
        page.line("no port of it is known", indent=6)
    for way in one.ports:
        page.line(f"port {way.port}: ", "; ".join(_words_of(way)), indent=6, hang=2)


def _words_of(way: WayToPort) -> Iterator[str]:
    if not way.listens:
        yield "nobody listens"
    elif not way.open_to_others:
        yield "listens for its own host only"
    else:
        yield f"listens on {', '.join(sorted({clean(one.address, 60) or 'all addresses' for one in way.listens}))}"
    if way.blocked_by:
        yield f"stopped by {clean(way.blocked_by, 60)}"
    elif way.walls:
        yield f"let through by {', '.join(clean(wall, 60) for wall in way.walls)}"
    for probe in way.probes:
        where = clean(probe.source, 60) if probe.source else "here"
        took = f" in {probe.seconds * 1000:.0f} ms" if probe.came_to == "answered" and probe.seconds is not None else ""
        yield f"a call from {where}: {probe.came_to}{took}{f' ({clean(probe.why, 100)})' if probe.why else ''}"


class PortsWish(NamedTuple):
    """What was asked for, and what has no row."""

    hosts: list[str]
    looked_at: int
    """Ports that were looked at."""
    words: bool = False
    clashes: bool = False
    free: tuple[int, ...] = ()
    """Numbers that were asked for, and that nobody claims or holds."""


def _hosts(names: list[str]) -> str:
    return clean(names[0], 80) if len(names) == 1 else f"any of {len(names)} hosts"


def _none(sought: PortsWish) -> str:
    if not sought.looked_at:
        return "No ports are claimed or held, or none could be read."
    if sought.clashes:
        return f"No clash: {counted(sought.looked_at, 'port')} looked at on {_hosts(sought.hosts)}."
    return "No port fits."


def _show_row(page: Page, row: PortRow) -> None:
    sign = HOLLOW if row.clash else SOLID if row.holders and row.claims else PENDING if row.holders else RESTING
    parts = [part for part in (_held(row.holders), _claimed(row)) if part]
    page.line(
        (f"{page.sign(sign)} ", sign.style),
        (f"{row.protocol} {row.port:<6}", "bold"),
        "; ".join(parts),
        indent=1,
        hang=13,
    )
    if row.clash:
        free = f". Free: {row.free}" if row.free else ""
        page.line((f"CLASH ({row.clash}): ", HOLLOW.style), clean(row.says, 400) + free, indent=13)
    for remark in row.remarks:
        page.line((f"note: {clean(remark, 300)}", CAUTION), indent=13, hang=6)


def _held(holders: list[Listener]) -> str:
    """Who holds it, by which process and program, each holder once with all its addresses."""
    places: dict[str, dict[str, None]] = {}
    for listener in holders:
        name = listener.service or listener.program.rpartition("/")[2] or "unknown"
        shared = f" (hosts {', '.join(listener.shared_with)})" if listener.shared_with else ""
        process = ", ".join(filter(None, (f"process {listener.process}" if listener.process else "", listener.program)))
        by = (
            f" ({process})"
            if process and listener.service
            else f" (process {listener.process})"
            if listener.process
            else ""
        )
        places.setdefault(name + by + shared, {})["all" if is_any(listener.address) else listener.address] = None
    return f"held by {_joined(places)}" if places else ""


def _claimed(row: PortRow) -> str:
    """Who is set to have it, but for a service that has it: of that the socket says more than its settings."""
    having = {name for listener in row.holders for name in (listener.service, *listener.shared_with)}
    sure: dict[str, dict[str, None]] = {}
    unsure: dict[str, dict[str, None]] = {}
    for service, claim in row.claims:
        places = unsure if claim.unsure and service.name not in having else sure
        where = places.setdefault(f"{service.name} ({service.state}, {service.startup})", {})
        if service.name not in having:
            where["all" if is_any(claim.address) else claim.address] = None
    said = (("claimed by", sure), ("perhaps claimed by", unsure))
    return "; ".join(f"{how} {_joined(places)}" for how, places in said if places)


def _joined(places: dict[str, dict[str, None]]) -> str:
    return clean("; ".join(f"{name} on {', '.join(where)}" if where else name for name, where in places.items()), 600)

"""``ports``: who claims, who holds, where they clash."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, finding
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
    from hollow_chain.chain import Graph
    from hollow_chain.verdict.between_hosts import Crossing
    from hollow_chain.verdict.ports import PortRow


_LAST_PORT = 65_535
"""RFC 9293, 3.1: a port has 16 bits; 0 stands for none."""


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("ports")(ports)


def ports(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            help="Port numbers, or parts of names of services or programs. Default: all.", show_default=False
        ),
    ] = None,
    source: common.From = None,
    host: common.HostName = "",
    clashes: Annotated[bool, typer.Option("--clashes", help="Only where two cannot both have it.")] = False,
    at_once: common.AtOnce = common.AT_ONCE,
    within: common.Within = common.WITHIN,
    probe: common.Probing = False,
    json: common.Json = False,
) -> int:
    """Set who claims a port against who holds it, and name what clashes, with a free neighbor.

    Claims come from socket units, arguments, and configuration files as far as their general form allows. Of several hosts it also says
    of each need that leads to another one: does it listen, for whom, through which firewalls, and with --probe whether a call is
    answered. Exit status 1 if something clashes, or a need does not get through.
    """
    numbers = [int(word) for word in words or () if word.isascii() and word.isdigit()]
    wrong = next((number for number in numbers if not 0 < number <= _LAST_PORT), None)
    if wrong is not None:
        raise wrong_call(f"no port {wrong}: they go from 1 to {_LAST_PORT}")
    snapshot = common.load(source, with_claims=True, at_once=at_once, within=within, probe=probe)

    from hollow_chain.chain import Graph
    from hollow_chain.verdict.ports import port_rows

    graph = Graph(snapshot)
    names = finding.hosts_named(graph, host)
    every = [row for name in names for row in port_rows(graph.hosts[name])]
    rows = [row for row in every if _fits(row, words or []) and (row.clash or not clashes)]
    used = {row.port for row in every}
    between = [] if clashes or len(graph.hosts) < 2 else _between(graph, names, words or [])
    if json:
        from hollow_chain.show.documents import ports_document, to_json

        common.put(to_json(ports_document(graph, rows, between)))
    else:
        from hollow_chain.show.page import Page
        from hollow_chain.show.ports import PortsWish, show_ports

        free = tuple(number for number in numbers if number not in used)
        show_ports(Page(), graph, rows, PortsWish(names, len(every), bool(words), clashes, free), between)
    return 1 if any(row.clash for row in rows) or not all(one.well for one in between) else 0


def _between(graph: Graph, names: list[str], words: list[str]) -> list[Crossing]:
    """Needs that lead from or to one of the hosts *names*, and that fit *words*."""
    from hollow_chain.causes import Facts
    from hollow_chain.verdict.between_hosts import crossings

    folded = [word.casefold() for word in words]

    def fits(one: Crossing) -> bool:
        texts = (one.client.name.casefold(), one.server.name.casefold())
        ports = {str(way.port) for way in one.ports}
        return not folded or any(word in ports or any(word in text for text in texts) for word in folded)

    return [one for one in crossings(Facts(graph)) if {one.client.host, one.server.host} & set(names) and fits(one)]


def _fits(row: PortRow, words: list[str]) -> bool:
    """Whether a row is one of those asked for: any of the words is its port, or part of a name on it."""
    names = [service.name for service, _ in row.claims]
    names += [name for s in row.holders for name in (s.service, s.program.rpartition("/")[2], *s.shared_with)]
    folded = [name.casefold() for name in names]
    return not words or any(
        word == str(row.port) or (not word.isdigit() and any(word.casefold() in name for name in folded))
        for word in words
    )

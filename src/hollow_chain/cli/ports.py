"""``ports``: who claims, who holds, where they clash."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, finding
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
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
    json: common.Json = False,
) -> int:
    """Set who claims a port against who holds it, and name what clashes, with a free neighbor.

    Claims come from socket units, arguments, and configuration files as far as their general form allows. Exit status 1 if
    something clashes.
    """
    numbers = [int(word) for word in words or () if word.isascii() and word.isdigit()]
    wrong = next((number for number in numbers if not 0 < number <= _LAST_PORT), None)
    if wrong is not None:
        raise wrong_call(f"no port {wrong}: they go from 1 to {_LAST_PORT}")
    snapshot = common.load(source, with_claims=True)

    from hollow_chain.chain import Graph
    from hollow_chain.verdict.ports import port_rows

    graph = Graph(snapshot)
    names = finding.hosts_named(graph, host)
    every = [row for name in names for row in port_rows(graph.hosts[name])]
    rows = [row for row in every if _fits(row, words or []) and (row.clash or not clashes)]
    used = {row.port for row in every}
    if json:
        from hollow_chain.show.documents import ports_document, to_json

        common.put(to_json(ports_document(graph, rows)))
    else:
        from hollow_chain.show.page import Page
        from hollow_chain.show.ports import PortsWish, show_ports

        free = tuple(number for number in numbers if number not in used)
        show_ports(Page(), graph, rows, PortsWish(names, len(every), bool(words), clashes, free))
    return 1 if any(row.clash for row in rows) else 0


def _fits(row: PortRow, words: list[str]) -> bool:
    """Whether a row is one of those asked for: any of the words is its port, or part of a name on it."""
    names = [service.name for service, _ in row.claims]
    names += [name for s in row.holders for name in (s.service, s.program.rpartition("/")[2], *s.shared_with)]
    folded = [name.casefold() for name in names]
    return not words or any(
        word == str(row.port) or (not word.isdigit() and any(word.casefold() in name for name in folded))
        for word in words
    )

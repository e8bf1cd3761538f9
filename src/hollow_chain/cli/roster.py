"""``roster [WORDS]``: which services are here."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, completing, finding

if TYPE_CHECKING:
    from hollow_chain.facts.host import Host


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("roster")(roster)


def roster(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            help="Any part of a name, first letters, program, port, description.",
            show_default=False,
            autocompletion=completing.targets,
        ),
    ] = None,
    source: common.From = None,
    host: common.HostName = "",
    everything: Annotated[
        bool, typer.Option("--all", help="Also what is idle, and sockets, timers, mounts, targets and the like.")
    ] = False,
    unwell: Annotated[bool, typer.Option("--unwell", help="Only what is not well.")] = False,
    twins: Annotated[
        bool,
        typer.Option("--twins", help="Only services that run the same under two names, and what tells them apart."),
    ] = False,
    at_once: common.AtOnce = common.AT_ONCE,
    within: common.Within = common.WITHIN,
    json: common.Json = False,
) -> int:
    """List the services, found by any part of what you remember; near misses are ranked.

    Marks what is not well, and what is only not yet up. Exit status 1 if something listed is not well.
    """
    text = " ".join(words or ())
    snapshot = common.load(source, text, at_once=at_once, within=within)

    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph, search
    from hollow_chain.show.roll import Roll

    facts = Facts(Graph(snapshot))
    if twins:
        return _twins([facts.graph.hosts[name] for name in finding.hosts_named(facts.graph, host)], json)
    roll = Roll(facts)
    matches = search(facts.graph, text, finding.hosts_named(facts.graph, host))
    if not text and not everything:
        matches = [
            m
            for m in matches
            if m.node.service is not None and (m.node.service.kind == "service" or not roll.is_well(m.node))
        ]
    if unwell:
        matches = [m for m in matches if not roll.is_well(m.node)]
    if json:
        from hollow_chain.show.documents import roster_document, to_json

        common.put(to_json(roster_document(roll, matches, text)))
    else:
        from hollow_chain.show.page import Page
        from hollow_chain.show.roster import RosterWish, show_roster

        show_roster(Page(), roll, matches, RosterWish(text, everything))
    return 1 if not all(roll.is_well(match.node) for match in matches) else 0


def _twins(hosts: list[Host], json: bool) -> int:
    from hollow_chain.show import twins

    if not json:
        from hollow_chain.show.page import Page

        return int(bool(twins.show_twins(Page(), hosts)))
    from hollow_chain.show.documents import to_json

    document = twins.twins_document(hosts)
    common.put(to_json(document))
    return int(bool(document["twins"]))

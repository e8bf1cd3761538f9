"""``about TARGET``: all of one service on one page."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import TYPE_CHECKING

import typer

from hollow_chain.cli import common, finding, ticketing
from hollow_chain.trouble import Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.facts.host import Host


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("about")(about)


def about(
    target: common.Target,
    source: common.From = None,
    host: common.HostName = "",
    out: ticketing.Out = None,
    whom: ticketing.ForWhom = "technician",
    json: common.Json = False,
) -> int:
    """Show all of TARGET on one page: definition, program, state, limits, ports, links, files, log, starts, and what was changed."""
    ticketing.check(out, whom)
    snapshot = common.load(source, target, with_packages=True, closely=_meant(target))

    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.show.about import Portrait, about_document, about_sheet
    from hollow_chain.verdict import diagnose

    facts = Facts(Graph(snapshot))
    facts.learned = common.learned()
    node = finding.find_target(facts.graph, target, host)
    if node.service is None:
        raise wrong_call(f"no service {node.name!r} is registered on {node.host}; 'hollow-chain roster' lists them")
    portrait = Portrait(facts, node, diagnose(facts, node))
    if json:
        from hollow_chain.show.documents import to_json

        common.put(to_json(about_document(portrait)))
    if out is not None:
        ticketing.write(about_sheet(portrait), out, whom, facts.graph.document)
        ticketing.said(out, portrait.verdict.summary, json)
    elif not json:
        from hollow_chain.show.page import Page
        from hollow_chain.show.sheet_text import write_sheet

        write_sheet(Page(), about_sheet(portrait))
    return 0 if portrait.verdict.healthy else 1


def _meant(words: str) -> Callable[[Host], Collection[str]]:
    """Chooses the service that is asked about, once the manager has told which there are."""

    def chosen(host: Host) -> Collection[str]:
        from hollow_chain.chain import Graph
        from hollow_chain.facts.host import snapshot

        try:
            return (finding.find_target(Graph(snapshot([host])), words, "").name,)
        except Trouble:
            return ()  # it is said when all is read

    return chosen

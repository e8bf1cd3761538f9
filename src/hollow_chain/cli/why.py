"""``why TARGET``: the hollow link behind a service."""

from __future__ import annotations

import typer

from hollow_chain.cli import common


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("why")(why)


def why(
    target: common.Target,
    source: common.From = None,
    host: common.HostName = "",
    json: common.Json = False,
) -> int:
    """Name the hollow link behind TARGET, the chain down to it, the evidence, and what mends it."""
    snapshot = common.load(source, target)

    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.verdict import diagnose

    facts = Facts(Graph(snapshot))
    verdict = diagnose(facts, common.find_target(facts.graph, target, host))
    if json:
        from hollow_chain.show.documents import to_json, verdict_document

        common.put(to_json(verdict_document(verdict)))
    else:
        from hollow_chain.show.page import Page
        from hollow_chain.show.why import show_verdict

        show_verdict(Page(), facts, verdict)
    return 0 if verdict.healthy else 1

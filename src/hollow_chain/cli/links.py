"""``links TARGET``: what it needs, and what needs it."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Annotated

import typer

from hollow_chain.cli import common, finding
from hollow_chain.facts.service import LinkKind
from hollow_chain.trouble import wrong_call
from hollow_chain.wording.counts import counted


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("links")(links)


def links(
    target: common.Target,
    source: common.From = None,
    host: common.HostName = "",
    depth: Annotated[int, typer.Option("--depth", min=1, max=1000, help="How many levels to follow.")] = 4,
    order: Annotated[bool, typer.Option("--order", help="Also links that only say who waits for whom.")] = False,
    everything: Annotated[
        bool, typer.Option("--all", help="Also the base system: slices, start-up targets, devices, mounts.")
    ] = False,
    clash: Annotated[bool, typer.Option("--clash", help="Also links that say who cannot run beside whom.")] = False,
    out: Annotated[
        Path | None,
        typer.Option("--out", help="Write a picture (.png, .svg) or graph text (.dot, .graphml).", show_default=False),
    ] = None,
    json: common.Json = False,
) -> int:
    """Show what TARGET needs and what it is needed by, several levels deep, and what a stop of it takes along."""
    from hollow_chain.show.graphtext import WRITERS

    if out is not None and out.suffix.lower() not in WRITERS:
        raise wrong_call(f"cannot write {out}: give it one of the endings {', '.join(WRITERS)}")
    snapshot = common.load(source, target)

    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.chain.around import around
    from hollow_chain.show.surroundings import Surroundings
    from hollow_chain.verdict import is_hollow

    facts = Facts(Graph(snapshot))
    node = finding.find_target(facts.graph, target, host)
    if node.service is None:
        raise wrong_call(f"no service {node.name!r} is registered on {node.host}; 'hollow-chain roster' lists them")
    kinds: list[LinkKind] = ["hard", "soft"]
    kinds += ["order"] if order else []
    kinds += ["clash"] if clash else []
    whole = Surroundings(facts, node, *around(facts.graph, node, kinds, depth), is_hollow=partial(is_hollow, facts))
    view = whole if everything or json else whole.without_base()
    if out is not None:
        data = WRITERS[out.suffix.lower()](view)
        common.write_out(out, data)
    if json:
        from hollow_chain.show.documents import links_document, to_json

        common.put(to_json(links_document(view)))
    elif out is not None:
        edges = len(view.edges)
        common.put(f"wrote {common.shown(out)}: {counted(edges, 'link')} around {common.shown(node.name)}")
    else:
        from hollow_chain.show.links import show_links
        from hollow_chain.show.page import Page

        show_links(Page(), view)
    return 0

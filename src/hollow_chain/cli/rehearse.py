"""``rehearse``: boot it in simulation."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, completing, finding, ticketing
from hollow_chain.trouble import wrong_call
from hollow_chain.wording.counts import counted

if TYPE_CHECKING:
    from hollow_chain.boot.rehearsal import Rehearsal

PICTURES = (".png", ".svg")
UNSURE = 0.05
"""From this chance of failing on, something is wrong with the next boot."""


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("rehearse")(rehearse)


def rehearse(
    words: Annotated[
        list[str] | None,
        typer.Argument(
            help="Only services that fit: any part of a name, program, port. Default: all of interest.",
            show_default=False,
            autocompletion=completing.targets,
        ),
    ] = None,
    source: common.From = None,
    host: common.HostName = "",
    runs: Annotated[int, typer.Option("--runs", min=1, max=100_000, help="How many boots.")] = 1000,
    seed: Annotated[int, typer.Option("--seed", help="Equal seeds give equal results.")] = 1,
    late: Annotated[
        float, typer.Option("--late-after", min=0, help="Seconds after boot from which on a service counts as late.")
    ] = 300.0,
    cores: Annotated[
        float | None,
        typer.Option("--cores", min=0.1, max=4096, help="Cores. Default: those of the host.", show_default=False),
    ] = None,
    everything: Annotated[bool, typer.Option("--all", help="A row for everything that the boot may start.")] = False,
    out: Annotated[
        Path | None,
        typer.Option(
            "--out", help="Write a timeline (.png, .svg), or a page to hand on (.html, .md).", show_default=False
        ),
    ] = None,
    whom: ticketing.ForWhom = "technician",
    json: common.Json = False,
) -> int:
    """Boot a host in simulation: who will be up, when, and how surely; what the boot waits for; what it changes."""
    ticketing.check(out, whom, PICTURES)
    snapshot = common.load(source, with_claims=True)

    from hollow_chain.boot.families import as_it_stands, foreseen, plan_of
    from hollow_chain.boot.rehearsal import rehearse as rehearsed
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph

    facts = Facts(Graph(snapshot))
    owner = finding.one_host(facts.graph, host)
    expected = foreseen(facts, owner)
    expected.cores = cores
    graph = as_it_stands(facts, [owner.name])
    plan = plan_of(graph, graph.hosts[owner.name], expected)
    if not plan.units:
        raise wrong_call(f"no services of {owner.name} are in the facts; there is nothing to rehearse")
    with common.Telling() as told:
        result = rehearsed(plan, runs, seed, late, told)
    only = finding.fitting(facts.graph, words, owner.name) if words else None
    if out is not None and out.suffix.lower() in ticketing.PAGES:
        from hollow_chain.ticket.rehearsals import rehearsal_sheet

        ticketing.write(rehearsal_sheet(result, only), out, whom, snapshot)
    elif out is not None:
        from hollow_chain.show.timeline import draw

        common.write_out(out, draw(result, out.suffix.lower().lstrip(".")))
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.rehearsal_document import rehearsal_document

        common.put(to_json(rehearsal_document(result, only)))
    elif out is not None:
        common.put(f"wrote {common.shown(out)}: {counted(result.runs, 'boot')} of {common.shown(owner.name)}")
    else:
        from hollow_chain.show.page import Page
        from hollow_chain.show.rehearsal import show_rehearsal

        show_rehearsal(Page(), result, everything, only)
    return int(_is_wrong(result, only))


def _is_wrong(result: Rehearsal, only: list[str] | None) -> bool:
    shown = [o for o in result.services if only is None or o.service in only]
    return any((o.starts and o.kind != "remote" and o.failed >= UNSURE) or o.change == "lost" for o in shown)

"""``suppose CHANGE...``: the next boot before and after changes that are only supposed."""

from __future__ import annotations

import copy
from typing import Annotated

import typer

from hollow_chain.cli import common, finding
from hollow_chain.trouble import wrong_call


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("suppose")(suppose)


def suppose(
    changes: Annotated[
        list[str],
        typer.Argument(
            help="Each change in quotes, or all with commas: 'startup NAME automatic', 'limit NAME 60s', 'limit all 45s', "
            "'need A B', 'after A B', 'cut A B', 'delay NAME 20s', 'event NAME 20s 10s', 'port NAME 8081', "
            "'account NAME USER', 'takes NAME 10s', 'cores 8', 'mended NAME', 'fails NAME'.",
            show_default=False,
        ),
    ],
    source: common.From = None,
    host: common.HostName = "",
    runs: Annotated[int, typer.Option("--runs", min=1, max=100_000, help="How many boots.")] = 1000,
    seed: Annotated[int, typer.Option("--seed", help="Equal seeds give equal results.")] = 1,
    json: common.Json = False,
) -> int:
    """Rehearse the next boot before and after changes that are only supposed: what gets better, what gets worse."""
    from hollow_chain.boot.changes import NotUnderstood, World, carry_out, sentences

    texts = sentences(changes)
    if not texts:
        raise wrong_call("no change is given; such as: suppose 'limit NAME 60s'")
    snapshot = common.load(source, with_claims=True)

    from hollow_chain.boot.compare import compare
    from hollow_chain.boot.engine import simulate
    from hollow_chain.boot.families import as_it_stands, foreseen, plan_of
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph

    facts = Facts(Graph(snapshot))
    owner = finding.one_host(facts.graph, host)
    expected = foreseen(facts, owner)
    graph, other = (as_it_stands(facts, [owner.name]) for _ in range(2))
    world = World(other, other.hosts[owner.name], copy.deepcopy(expected))
    try:
        said = [carry_out(world, text) for text in texts]
    except NotUnderstood as problem:
        raise wrong_call(str(problem)) from None
    plans = plan_of(graph, graph.hosts[owner.name], expected), plan_of(world.graph, world.host, world.expected)
    if not plans[0].units:
        raise wrong_call(f"no services of {owner.name} are in the facts; there is nothing to rehearse")
    with common.Telling() as told:
        result = compare(*(simulate(plan, runs, seed, told) for plan in plans))
    if json:
        from hollow_chain.show.comparison import comparison_document
        from hollow_chain.show.documents import to_json

        common.put(to_json(comparison_document(owner.name, said, result, seed)))
    else:
        from hollow_chain.show.comparison import show_comparison
        from hollow_chain.show.page import Page

        show_comparison(Page(), owner.name, said, result, seed)
    return int(any(shift.verdict == "worse" for shift in result.shifts))

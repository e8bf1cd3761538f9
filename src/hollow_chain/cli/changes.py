"""``changes [TARGET]``: what was changed lately, and when; what differs between two readings."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, completing, finding
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
    from hollow_chain.facts import Snapshot
    from hollow_chain.facts.host import Host


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("changes")(changes)


def changes(
    target: Annotated[
        str,
        typer.Argument(
            help="Service: any part of its name. Default: the whole host.",
            show_default=False,
            autocompletion=completing.targets,
        ),
    ] = "",
    source: common.From = None,
    host: common.HostName = "",
    since: Annotated[
        str,
        typer.Option("--since", help="How far back: 90m, 2h, 3d, or a moment. Default: 30 days.", show_default=False),
    ] = "",
    between: Annotated[
        tuple[Path, Path] | None,
        typer.Option("--between", help="Two snapshots: what differs from the first to the second.", show_default=False),
    ] = None,
    everything: Annotated[bool, typer.Option("--all", help="Also what came in masses, line by line.")] = False,
    json: common.Json = False,
) -> int:
    """Say what was changed lately: definitions, settings, programs, packages, startup types, accounts; who started and stopped what.

    With --between: what differs between one host then and now, or between a sick one and its twin that is well.
    """
    if between is not None:
        if source or since:
            raise wrong_call("--between names both readings itself; leave out --from and --since")
        return _between(between, target, host, everything, json)
    snapshot = common.load(source, target, with_changes=True)

    from hollow_chain.chain import Graph
    from hollow_chain.facts.change import LONGEST_AGO
    from hollow_chain.lately.gather import changes_of
    from hollow_chain.show.changes import ChangesWish, changes_document, show_changes

    graph = Graph(snapshot)
    service = ""
    if target:
        node = finding.find_target(graph, target, host)
        owner, service = graph.hosts[node.host], node.name
    else:
        owner = finding.one_host(graph, host)
    start = common.moment_of(since, "--since", owner.read_at) if since else None
    if start is None and owner.read_at is not None:
        start = owner.read_at - LONGEST_AGO
    wish = ChangesWish(service, start, everything)
    found = changes_of(owner, service, start)
    if json:
        from hollow_chain.show.documents import to_json

        common.put(to_json(changes_document(owner, found, wish)))
    else:
        from hollow_chain.show.page import Page

        show_changes(Page(), owner, found, wish)
    return 0


def _between(places: tuple[Path, Path], target: str, host: str, everything: bool, json: bool) -> int:
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.lately.between import differences
    from hollow_chain.show.changes import differences_document, show_differences

    old, new = (common.load([str(place)]) for place in places)
    facts = Facts(Graph(new))
    then, now = _pair(old, new, host)
    found = differences(then, facts, now)
    if target:
        name = finding.find_target(facts.graph, target, now.name).name
        found = [one for one in found if one.service == name]
    if json:
        from hollow_chain.show.documents import to_json

        common.put(to_json(differences_document(then, now, found)))
    else:
        from hollow_chain.show.page import Page

        show_differences(Page(), then, now, found, everything)
    return 0


def _pair(old: Snapshot, new: Snapshot, host: str) -> tuple[Host, Host]:
    """The host of each reading that is compared: of the same name, or the only one of each."""
    from hollow_chain.chain import Graph

    if len(old.hosts) == len(new.hosts) == 1 and not host:
        return old.hosts[0], new.hosts[0]
    now = finding.one_host(Graph(new), host)
    then = Graph(old).host_named(now.name)
    if then is None:
        raise wrong_call(f"no reading of {now.name} is in the first of the two")
    return then, now

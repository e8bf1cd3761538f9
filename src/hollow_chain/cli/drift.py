"""``drift HOST``: what differs from an earlier reading of it, from its twin, or from what most of its group have."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from hollow_chain.cli import common, completing, fleeting
from hollow_chain.trouble import Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.causes import Facts
    from hollow_chain.facts.host import Host
    from hollow_chain.fleet.drifting import Drift, Odd
    from hollow_chain.fleet.latest import LatestFound
    from hollow_chain.sources.readings import Readings


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("drift")(drift)


def drift(
    host: Annotated[str, typer.Argument(help="The host.", show_default=False, autocompletion=completing.hosts)],
    source: Annotated[
        str,
        typer.Option(
            "--from", help="A store of readings (see 'capture --keep'), a folder of them included.", show_default=False
        ),
    ],
    against: Annotated[
        str,
        typer.Option(
            "--against",
            help="A host: its twin. A group: what most of it have. Default: its own last reading in which all was well.",
            show_default=False,
        ),
    ] = "",
    since: Annotated[
        str,
        typer.Option("--since", help="Its own reading of that time: 90m, 2d, or a moment.", show_default=False),
    ] = "",
    everything: Annotated[bool, typer.Option("--all", help="Also what nothing ties to what is not well.")] = False,
    json: common.Json = False,
) -> int:
    """Say what differs that could matter: what went with failures on other hosts first, then what is near to what is not well.

    Moments, numbers of processes and counts are no differences. Exit status 1 where the host is not well.
    """
    if against and since:
        raise wrong_call("--since is of the host's own earlier reading; --against names another host or a group")
    fleeting.spread("", "drift")
    from hollow_chain.fleet.latest import of_store
    from hollow_chain.sources.readings import open_store

    store = open_store(source)
    found = of_store(store)
    for line in found.troubles:
        common.warn(line)
    name = _host(found, host)
    groups = _members(found)
    if against and against not in _hosts(found) and against in groups:
        return _odd(found, name, against, groups[against], json)
    twin = _host(found, against) if against else ""
    row = None if twin else _own(found, _row(found, name), since)
    if row is None and not twin:
        return _of_its_group(found, name, groups, since, json)
    return _compared(store, found, name, twin, row, everything, json)


def _hosts(found: LatestFound) -> list[str]:
    return [str(one) for one in found.latest.hosts["host"].to_pylist()]


def _host(found: LatestFound, words: str) -> str:
    """The host that is meant. Raises :class:`~hollow_chain.trouble.Trouble` (2) where none is, or several are."""
    names = _hosts(found)
    if words in names:
        return words
    folded = words.casefold()
    fits = [name for name in names if name.casefold() == folded] or [
        name for name in names if folded and folded in name.casefold()
    ]
    if len(fits) == 1:
        return fits[0]
    if fits:
        few = ", ".join(fits[:6]) + (f" and {len(fits) - 6} more" if len(fits) > 6 else "")
        raise wrong_call(f"{words!r} may be {few}: name one")
    from hollow_chain.wording.near import nearest

    near = [names[one.place] for one in nearest(folded, [name.casefold() for name in names], 5, 60)]
    groups = sorted(_members(found))
    offered = f"; nearest: {', '.join(near)}" if near else f"; its groups: {', '.join(groups[:5])}" if groups else ""
    raise wrong_call(f"no reading of a host {words!r} is in the store{offered}")


def _row(found: LatestFound, name: str) -> dict[str, Any]:
    return next(row for row in found.latest.hosts.to_pylist() if row["host"] == name)


def _members(found: LatestFound) -> dict[str, list[str]]:
    groups: dict[str, list[str]] = {}
    for name, of in zip(_hosts(found), found.latest.hosts["groups"].to_pylist(), strict=True):
        for group in of or ():
            groups.setdefault(group, []).append(name)
    return groups


def _own(found: LatestFound, newest: dict[str, Any], since: str) -> dict[str, Any] | None:
    """The row of the earlier reading of the host that it is compared with."""
    from hollow_chain.fleet.drifting import nearest_well

    assert found.history is not None  # it is of a store
    return nearest_well(found.history, newest, common.moment_of(since, "--since") if since else None, not since)


def _of_its_group(found: LatestFound, name: str, groups: dict[str, list[str]], since: str, json: bool) -> int:
    """Without an earlier reading: what its largest group says."""
    from hollow_chain.fleet.drifting import LEAST_IN_GROUP

    own = sorted((group for group in groups if name in groups[group]), key=lambda group: -len(groups[group]))
    if since or not own or len(groups[own[0]]) <= LEAST_IN_GROUP:
        earlier = f"before {since}" if since else "before the newest"
        raise Trouble(f"no reading of {name} {earlier} is in the store: name another host or a group with --against")
    common.tell(f"no earlier reading of {name} is in the store: it is compared with what most of group {own[0]} have")
    return _odd(found, name, own[0], groups[own[0]], json)


def _odd(found: LatestFound, name: str, group: str, members: list[str], json: bool) -> int:
    from hollow_chain.fleet.drifting import LEAST_IN_GROUP, against_group

    odd: list[Odd] = against_group(name, members, found.latest)
    if len(members) - (name in members) < LEAST_IN_GROUP:
        raise wrong_call(
            f"group {group} has too few other hosts to say what most of them have: name a host with --against"
        )
    unwell = bool(_row(found, name)["unwell"])
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.drift import odd_document

        common.put(to_json(odd_document(name, group, odd)))
    else:
        from hollow_chain.show.drift import show_odd
        from hollow_chain.show.page import Page

        show_odd(Page(), name, group, odd)
    return int(unwell)


def _compared(
    store: Readings, found: LatestFound, name: str, twin: str, row: dict[str, Any] | None, everything: bool, json: bool
) -> int:
    from hollow_chain.causes.words import clock
    from hollow_chain.fleet.drifting import drift as drifted

    facts, now = _facts(store, _file(_row(found, name)))
    then = _facts(store, _file(row or _row(found, twin)))[1]
    well = "" if row and row["unwell"] else ", in which all was well"
    read = clock(then.read_at)
    what = f"{twin}, its twin, as read {read}" if twin else f"its own reading of {read}{well}"
    result: Drift = drifted(then, facts, now, what, found.latest)
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.drift import drift_document

        common.put(to_json(drift_document(result)))
    else:
        from hollow_chain.show.drift import show_drift
        from hollow_chain.show.page import Page

        show_drift(Page(), result, everything)
    return int(bool(_row(found, name)["unwell"]))


def _file(row: dict[str, Any]) -> str:
    if not row.get("file"):
        raise Trouble(
            f"{row['host']} could not be read when the store was last added to: {row.get('why') or 'no reason is known'}"
        )
    return str(row["file"])


def _facts(store: Readings, file: str) -> tuple[Facts, Host]:
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph

    snapshot = store.snapshot(file)
    return Facts(Graph(snapshot)), snapshot.hosts[0]

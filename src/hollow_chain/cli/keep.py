"""``keep STORE``: what a store of readings holds; drop what is old, make its index anew."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, fleeting
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
    from datetime import datetime

    from hollow_chain.sources.readings import Readings


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("keep")(keep)


def keep(
    store: Annotated[str, typer.Argument(help="The store: a folder, or an address of fsspec.", show_default=False)],
    thin: Annotated[
        str,
        typer.Option("--thin", help="Drop the readings that are older: 90d, 12h, or a moment.", show_default=False),
    ] = "",
    index: Annotated[bool, typer.Option("--index", help="Make the index anew of the snapshots.")] = False,
    on: fleeting.On = "",
    json: common.Json = False,
) -> int:
    """Say what a store of readings holds; with --thin drop what is old, with --index make its index anew.

    'capture --keep STORE' adds to it. Exit status 3 where something in it cannot be read.
    """
    from hollow_chain.sources.readings import open_store

    spread = fleeting.spread(on, "an index of readings")
    found = open_store(store)
    document: dict[str, object] = {}
    troubles: list[str] = []
    if thin:
        document["dropped"] = _thin(found, common.moment_of(thin, "--thin"), json)
    if index:
        from hollow_chain.fleet.keeping import index_anew

        with fleeting.Working() as told:
            troubles = index_anew(found, spread, told)
    from hollow_chain.fleet.holding import holdings

    holds = holdings(found)
    troubles += holds.troubles
    for line in troubles:
        common.warn(line)
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.fleet import holdings_document

        common.put(to_json(holdings_document(holds) | document | {"troubles": troubles}))
    else:
        from hollow_chain.show.fleet import show_holdings
        from hollow_chain.show.page import Page

        show_holdings(Page(), holds)
    return 3 if troubles else 0


def _thin(found: Readings, before: datetime, json: bool) -> dict[str, object]:
    from hollow_chain.fleet.keeping import thin
    from hollow_chain.sources.readings import moment_of
    from hollow_chain.wording.counts import counted

    rounds = found.rounds()
    if rounds and moment_of(rounds[-1]) < before:
        raise wrong_call(
            f"nothing would be left: the newest of {found.said} is of {moment_of(rounds[-1]):%Y-%m-%d %H:%M:%SZ};"
            " to drop all of it, remove the store itself"
        )
    dropped = thin(found, before)
    if not json:
        common.put(f"dropped {counted(dropped.readings, 'reading')} of {counted(dropped.rounds, 'round')}")
    if dropped.hosts_gone:
        few = ", ".join(dropped.hosts_gone[:4]) + (" ..." if len(dropped.hosts_gone) > 4 else "")
        common.tell(f"{counted(len(dropped.hosts_gone), 'host')} no longer in it: {few}")
    return {"rounds": dropped.rounds, "readings": dropped.readings, "hosts_gone": dropped.hosts_gone}

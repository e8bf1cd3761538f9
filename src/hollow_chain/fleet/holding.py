"""What a store holds, at one look."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from hollow_chain.fleet.index import Index
from hollow_chain.sources.readings import Readings


class Holdings(NamedTuple):
    """What a store holds."""

    said: str
    rounds: int
    hosts: int
    readings: int
    first: datetime | None
    last: datetime | None
    troubles: list[str]


def holdings(store: Readings) -> Holdings:
    """What *store* holds, by its index; and what is not in that."""
    index = Index(store)
    table = index.hosts(["host", "kept_at", "read"])
    moments = sorted(moment for moment in table["kept_at"].to_pylist() if moment is not None)
    troubles = [*unindexed(store, index), *index.troubles]
    return Holdings(
        store.said,
        len(index.rounds()),
        len(set(table["host"].to_pylist())),
        sum(bool(read) for read in table["read"].to_pylist()),
        moments[0] if moments else None,
        moments[-1] if moments else None,
        list(dict.fromkeys(troubles)),
    )


def unindexed(store: Readings, index: Index) -> list[str]:
    """What was kept and is not in the index: a call was cut off, or a file of it was lost."""
    lacking = sorted(set(store.rounds()) - index.rounds())
    if not lacking:
        return []
    which = lacking[0].partition(".")[0] + ("" if len(lacking) == 1 else f" and {len(lacking) - 1} more")
    return [
        f"{store.said}: not in its index: the round of {which}; 'hollow-chain keep {store.said} --index' takes it in"
    ]

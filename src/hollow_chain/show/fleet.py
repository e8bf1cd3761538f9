"""What a store of readings holds, for a person and as a document."""

from __future__ import annotations

from hollow_chain.causes.words import clock
from hollow_chain.fleet.holding import Holdings
from hollow_chain.fleet.keeping import KeptRound
from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document, when
from hollow_chain.show.page import Page
from hollow_chain.wording.counts import counted


def show_holdings(page: Page, holds: Holdings) -> None:
    """Write what a store holds, in a line or two."""
    page.line((clean(holds.said, 200), "bold"))
    if not holds.rounds:
        page.line("It holds no reading yet.", indent=2)
        return
    page.line(
        f"{counted(holds.readings, 'reading')} of {counted(holds.hosts, 'host')}, kept in {counted(holds.rounds, 'round')}"
        f" from {clock(holds.first)} to {clock(holds.last)}",
        indent=2,
        hang=2,
    )


def holdings_document(holds: Holdings) -> Document:
    """The same as a document."""
    return {
        "format": "hollow-chain/holdings",
        "version": 1,
        "store": holds.said,
        "rounds": holds.rounds,
        "hosts": holds.hosts,
        "readings": holds.readings,
        "first": when(holds.first),
        "last": when(holds.last),
    }


def kept_document(store: str, kept: KeptRound, unread: int) -> Document:
    """What a call has kept."""
    return {
        "format": "hollow-chain/kept",
        "version": 1,
        "store": store,
        "round": kept.number,
        "hosts": kept.hosts,
        "not_read": unread,
        "bytes": kept.bytes,
        "troubles": kept.troubles,
    }

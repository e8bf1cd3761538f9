"""What was changed, and what differs, for a person and as a document."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from itertools import groupby
from typing import NamedTuple

from hollow_chain.causes.words import clock, span
from hollow_chain.facts.change import Change
from hollow_chain.facts.host import Host
from hollow_chain.lately.between import FAR, Divergence
from hollow_chain.lately.telling import told
from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document, change_entry, when
from hollow_chain.show.page import Page, age
from hollow_chain.show.signs import CAUTION
from hollow_chain.wording.counts import counted

_FEW = 3
"""So many changes of one kind at one time are written out; more are counted."""
_ONE_TIME = timedelta(minutes=2)
"""Between two changes that came with one and the same act: an update unpacks its files within that."""
MOST_LINES = 200
"""Lines that are written: five screens, which is more than anybody goes through."""


class ChangesWish(NamedTuple):
    """What is to be seen."""

    service: str = ""
    since: datetime | None = None
    everything: bool = False


def show_changes(page: Page, host: Host, changes: list[Change], wish: ChangesWish) -> None:
    """Write the changes of a host, the newest first; many at one time in one line."""
    title = f"{clean(wish.service, 120)} on {clean(host.name, 80)}" if wish.service else clean(host.name, 80)
    page.line((title, "bold"), (f"  {age(host.read_at)}", "dim"))
    if not changes:
        page.line(f"No change is on record{f' since {clock(wish.since)}' if wish.since else ''}.")
        return
    write_changes(page, changes, host.read_at, wish.everything)


def write_changes(page: Page, changes: list[Change], read_at: datetime | None, everything: bool = False) -> None:
    """A line a change, or a row of them; the newest first."""
    rows = list(rows_of(changes, everything))
    for at, text, source, about in rows[:MOST_LINES]:
        past = f", {span((read_at - at).total_seconds())} before the reading" if read_at and at <= read_at else ""
        page.line(
            (f"{clock(at)}  ", ""),
            clean(text, 400),
            (f"  {clean(about, 200)}" if about else "", "bold"),
            (f"  [{clean(source, 80)}{past}]", "dim"),
            indent=2,
            hang=4,
        )
    if len(rows) > MOST_LINES:
        page.line(f"... and {len(rows) - MOST_LINES} more lines; --json has them all", indent=2)
    if not everything and len(rows) < len(changes):
        page.line(("What came at one time is counted: --all lists it.", "dim"), indent=2)


class ChangeRow(NamedTuple):
    """A line about one change, or about a row of them."""

    at: datetime
    text: str
    source: str
    about: str = ""


def rows_of(changes: list[Change], everything: bool) -> Iterator[ChangeRow]:
    """The lines, the newest first; many changes of one kind at one time in one, unless *everything*."""
    newest = sorted(changes, key=lambda one: one.at, reverse=True)
    for _, group in groupby(newest, key=_Run()):
        row = list(group)
        if everything or len(row) <= _FEW:
            for one in row:
                about = ", ".join(name for name in one.services[:_FEW] if name not in one.what)
                yield ChangeRow(one.at, told(one), one.source, about)
        else:
            names = ", ".join(dict.fromkeys(_short(one) for one in row[:_FEW]))
            what = "file" if row[0].kind in ("definition", "program", "settings", "data", "system") else row[0].kind
            text = f"{counted(len(row), what)} {_did(row)}: {names} and {len(row) - _FEW} more"
            yield ChangeRow(row[0].at, text, row[0].source)


def _did(row: list[Change]) -> str:
    return row[0].did if len({one.did for one in row}) == 1 else "changed"


def _short(change: Change) -> str:
    return change.what.rpartition("/")[2] or change.what


class _Run:
    """Numbers rows of changes of one kind that came at one time."""

    def __init__(self) -> None:
        self._number = 0
        self._last: Change | None = None

    def __call__(self, change: Change) -> int:
        last = self._last
        mass = change.kind not in ("command", "account", "boot")
        if last is None or not mass or last.kind != change.kind or last.at - change.at > _ONE_TIME:
            self._number += 1
        self._last = change
        return self._number


def show_differences(page: Page, old: Host, new: Host, found: list[Divergence], everything: bool) -> None:
    """Write what differs between two readings, what is near to trouble first."""
    page.line(
        (f"{clean(old.name, 80)} {clock(old.read_at)}", "bold"),
        "  ->  ",
        (f"{clean(new.name, 80)} {clock(new.read_at)}", "bold"),
    )
    if not found:
        page.line("Nothing differs that both readings looked at.")
        return
    shown = found if everything else found[:_MOST_DIFFERENCES]
    for service, group in groupby(shown, key=lambda one: one.service):
        row = list(group)
        page.gap()
        near = "not well" if row[0].near == 0 else "needed by what is not well" if row[0].near < FAR else ""
        page.line((clean(service, 120) or "the host as a whole", "bold"), (f"  {near}" if near else "", CAUTION))
        for one in row:
            page.line(
                f"{clean(one.about, 160)}: {clean(one.before, 300) or 'none'}",
                (" -> ", "dim"),
                clean(one.after, 300) or "none",
                indent=3,
                hang=3,
            )
    page.gap()
    more = f" ({len(found) - len(shown)} not shown: --all)" if len(shown) < len(found) else ""
    page.line(f"{counted(len(found), 'difference')}{more}.")


_MOST_DIFFERENCES = 60
"""More than three screens nobody reads; what matters comes first."""


def changes_document(host: Host, changes: list[Change], wish: ChangesWish) -> Document:
    """``hollow-chain/changes``, version 1, the oldest change first."""
    return {
        "format": "hollow-chain/changes",
        "version": 1,
        "host": host.name,
        "service": wish.service or None,
        "read_at": when(host.read_at),
        "since": when(wish.since) if wish.since else None,
        "changes": [change_entry(change, host.name) for change in changes],
    }


def differences_document(old: Host, new: Host, found: list[Divergence]) -> Document:
    """``hollow-chain/differences``, version 1, what is nearest to trouble first."""
    return {
        "format": "hollow-chain/differences",
        "version": 1,
        "old": {"host": old.name, "read_at": when(old.read_at)},
        "new": {"host": new.name, "read_at": when(new.read_at)},
        "differences": [
            {
                "service": one.service or None,
                "about": one.about,
                "before": one.before or None,
                "after": one.after or None,
                "links_from_trouble": one.near if one.near < FAR else None,
            }
            for one in found
        ],
    }

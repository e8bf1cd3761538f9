"""``--out`` of what can be handed on: one page, as HTML or as Markdown."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

import typer

from hollow_chain.cli import common
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
    from hollow_chain.facts import Snapshot
    from hollow_chain.show.sheet import Sheet

Out = Annotated[
    Path | None,
    typer.Option(
        "--out", help="Write a page to hand on: .html or .md; it needs nothing else to be read.", show_default=False
    ),
]
Audience = Literal["technician", "customer"]
ForWhom = Annotated[
    Audience,
    typer.Option("--for", help="For whom the page is: a customer's is without accounts, paths, addresses, logs."),
]
PAGES = (".html", ".md")


def check(out: Path | None, whom: Audience, others: tuple[str, ...] = ()) -> None:
    """Refuse a file of an unknown kind before anything is read, and a reader where there is no page. *others*: endings that the
    command has besides."""
    if out is None:
        if whom != "technician":
            raise wrong_call("--for says for whom a page is; name its file with --out")
        return
    ending = out.suffix.lower()
    if ending not in (*PAGES, *others):
        raise wrong_call(f"cannot write {out}: give it one of the endings {', '.join((*PAGES, *others))}")
    if ending in others and whom != "technician":
        raise wrong_call(f"--for is of pages ({', '.join(PAGES)}); {out} is a picture")


def write(sheet: Sheet, out: Path, whom: Audience, snapshot: Snapshot | None = None) -> None:
    """Write *sheet* into *out*, whole or not at all."""
    from hollow_chain import __version__
    from hollow_chain.ticket.writing import for_others, written_page

    if whom == "customer":
        from hollow_chain.ticket.plans import who
        from hollow_chain.wording.discreet import Discreet, accounts_of, paths_of

        accounts = accounts_of(snapshot) if snapshot is not None else set()
        paths = paths_of(snapshot) if snapshot is not None else set()
        sheet = for_others(sheet, Discreet({*accounts, who()}, paths).text)
    common.write_private(out, written_page(sheet, out.suffix.lower(), __version__).encode())


def said(out: Path, summary: str, aside: bool) -> None:
    """Say that the page was written; beside a document, on standard error."""
    if aside:
        common.tell(f"wrote {out}")
    else:
        common.put(f"wrote {common.shown(out)}: {common.shown(summary)}")

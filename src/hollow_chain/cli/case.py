"""``case``: the verdicts that were kept, and what it really was."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, completing, ticketing
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
    from hollow_chain.experience.store import Store

Number = Annotated[int, typer.Argument(help="Number of the case.", show_default=False)]
Note = Annotated[str, typer.Option("--note", help="A word for those who come after.", show_default=False)]


def register(app: typer.Typer) -> None:
    """Add the group of commands."""
    group = typer.Typer(
        help="Cases that were kept: list and show them, confirm or correct the cause. Confirmed cases move the priors of 'why'.",
        no_args_is_help=True,
    )
    group.command("list")(list_)
    for command in (show, confirm, correct):
        group.command(command.__name__)(command)
    app.add_typer(group, name="case")


def list_(
    cause: Annotated[str, typer.Option("--cause", help="Only those with this cause.", show_default=False)] = "",
    host: common.HostName = "",
    standing: Annotated[
        str, typer.Option("--standing", help="Only 'open' ones, or 'judged' ones.", show_default=False)
    ] = "",
    store: common.Store = "",
    json: common.Json = False,
) -> int:
    """List the cases, the latest first."""
    if standing not in ("", "open", "judged"):
        raise wrong_call(f"{standing!r} is no standing; there are: open, judged")
    found = _store(store, looks=True).list(cause, host, standing)
    if json:
        from hollow_chain.show.cases import cases_document
        from hollow_chain.show.documents import to_json

        common.put(to_json(cases_document(found)))
    else:
        from hollow_chain.show.cases import show_cases
        from hollow_chain.show.page import Page

        show_cases(Page(), found, common.learned(store))
    return 0


def show(
    number: Number,
    store: common.Store = "",
    out: ticketing.Out = None,
    whom: ticketing.ForWhom = "technician",
    json: common.Json = False,
) -> int:
    """Show one case whole: what was found, what was done, what came of it."""
    ticketing.check(out, whom)
    found = _store(store, looks=True).case(number)
    if json:
        from hollow_chain.show.cases import case_document
        from hollow_chain.show.documents import to_json

        common.put(to_json(case_document(found, whole=True)))
    if out is not None:
        from hollow_chain.ticket.cases import case_sheet

        ticketing.write(case_sheet(found), out, whom)
        ticketing.said(out, found.summary, json)
    elif not json:
        from hollow_chain.show.cases import show_case
        from hollow_chain.show.page import Page

        show_case(Page(), found)
    return 0


def confirm(number: Number, note: Note = "", store: common.Store = "") -> int:
    """Say that the verdict of a case was right."""
    cases = _store(store)
    known = cases.case(number)
    if not known.cause:
        raise wrong_call(f"case {number} names no cause that could be confirmed; say what it was with 'case correct'")
    cases.judge(number, known.cause, known.place, note)
    common.put(f"case {number}: {common.shown(known.cause)} at {common.shown(known.place)} is confirmed")
    return 0


def correct(
    number: Number,
    cause: Annotated[
        str,
        typer.Argument(
            help="What it really was: a cause of the catalogue.", show_default=False, autocompletion=completing.causes
        ),
    ],
    place: Annotated[str, typer.Option("--place", help="The service that it was at.", show_default=False)] = "",
    note: Note = "",
    store: common.Store = "",
) -> int:
    """Say what a case really was."""
    from hollow_chain.causes import catalogue

    known = [rule.cause for rule in catalogue()]
    if cause not in known:
        from hollow_chain.wording.near import nearest

        near = [one.name for one in nearest(cause, known, 4, 50)]
        offered = f"; near: {', '.join(near)}" if near else ""
        raise wrong_call(f"{cause!r} is no cause of the catalogue{offered}")
    judged = _store(store).judge(number, cause, place, note)
    if judged.standing == "confirmed":
        common.put(f"case {number}: {cause} is confirmed")
    else:
        where = f" at {common.shown(place)}" if place else ""
        common.put(f"case {number}: it was {cause}{where}, not {common.shown(judged.cause) or 'nothing'}")
    return 0


def _store(given: str, looks: bool = False) -> Store:
    """The store; one that is not there is made, but not for a call that only *looks*: that finds it empty."""
    from hollow_chain.experience.place import url_of
    from hollow_chain.experience.store import Store, is_there

    url = url_of(given)
    return Store(url if not looks or is_there(url) else "sqlite://")

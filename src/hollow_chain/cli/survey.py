"""``survey [WORDS]``: many hosts, what is wrong where, and what those have in common."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal, NamedTuple

import typer

from hollow_chain.cli import common, completing, fleeting
from hollow_chain.trouble import FACTS_UNREADABLE, Trouble, wrong_call

if TYPE_CHECKING:
    from collections.abc import Callable

    from hollow_chain.facts.host import UnreachedHost
    from hollow_chain.fleet.latest import LatestFound
    from hollow_chain.fleet.surveying import Survey
    from hollow_chain.fleet.work import HostWork, Spreader
    from hollow_chain.show.survey import SurveyWish

By = Literal["", "group", "system", "family", "cause", "service"]
ENDINGS = (".html", ".md", ".parquet")


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("survey")(survey)


def survey(
    words: Annotated[
        str,
        typer.Argument(
            help="Services: any part of their names. Default: all.",
            show_default=False,
            autocompletion=completing.targets,
        ),
    ] = "",
    source: Annotated[
        list[str] | None,
        typer.Option(
            "--from",
            help="A store of readings, a folder of snapshots, a file of hosts (.toml), or any other place that facts come from.",
            show_default=False,
        ),
    ] = None,
    by: Annotated[By, typer.Option("--by", help="Count the hosts by this as well.")] = "",
    unwell: Annotated[bool, typer.Option("--unwell", help="Only hosts that are not well, or not read.")] = False,
    since: Annotated[
        str,
        typer.Option("--since", help="Only what has gone wrong since: 90m, 2h, 3d, or a moment.", show_default=False),
    ] = "",
    everything: Annotated[bool, typer.Option("--all", help="Also every host that is well, line by line.")] = False,
    rehearse: Annotated[
        int,
        typer.Option(
            "--rehearse",
            min=0,
            max=10_000,
            help="Rehearse the next boot of each host so often: what runs now and will be down after it.",
            show_default=False,
        ),
    ] = 0,
    every: Annotated[
        str,
        typer.Option(
            "--every",
            help="Ask again and again, each 5m, 1h: only what has changed, as lines of JSON.",
            show_default=False,
        ),
    ] = "",
    rounds: Annotated[
        int, typer.Option("--rounds", min=0, help="With --every: end after so many rounds. 0: never.")
    ] = 0,
    on: fleeting.On = "",
    at_once: common.AtOnce = common.AT_ONCE,
    within: common.Within = common.WITHIN,
    out: Annotated[
        Path | None,
        typer.Option(
            "--out",
            help="Write a page to hand on (.html, .md), or the hosts as a table (.parquet).",
            show_default=False,
        ),
    ] = None,
    json: common.Json = False,
) -> int:
    """Say of many hosts which are well and which are not, what is wrong, the commonest first, and what those hosts have in common.

    With --every it goes on until it is ended, and writes what changes: services that go down, come up, or will be down after the next
    boot. Exit status 1 where a host is not well, 3 where none is and some could not be read; with --every that of the last round.
    """
    if out is not None and out.suffix.lower() not in ENDINGS:
        raise wrong_call(f"cannot write {out}: give it one of the endings {', '.join(ENDINGS)}")
    if unwell and everything:
        raise wrong_call("--all shows the hosts that are well, and --unwell leaves them out")
    spread = fleeting.spread(on, "survey")
    from hollow_chain.show.survey import SurveyWish

    start = common.moment_of(since, "--since") if since else None

    def surveyed() -> tuple[Survey, int]:
        from hollow_chain.fleet.surveying import begun_since, survey

        found = _latest(source, words, spread, _Ways(at_once, within, rehearse))
        result = survey(found.latest)
        for line in found.troubles:
            common.warn(line)
        told = begun_since(result, start) if start is not None else result
        return told, _status(told, found.troubles)

    if every or rounds:
        return _watched(surveyed, every, rounds, by or out or since)
    result, status = surveyed()
    _tell(result, SurveyWish(words, by, unwell, everything), out, json)
    return status


def _watched(surveyed: Callable[[], tuple[Survey, int]], every: str, rounds: int, of_one: object) -> int:
    from hollow_chain.cli.watching import watch

    if not every:
        raise wrong_call("--rounds is of --every: say how often")
    if of_one:
        raise wrong_call("--every writes lines of what changes: leave out --by, --since and --out")
    with common.each_warning_once():
        return watch(surveyed, common.seconds_of(every, "--every"), rounds)


def _status(result: Survey, troubles: list[str]) -> int:
    """What could not be read may hold what is not well: where nothing else is wrong, that is no all-clear."""
    stands = {line.stands for line in result.lines}
    return 1 if "not well" in stands else FACTS_UNREADABLE if "not read" in stands or troubles else 0


class _Ways(NamedTuple):
    """How hosts are come to, and what is done with each."""

    at_once: int
    within: str
    boots: int


def _latest(source: list[str] | None, words: str, spread: Spreader, ways: _Ways) -> LatestFound:
    """The newest reading of each host that *source* means."""
    from hollow_chain.fleet.latest import of_store, of_work, work_in, work_of_store, work_on
    from hollow_chain.sources.readings import is_store, open_store

    def diagnosed(work: list[HostWork], unreached: list[UnreachedHost], groups: dict[str, list[str]]) -> LatestFound:
        rehearsed = [one._replace(boots=ways.boots) for one in work]
        with fleeting.Working() as told:
            return of_work(rehearsed, unreached, groups, spread, told, words)

    if source and len(source) == 1:
        if is_store(source[0]) or _is_elsewhere(source[0]):
            store = open_store(source[0])
            if not store.rounds():
                raise Trouble(f"{source[0]} holds no reading yet; 'hollow-chain capture --keep {source[0]}' adds one")
            return diagnosed(*work_of_store(store)) if ways.boots else of_store(store, words)
        folder = Path(source[0])
        if folder.is_dir():
            work, doubled = work_on(folder)
            for line in doubled:
                common.warn(line)
            if not work:
                raise Trouble(f"cannot read {folder}: no store of readings, and no snapshot file in it")
            return _read(diagnosed(work, [], {}))
    groups: dict[str, list[str]] = {}
    snapshot = common.load(
        source, with_claims=True, with_versions=True, at_once=ways.at_once, within=ways.within, groups=groups
    )
    return diagnosed(work_in(snapshot, groups), snapshot.unreached, groups)


def _is_elsewhere(named: str) -> bool:
    """Whether it is the address of a store somewhere else, and none of a host."""
    from hollow_chain.reach.address import SCHEMES

    scheme, told, _ = named.partition("://")
    return bool(told) and scheme.lower() not in SCHEMES


def _read(found: LatestFound) -> LatestFound:
    if not found.latest.hosts.num_rows:
        raise Trouble(found.troubles[0] if found.troubles else "no host could be read")
    return found


def _tell(result: Survey, wish: SurveyWish, out: Path | None, json: bool) -> None:
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.survey import survey_document

        common.put(to_json(survey_document(result, wish)))
    if out is not None:
        _write(result, wish, out, json)
    elif not json:
        from hollow_chain.show.page import Page
        from hollow_chain.show.survey import show_survey

        show_survey(Page(), result, wish)


def _write(result: Survey, wish: SurveyWish, out: Path, json: bool) -> None:
    from hollow_chain.cli.ticketing import said, write
    from hollow_chain.show.survey import lead

    if out.suffix.lower() == ".parquet":
        from hollow_chain.fleet.table import table_bytes

        common.write_private(out, table_bytes(result))
    else:
        from hollow_chain.ticket.surveys import survey_sheet

        write(survey_sheet(result, wish), out, "technician")
    said(out, lead(result), json)

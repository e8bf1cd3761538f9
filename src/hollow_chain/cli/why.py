"""``why TARGET``: the hollow link behind a service."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, completing, finding, ticketing
from hollow_chain.trouble import FACTS_UNREADABLE, wrong_call

if TYPE_CHECKING:
    from collections.abc import Iterator

    from hollow_chain.causes import Facts
    from hollow_chain.facts import Snapshot
    from hollow_chain.verdict import Verdict

MOST_SAID = 4000
"""Characters of what the user saw that are read, as many as of a record."""


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("why")(why)


def why(
    target: Annotated[
        str,
        typer.Argument(
            help="Service: any part of its name, first letters, program, or port.",
            show_default=False,
            autocompletion=completing.targets,
        ),
    ] = "",
    source: common.From = None,
    host: common.HostName = "",
    says: Annotated[
        str, typer.Option("--says", help="The message or number that the user saw.", show_default=False)
    ] = "",
    everything: Annotated[
        bool, typer.Option("--all", help="Every service that is not well, instead of a TARGET.")
    ] = False,
    logs: common.Logs = None,
    columns: common.Columns = "",
    keep: Annotated[bool, typer.Option("--keep", help="Keep the verdict as a case; see 'hollow-chain case'.")] = False,
    store: common.Store = "",
    at_once: common.AtOnce = common.AT_ONCE,
    within: common.Within = common.WITHIN,
    probe: common.Probing = False,
    before: Annotated[
        str,
        typer.Option(
            "--before",
            help="A store of readings: when TARGET was last well, and what was changed since. A file of hosts may name it.",
            show_default=False,
        ),
    ] = "",
    out: ticketing.Out = None,
    whom: ticketing.ForWhom = "technician",
    json: common.Json = False,
) -> int:
    """Name the hollow link behind TARGET, the chain down to it, the evidence, and what mends it.

    Exit status 1 if a cause was named, 0 if nothing is wrong (a service that is only not yet up included), 3 if nobody tells how it stands.
    """
    if everything and before:
        raise wrong_call("--before is of one TARGET: 'survey' and 'drift' are of many")
    if bool(target.strip()) == everything:
        raise wrong_call("name one TARGET, or give --all for every service that is not well")
    ticketing.check(out, whom)

    def load() -> Snapshot:
        return common.load(
            source, target, logs=logs, columns=columns, host=host, at_once=at_once, within=within, probe=probe
        )

    snapshot = load()
    from time import sleep

    from hollow_chain.causes import Facts
    from hollow_chain.causes.standing import unsettled
    from hollow_chain.chain import Graph
    from hollow_chain.verdict import diagnose

    facts = Facts(Graph(snapshot))
    facts.learned = common.learned(store)
    if everything:
        return _all(facts, finding.hosts_named(facts.graph, host), json, out, whom)
    node = finding.find_target(facts.graph, target, host, True)
    if common.is_asked_now(source) and (left := unsettled(node.service, facts.index(node.host).host)):
        # It came up a moment ago: whether it stays shows only by and by, and "it runs" would be said too early.
        sleep(left)
        learned, facts = facts.learned, Facts(Graph(load()))
        facts.learned, node = learned, finding.find_target(facts.graph, target, host, True)
    verdict = diagnose(facts, node, says[:MOST_SAID])
    if (named := before or _named_store(source)) and verdict.causes:
        verdict = _with_before(named, facts, verdict)
    if json:
        from hollow_chain.show.documents import to_json, verdict_document

        common.put(to_json(verdict_document(verdict)))
    if out is not None:
        from hollow_chain.ticket.verdicts import verdict_sheet

        ticketing.write(verdict_sheet(facts, verdict, says[:MOST_SAID]), out, whom, facts.graph.document)
        ticketing.said(out, verdict.summary, json)
    elif not json:
        from hollow_chain.show.page import Page
        from hollow_chain.show.why import show_verdict

        show_verdict(Page(), facts, verdict)
    if keep:
        _keep(verdict, store)
    if verdict.is_untold:
        return FACTS_UNREADABLE
    return 0 if verdict.healthy else 1


def _named_store(source: common.Source) -> str:
    """The store of readings that a file of hosts names."""
    files = [Path(one) for one in source or () if one.endswith(".toml")]
    if not files:
        return ""
    from hollow_chain.sources import hosts_file

    return next((_from(place.parent, found) for place in files if (found := hosts_file.read(place).readings)), "")


def _from(folder: Path, named: str) -> str:
    return named if "://" in named else str(folder / named)


def _with_before(named: str, facts: Facts, verdict: Verdict) -> Verdict:
    from hollow_chain.cli import fleeting
    from hollow_chain.sources.readings import open_store

    fleeting.spread("", "--before")
    from hollow_chain.fleet.before import well_before, with_before

    store = open_store(named)
    found = well_before(store, facts, verdict)
    if found is None:
        common.tell(f"no earlier reading of {verdict.target.host} in {named} has {verdict.target.name} well")
        return verdict
    return with_before(verdict, found)


def _keep(verdict: Verdict, store: str) -> None:
    from hollow_chain.experience.place import url_of
    from hollow_chain.experience.store import Store
    from hollow_chain.show.documents import verdict_document

    number = Store(url_of(store)).keep(verdict_document(verdict))
    common.tell(f"kept as case {number}; say what it really was with 'hollow-chain case confirm {number}'")


def _all(facts: Facts, hosts: list[str], json: bool, out: Path | None, whom: ticketing.Audience) -> int:
    from hollow_chain.verdict import diagnose_all

    found: Iterator[Verdict] = (verdict for verdict in diagnose_all(facts) if verdict.target.host in hosts)
    if out is not None:
        from hollow_chain.ticket.verdicts import all_sheet

        verdicts = list(found)
        sheet = all_sheet(facts, verdicts, hosts)
        ticketing.write(sheet, out, whom, facts.graph.document)
        ticketing.said(out, sheet.lead, json)
        found = iter(verdicts)
    if json:
        from hollow_chain.show.documents import verdicts_json

        pieces = 0
        for piece in verdicts_json(facts, found, hosts):
            common.put_piece(piece)
            pieces += 1
        common.put("")
        return int(pieces > 1)
    from hollow_chain.show.page import Page
    from hollow_chain.show.why import show_all

    verdicts = list(found)
    if out is None:
        show_all(Page(), facts, verdicts)
    return 1 if verdicts else 0

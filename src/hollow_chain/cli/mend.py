"""``mend TARGET``: a plan, proven in rehearsal; carried out, and taken back."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from hollow_chain.cli import common, completing, finding, ticketing
from hollow_chain.cli.carrying_out import (
    Later,
    agree,
    carrier_of,
    keep_case,
    later,
    show_outcome_of,
    status_of,
    told_when_interrupted,
)
from hollow_chain.cli.chair import Chair
from hollow_chain.trouble import Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Node
    from hollow_chain.facts.host import Host
    from hollow_chain.mend.hands import Hands
    from hollow_chain.mend.outcome import MendOutcome
    from hollow_chain.mend.plan import Plan
    from hollow_chain.verdict import Verdict


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("mend")(mend)


def mend(
    target: Annotated[
        str,
        typer.Argument(
            help="Service, as for 'why'; with --undo or --resume: the name of a mend.",
            show_default=False,
            autocompletion=completing.targets,
        ),
    ] = "",
    source: common.From = None,
    host: common.HostName = "",
    apply: Annotated[
        bool,
        typer.Option(
            "--apply",
            help="Carry the plan out: on this machine, on hosts over the network, or on a stand-in host (--from).",
        ),
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask before it is carried out.")] = False,
    undo: Annotated[
        bool, typer.Option("--undo", help="Undo a mend: the one that is named, else the latest. Shows what, and asks.")
    ] = False,
    resume: Annotated[bool, typer.Option("--resume", help="Go on with a mend that was interrupted.")] = False,
    done: Annotated[
        int | None,
        typer.Option(
            "--done",
            min=1,
            help="Step N of a mend that waits for you is done: look whether it is, and go on.",
            show_default=False,
        ),
    ] = None,
    may_stop: Annotated[
        list[str] | None,
        typer.Option(
            "--may-stop",
            help="A service that may be stopped for it. May be given again.",
            show_default=False,
            autocompletion=completing.targets,
        ),
    ] = None,
    reboot: Annotated[bool, typer.Option("--reboot", help="A stand-in host may be rebooted for it.")] = False,
    now_only: Annotated[
        bool, typer.Option("--now-only", help="Only until the next reboot: leave startup types as they are.")
    ] = False,
    watch: Annotated[
        float, typer.Option("--watch", min=0, max=3600, help="For how many seconds to watch whether it stays.")
    ] = 5.0,
    observe: Annotated[
        bool,
        typer.Option("--observe", help="Where the plan does not hold: start it once more, and watch what it does."),
    ] = False,
    runs: Annotated[
        int | None,
        typer.Option(
            "--runs",
            min=20,
            max=100_000,
            help="How many rehearsals for the proof. Default: until it is certain, at most 1,000.",
            show_default=False,
        ),
    ] = None,
    seed: Annotated[int, typer.Option("--seed", help="Equal seeds give equal results.")] = 1,
    within: common.Within = common.WITHIN,
    commands: Annotated[
        bool,
        typer.Option(
            "--commands", help="Under each step the lines of a shell that do the same by hand (systemd hosts)."
        ),
    ] = False,
    store: common.Store = "",
    out: ticketing.Out = None,
    whom: ticketing.ForWhom = "technician",
    json: common.Json = False,
) -> int:
    """Plan what mends TARGET, and prove the plan in rehearsal; --apply carries it out, --undo undoes it.

    A step by hand is asked for when its turn comes; without a terminal the mend waits for --done.

    Exit status: 0 nothing to mend, or it was carried out and holds; 1 a plan was made (or none can be offered), or it waits for
    a step by hand; 4 it was carried out and did not hold.
    """
    if apply + undo + resume + (done is not None) > 1:
        raise wrong_call("--apply, --done, --undo and --resume exclude one another")
    ticketing.check(out, whom)
    if undo or resume or done is not None:
        if out is not None:
            raise wrong_call("--out writes a page about a plan; of a mend that was made, 'hollow-chain case show' does")
        return later(target, source, Later(undo, done, watch, store, json, yes, within=within))
    if not target.strip():
        raise wrong_call("name one TARGET; such as: hollow-chain mend nginx")
    wish = MendWish(
        tuple(may_stop or ()),
        reboot,
        now_only,
        runs,
        seed,
        apply,
        yes,
        watch,
        store,
        json,
        observe,
        commands,
        out,
        whom,
        within,
    )
    return _plan(target, source, host, wish)


class MendWish(NamedTuple):
    """What a call asks for, beside its target."""

    may_stop: tuple[str, ...]
    reboot: bool
    now_only: bool
    runs: int | None
    seed: int
    apply: bool
    yes: bool
    watch: float
    store: str
    json: bool
    observe: bool = False
    commands: bool = False
    out: Path | None = None
    whom: ticketing.Audience = "technician"
    within: str = common.WITHIN


def _plan(target: str, source: common.Source, host: str, wish: MendWish) -> int:
    with Chair(source, wish.within) as chair:
        return _planned(target, chair, host, wish)


def _planned(target: str, chair: Chair, host: str, wish: MendWish) -> int:
    source = chair.source
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.mend.planning import Planner
    from hollow_chain.verdict import diagnose

    hands = common.hands_of(source, target) if wish.apply and not chair.is_far else None
    facts = Facts(Graph(chair.load(target, with_claims=True, with_packages=True)))
    facts.learned = common.learned(wish.store)
    node = finding.find_target(facts.graph, target, host, True)
    if wish.apply and chair.is_far:
        hands = chair.hands(facts.graph.document, target)
        hands.host = node.host
    given_up = tuple(_given_up(facts, name, node.host) for name in wish.may_stop)
    verdict = diagnose(facts, node)
    with common.Telling() as told:
        plan = Planner(facts, wish.now_only, given_up, wish.reboot, wish.runs, wish.seed, told).plan(verdict)
    if hands is None or not plan.tries or not plan.offered:
        if wish.out is None or wish.json:
            _show(plan, None, wish.json, hosts=facts.graph.hosts if wish.commands else None)
        _write(facts, plan, verdict, wish)
        if hands is not None and plan.tries:
            common.warn("the plan failed its proof, so it is not carried out")
        return int(bool(plan.tries))
    if not wish.json:
        _show(plan, None, False, is_carried_out=True, hosts=facts.graph.hosts if wish.commands else None)
    outcome = _carry(hands, plan, verdict, wish)
    _write(facts, plan, verdict, wish, outcome)
    failed = not outcome.well and outcome.waits_for is None
    place = verdict.causes[0].place if verdict.causes and verdict.causes[0].place.service is not None else node
    if wish.json:
        seen = once_more(source, facts, place, wish.store, True) if failed and wish.observe else None
        show_outcome_of(plan, outcome, True, seen)
        return status_of(outcome)
    show_outcome_of(plan, outcome, False)
    if failed and (wish.observe or _wants_a_look(place.name)):
        once_more(source, facts, place, wish.store, False)
    return status_of(outcome)


def _given_up(facts: Facts, name: str, host: str) -> str:
    """The service that may be stopped: of the target's host, or of another one of the chain."""
    from hollow_chain.chain import best, search

    others = [one for one in facts.graph.hosts if one != host]
    if others and not best(search(facts.graph, name, [host])) and best(search(facts.graph, name, others)):
        return finding.find_target(facts.graph, name, "").name
    return finding.find_target(facts.graph, name, host).name


def _write(facts: Facts, plan: Plan, verdict: Verdict, wish: MendWish, outcome: MendOutcome | None = None) -> None:
    """Write the page that was asked for."""
    if wish.out is None:
        return
    from hollow_chain.ticket.plans import plan_sheet

    ticketing.write(plan_sheet(facts, plan, verdict, outcome), wish.out, wish.whom, facts.graph.document)
    ticketing.said(wish.out, verdict.summary, wish.json or outcome is not None)


def once_more(source: common.Source, facts: Facts, place: Node, store: str, json: bool) -> dict[str, object] | None:
    """Watch one more start, where there is anything to start."""
    from hollow_chain.cli import observing

    try:
        return observing.once_more(source, facts, place, store, json)
    except Trouble as trouble:
        common.warn(str(trouble))
        return None


def _wants_a_look(name: str) -> bool:
    """Whether whoever sits there wants one more start to be watched."""
    if not (sys.stdin.isatty() and sys.stderr.isatty()):
        return False
    from hollow_chain.cli.asking import says_yes

    return says_yes(f"Start {common.shown(name)} once more, and watch what it does?")


def _carry(hands: Hands, plan: Plan, verdict: Verdict, wish: MendWish) -> MendOutcome:
    import time

    from hollow_chain.mend.journal import locked
    from hollow_chain.show.documents import verdict_document
    from hollow_chain.show.mend import plan_document

    carrier = carrier_of(hands, wish.watch)
    carrier.check(plan)
    if not wish.yes:
        agree(hands, hosts={step.host for one in plan.tries for step in one.steps if step.act is not None})
    began = time.monotonic()
    with locked(hands.place), told_when_interrupted(hands):
        outcome = carrier.apply(plan)
    took = time.monotonic() - began
    outcome.named = hands.named
    if outcome.waits_for is not None:
        return outcome
    how = "held" if outcome.well else "not held"
    documents = verdict_document(verdict), plan_document(plan, outcome)
    number = keep_case(wish.store, lambda cases: cases.keep(*documents, outcome.id, how, round(took, 3)))
    outcome.case = number if isinstance(number, int) else None
    return outcome


def _show(
    plan: Plan,
    outcome: MendOutcome | None,
    json: bool,
    is_carried_out: bool = False,
    hosts: Mapping[str, Host] | None = None,
) -> None:
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.mend import plan_document

        common.put(to_json(plan_document(plan, outcome)))
    else:
        from hollow_chain.show.mend import show_plan
        from hollow_chain.show.page import Page

        page = Page()
        show_plan(page, plan, is_carried_out, hosts)
        if is_carried_out and sys.stderr.isatty():
            page.gap()

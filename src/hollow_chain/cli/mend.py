"""``mend TARGET``: a plan, proven in rehearsal; carried out, and taken back."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common
from hollow_chain.trouble import MEND_DID_NOT_HOLD, wrong_call

if TYPE_CHECKING:
    from hollow_chain.mend.carrying import Carrier, Outcome
    from hollow_chain.mend.hands import Hands
    from hollow_chain.mend.plan import Plan
    from hollow_chain.verdict import Verdict


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("mend")(mend)


def mend(
    target: Annotated[
        str,
        typer.Argument(help="Service, as for 'why'; with --undo or --resume: the name of a mend.", show_default=False),
    ] = "",
    source: common.From = None,
    host: common.HostName = "",
    apply: Annotated[
        bool,
        typer.Option("--apply", help="Carry the plan out: on this machine, or on a stand-in host (--from its folder)."),
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask before it is carried out.")] = False,
    undo: Annotated[
        bool, typer.Option("--undo", help="Take a mend back: the one that is named, else the latest.")
    ] = False,
    resume: Annotated[bool, typer.Option("--resume", help="Go on with a mend that was interrupted.")] = False,
    give_up: Annotated[
        list[str] | None,
        typer.Option("--give-up", help="A service that may be stopped for it. May be given again.", show_default=False),
    ] = None,
    reboot: Annotated[bool, typer.Option("--reboot", help="A stand-in host may be rebooted for it.")] = False,
    now_only: Annotated[
        bool, typer.Option("--now-only", help="Only until the next reboot: leave startup types as they are.")
    ] = False,
    watch: Annotated[
        float, typer.Option("--watch", min=0, max=3600, help="For how many seconds to watch whether it stays.")
    ] = 5.0,
    runs: Annotated[int, typer.Option("--runs", min=20, max=100_000, help="How many rehearsals for the proof.")] = 400,
    seed: Annotated[int, typer.Option("--seed", help="Equal seeds give equal results.")] = 1,
    json: common.Json = False,
) -> int:
    """Plan what mends TARGET, and prove the plan in rehearsal; --apply carries it out, --undo takes it back.

    Exit status: 0 nothing to mend, or it was carried out and holds; 1 a plan was made (or none can be offered); 4 it was carried
    out and did not hold.
    """
    if apply + undo + resume > 1:
        raise wrong_call("--apply, --undo and --resume exclude one another")
    if undo or resume:
        return _later(target, source, host, undo, watch, json)
    if not target.strip():
        raise wrong_call("name one TARGET; such as: hollow-chain mend nginx")
    return _plan(target, source, host, (tuple(give_up or ()), reboot, now_only, runs, seed), apply, yes, watch, json)


def _plan(
    target: str,
    source: Path | None,
    host: str,
    how: tuple[tuple[str, ...], bool, bool, int, int],
    apply: bool,
    yes: bool,
    watch: float,
    json: bool,
) -> int:
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.mend.planning import Planner
    from hollow_chain.verdict import diagnose

    given_up, reboot, now_only, runs, seed = how
    hands = _hands(source, target) if apply else None
    facts = Facts(Graph(common.load(source, target)))
    node = common.find_target(facts.graph, target, host)
    given_up = tuple(common.find_target(facts.graph, name, node.host).name for name in given_up)
    verdict = diagnose(facts, node)
    with common.waiting("rehearsing"):
        plan = Planner(facts, now_only, given_up, reboot, runs, seed).plan(verdict)
    if hands is None:
        _show(plan, None, json)
        return int(bool(plan.tries))
    if not plan.tries:
        _show(plan, None, json)
        return 0
    if not json:
        _show(plan, None, False, is_carried_out=True)
    if not plan.offered:
        if json:
            _show(plan, None, True)
        common.warn("the plan failed its proof, so it is not carried out")
        return 1
    outcome = _carry(hands, plan, verdict, yes, watch)
    _show_outcome(plan, outcome, json)
    return 0 if outcome.well else MEND_DID_NOT_HOLD


def _carry(hands: Hands, plan: Plan, verdict: Verdict, yes: bool, watch: float) -> Outcome:
    from hollow_chain.mend.journal import locked

    carrier = _carrier(hands, watch)
    if not yes:
        if not sys.stdin.isatty():
            raise wrong_call("--apply asks first, and nobody is there to answer: add --yes")
        sys.stderr.write(f"Carry this out on {common.shown(hands.host)}? [y/N] ")
        sys.stderr.flush()
        if sys.stdin.readline().strip().lower() not in ("y", "yes"):
            raise wrong_call("not carried out; nothing was changed")
    carrier.check(plan)
    with locked(hands.place):
        return carrier.apply(plan)


def _later(words: str, source: Path | None, host: str, undo: bool, watch: float, json: bool) -> int:
    """Take back, or go on with, a mend that is on the journal."""
    from hollow_chain.mend import journal

    hands = _hands(source, "")
    carrier = _carrier(hands, watch)
    with journal.locked(hands.place):
        found = journal.find(hands.place, words.strip())
        if not undo and not words.strip():
            open_ones = [one for one in journal.all_in(hands.place) if not one.standing.closed]
            if not open_ones:
                raise wrong_call("no mend was interrupted; there is nothing to go on with")
            found = open_ones[-1]
        outcome = carrier.undo(found) if undo else carrier.resume(found)
    _show_outcome(None, outcome, json)
    return 0 if outcome.well else MEND_DID_NOT_HOLD


def _hands(source: Path | None, target: str) -> Hands:
    """What carries out: on this machine, or on the stand-in host in the folder *source*."""
    if source is None:
        from hollow_chain.mend.systemd_hands import SystemdHands

        return SystemdHands(common.unit_name(target))
    from hollow_chain.lab.state import FILE

    if not (source / FILE).is_file():
        raise wrong_call(
            f"{source} holds facts, not a host: a plan is carried out on this machine (without --from) or on a stand-in host"
        )
    from hollow_chain.mend.lab_hands import LabHands

    return LabHands(source)


def _carrier(hands: Hands, watch: float) -> Carrier:
    from hollow_chain.mend.carrying import Carrier

    def tell(text: str) -> None:
        sys.stderr.write(f"{common.shown(text)}\n")
        sys.stderr.flush()

    return Carrier(hands, tell, watch)


def _show(plan: Plan, outcome: Outcome | None, json: bool, is_carried_out: bool = False) -> None:
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.mend import plan_document

        common.put(to_json(plan_document(plan, outcome)))
    else:
        from hollow_chain.show.mend import show_plan
        from hollow_chain.show.page import Page

        show_plan(Page(), plan, is_carried_out)


def _show_outcome(plan: Plan | None, outcome: Outcome, json: bool) -> None:
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.mend import later_document, plan_document

        common.put(to_json(plan_document(plan, outcome) if plan is not None else later_document(outcome)))
    else:
        from hollow_chain.show.mend import show_outcome
        from hollow_chain.show.page import Page

        show_outcome(Page(), outcome)

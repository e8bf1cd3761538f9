"""``mend TARGET``: a plan, proven in rehearsal; carried out, and taken back."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Collection, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from hollow_chain.cli import common, completing, finding, ticketing
from hollow_chain.cli.chair import Chair
from hollow_chain.trouble import INTERRUPTED, MEND_DID_NOT_HOLD, SaidNo, Trouble, wrong_call

if TYPE_CHECKING:
    from collections.abc import Callable

    from hollow_chain.causes import Facts
    from hollow_chain.chain import Node
    from hollow_chain.experience.store import Store
    from hollow_chain.facts.host import Host
    from hollow_chain.mend.carrying import Carrier
    from hollow_chain.mend.hands import Hands
    from hollow_chain.mend.journal import MendJournal
    from hollow_chain.mend.outcome import MendOutcome
    from hollow_chain.mend.plan import Plan, Step
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
        return later(target, source, Later(undo, done, watch, store, json, yes))
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


def _plan(target: str, source: common.Source, host: str, wish: MendWish) -> int:
    with Chair(source) as chair:
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
        _show_outcome(plan, outcome, True, seen)
        return _status(outcome)
    _show_outcome(plan, outcome, False)
    if failed and (wish.observe or _wants_a_look(place.name)):
        once_more(source, facts, place, wish.store, False)
    return _status(outcome)


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


def _status(outcome: MendOutcome) -> int:
    return 0 if outcome.well else 1 if outcome.waits_for else MEND_DID_NOT_HOLD


def _carry(hands: Hands, plan: Plan, verdict: Verdict, wish: MendWish) -> MendOutcome:
    import time

    from hollow_chain.mend.journal import locked
    from hollow_chain.show.documents import verdict_document
    from hollow_chain.show.mend import plan_document

    carrier = _carrier(hands, wish.watch)
    carrier.check(plan)
    if not wish.yes:
        agree(hands, hosts={step.host for one in plan.tries for step in one.steps if step.act is not None})
    began = time.monotonic()
    with locked(hands.place), _told_when_interrupted(hands):
        outcome = carrier.apply(plan)
    took = time.monotonic() - began
    outcome.named = hands.named
    if outcome.waits_for is not None:
        return outcome
    how = "held" if outcome.well else "not held"
    documents = verdict_document(verdict), plan_document(plan, outcome)
    number = _keep(wish.store, lambda cases: cases.keep(*documents, outcome.id, how, round(took, 3)))
    outcome.case = number if isinstance(number, int) else None
    return outcome


@contextlib.contextmanager
def _told_when_interrupted(hands: Hands) -> Iterator[None]:
    """Ctrl-C in the middle leaves an open journal: say so, and how to go on."""
    from hollow_chain.mend.journal import all_in

    try:
        yield
    except KeyboardInterrupt:
        left = [one.id for one in all_in(hands.place) if not one.standing.closed]
        if not left:
            raise
        named = hands.named
        text = f"interrupted in the middle of the mend {left[-1]}: go on with 'hollow-chain mend --resume{named}', or undo it with '--undo{named}'"
        raise Trouble(text, INTERRUPTED) from None


def check(hands: Hands, plan: Plan) -> None:
    """Raise :class:`Trouble` where *plan* cannot be carried out here, by this user."""
    _carrier(hands, 0.0).check(plan)


def carried(hands: Hands, plan: Plan, watch: float, yes: bool) -> MendOutcome:
    """Carry *plan* out, after asking where that is not said already."""
    from hollow_chain.mend.journal import locked

    carrier = _carrier(hands, watch)
    carrier.check(plan)
    if not yes:
        agree(hands)
    with locked(hands.place), _told_when_interrupted(hands):
        outcome = carrier.apply(plan)
    outcome.named = hands.named
    return outcome


def agree(hands: Hands, undo: bool = False, hosts: Collection[str] = ()) -> None:
    """Ask whether it is to be carried out, or undone. Raises :class:`Trouble` where it is not."""
    option, what = ("--undo", "Undo") if undo else ("--apply", "Carry")
    if not sys.stdin.isatty():
        raise wrong_call(f"{option} asks first, and nobody is there to answer: add --yes")
    where = ", ".join(common.shown(host) for host in sorted(hosts)) or common.shown(hands.host)
    sys.stderr.write(f"{what} this{'' if undo else ' out'}{f' on {where}' if where else ''}? [y/N] ")
    sys.stderr.flush()
    if sys.stdin.readline().strip().lower() not in ("y", "yes"):
        raise SaidNo("not carried out")


def _keep(store: str, what: Callable[[Store], object]) -> object:
    """Tell the store of cases; what was done is done, so a store that cannot be reached is only a warning."""
    from hollow_chain.experience.place import url_of
    from hollow_chain.experience.store import Store

    try:
        return what(Store(url_of(store)))
    except Trouble as trouble:
        common.warn(f"{trouble}; this case is not kept")
        return None


class Later(NamedTuple):
    """What a call asks for of a mend that is on the journal."""

    undo: bool
    done: int | None
    watch: float
    store: str
    json: bool
    yes: bool = False
    does: tuple[str, ...] | None = None
    """What it does to its target; None: anything, a mend first of all."""


def later(words: str, source: common.Source, wish: Later) -> int:
    """Undo, or go on with, a mend that is on the journal."""
    with Chair(source) as chair:
        hands = chair.hands(chair.load(""), "") if chair.is_far else common.hands_of(source, "")
        return _later(words, hands, wish)


def _later(words: str, hands: Hands, wish: Later) -> int:
    from hollow_chain.mend import journal

    undo = wish.undo
    carrier = _carrier(hands, wish.watch)
    with journal.locked(hands.place):
        found = journal.find(hands.place, words.strip(), not undo, wish.done is not None, wish.does)
        if found.torn:
            common.warn(f"the last record of {found.path} was cut off and is left out: what it announced was not begun")
        if undo and not wish.json:
            _preview(found, carrier)
        if undo and not wish.yes:
            agree(hands, True)
        with _told_when_interrupted(hands):
            go_on = carrier.undo if undo else carrier.resume
            outcome = go_on(found) if wish.done is None else carrier.done(found, wish.done)
    outcome.named = hands.named
    if undo and outcome.well:
        _keep(wish.store, lambda cases: cases.undone(outcome.id, hands.host))
    _show_outcome(None, outcome, wish.json)
    return _status(outcome)


def _preview(found: MendJournal, carrier: Carrier) -> None:
    """Show what an undo would do."""
    from hollow_chain.show.mend import show_undo
    from hollow_chain.show.page import Page

    show_undo(Page(), found.id, found.head.target, found.head.at, carrier.to_undo(found))


def _carrier(hands: Hands, watch: float) -> Carrier:
    from hollow_chain.mend.carrying import Carrier
    from hollow_chain.mend.outcome import nobody

    def tell(text: str) -> None:
        if sys.stderr.isatty():
            sys.stderr.write(f" ... {common.shown(text)}\n")
            sys.stderr.flush()

    return Carrier(hands, tell, watch, _is_done if sys.stdin.isatty() else nobody)


def _is_done(number: int, step: Step) -> bool:
    """Ask whoever sits there whether a step for a person is done; as often as it is to be shown."""
    from hollow_chain.show.mend import show_step
    from hollow_chain.show.page import Page

    while True:
        sys.stderr.write(f"Step {number} is by hand: {common.shown(step.does)}\nDone? [y/N/show] ")
        sys.stderr.flush()
        answer = sys.stdin.readline().strip().lower()
        if answer not in ("s", "show"):
            return answer in ("y", "yes")
        show_step(Page(on_errors=True), number, step)


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


def _show_outcome(plan: Plan | None, outcome: MendOutcome, json: bool, seen: dict[str, object] | None = None) -> None:
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.mend import later_document, plan_document

        document = plan_document(plan, outcome) if plan is not None else later_document(outcome)
        common.put(to_json(document if seen is None else {**document, "observed": seen}))
    else:
        from hollow_chain.show.mend import show_outcome
        from hollow_chain.show.page import Page

        show_outcome(Page(), outcome)

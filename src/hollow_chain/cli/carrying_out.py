"""Carrying a plan out, or going on with one that is on the journal: what ``mend``, ``register`` and ``unregister`` share."""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Collection, Iterator
from typing import TYPE_CHECKING, NamedTuple

from hollow_chain.cli import common
from hollow_chain.cli.chair import Chair
from hollow_chain.trouble import FACTS_UNREADABLE, INTERRUPTED, MEND_DID_NOT_HOLD, SaidNo, Trouble, wrong_call

if TYPE_CHECKING:
    from collections.abc import Callable

    from hollow_chain.experience.store import Store
    from hollow_chain.mend.carrying import Carrier
    from hollow_chain.mend.hands import Hands
    from hollow_chain.mend.journal import MendJournal
    from hollow_chain.mend.outcome import MendOutcome
    from hollow_chain.mend.plan import Plan, Step


def status_of(outcome: MendOutcome) -> int:
    """The exit status that an outcome ends with."""
    return 0 if outcome.well else 1 if outcome.waits_for else MEND_DID_NOT_HOLD


@contextlib.contextmanager
def told_when_interrupted(hands: Hands) -> Iterator[None]:
    """Ctrl-C, or a host that is lost, in the middle leaves an open journal: say so, and how to go on."""
    from hollow_chain.mend.journal import all_in

    try:
        yield
    except (KeyboardInterrupt, Trouble) as end:
        left = [one.id for one in all_in(hands.place) if not one.standing.closed]
        if not left or (isinstance(end, Trouble) and end.status != FACTS_UNREADABLE):
            raise
        named = hands.named
        way = f"go on with 'hollow-chain mend --resume{named}', or undo it with '--undo{named}'"
        if isinstance(end, Trouble):
            raise Trouble(f"in the middle of the mend {left[-1]}: {end}", end.status, (*end.rows, way)) from None
        raise Trouble(f"interrupted in the middle of the mend {left[-1]}: {way}", INTERRUPTED) from None


def check(hands: Hands, plan: Plan) -> None:
    """Raise :class:`Trouble` where *plan* cannot be carried out here, by this user."""
    carrier_of(hands, 0.0).check(plan)


def carried(hands: Hands, plan: Plan, watch: float, yes: bool) -> MendOutcome:
    """Carry *plan* out, after asking where that is not said already."""
    from hollow_chain.mend.journal import locked

    carrier = carrier_of(hands, watch)
    carrier.check(plan)
    if not yes:
        agree(hands)
    with locked(hands.place), told_when_interrupted(hands):
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


def keep_case(store: str, what: Callable[[Store], object]) -> object:
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
    within: str = common.WITHIN
    """For how long each host over the network is waited for."""


def later(words: str, source: common.Source, wish: Later) -> int:
    """Undo, or go on with, a mend that is on the journal."""
    with Chair(source, wish.within) as chair:
        hands = chair.hands(chair.load(""), "") if chair.is_far else common.hands_of(source, "")
        return _later(words, hands, wish)


def _later(words: str, hands: Hands, wish: Later) -> int:
    from hollow_chain.mend import journal

    undo = wish.undo
    carrier = carrier_of(hands, wish.watch)
    with journal.locked(hands.place):
        found = journal.find(hands.place, words.strip(), not undo, wish.done is not None, wish.does)
        if found.torn:
            common.warn(f"the last record of {found.path} was cut off and is left out: what it announced was not begun")
        if undo and not wish.json:
            _preview(found, carrier)
        if undo and not wish.yes:
            agree(hands, True)
        with told_when_interrupted(hands):
            go_on = carrier.undo if undo else carrier.resume
            outcome = go_on(found) if wish.done is None else carrier.done(found, wish.done)
    outcome.named = hands.named
    if undo and outcome.well:
        keep_case(wish.store, lambda cases: cases.undone(outcome.id, hands.host))
    show_outcome_of(None, outcome, wish.json)
    return status_of(outcome)


def _preview(found: MendJournal, carrier: Carrier) -> None:
    """Show what an undo would do."""
    from hollow_chain.show.mend import show_undo
    from hollow_chain.show.page import Page

    show_undo(Page(), found.id, found.head.target, found.head.at, carrier.to_undo(found))


def carrier_of(hands: Hands, watch: float) -> Carrier:
    """What carries out on a host, and asks whoever sits there for what is done by hand."""
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


def show_outcome_of(plan: Plan | None, outcome: MendOutcome, json: bool, seen: dict[str, object] | None = None) -> None:
    """Show what came of it, to a person or as a document; with what was *seen* of a start that was watched."""
    if json:
        from hollow_chain.show.documents import to_json
        from hollow_chain.show.mend import later_document, plan_document

        document = plan_document(plan, outcome) if plan is not None else later_document(outcome)
        common.put(to_json(document if seen is None else {**document, "observed": seen}))
    else:
        from hollow_chain.show.mend import show_outcome
        from hollow_chain.show.page import Page

        show_outcome(Page(), outcome)

"""What ``register --edit`` and ``unregister`` share: facts, a plan shown, and carried out."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from hollow_chain.cli import common, finding
from hollow_chain.cli.carrying_out import carried
from hollow_chain.trouble import MEND_DID_NOT_HOLD, wrong_call

if TYPE_CHECKING:
    from collections.abc import Callable

    from hollow_chain.mend.outcome import MendOutcome
    from hollow_chain.mend.plan import Plan
    from hollow_chain.registering.wish import Wish

_MAX_DEFINITION = 1 << 20
"""Bytes of a definition that is changed: systemd reads no line of more."""


class Changing(NamedTuple):
    """What a call asks for, beside the service."""

    source: common.Source
    host: str
    apply: bool
    yes: bool
    watch: float
    json: bool

    def carry(self, plan: Plan, show: Callable[[MendOutcome | None, bool], None]) -> int:
        """Show *plan*, and carry it out where that is asked for."""
        hands = common.hands_of(self.source, plan.target.name) if self.apply else None
        if hands is None or not plan.offered:
            show(None, False)
            if hands is not None:
                common.warn("the plan failed its proof, so it is not carried out")
            return 1
        if not self.json:
            show(None, True)
        outcome = carried(hands, plan, self.watch, self.yes)
        if self.json:
            show(outcome, True)
        else:
            from hollow_chain.show.mend import show_outcome
            from hollow_chain.show.page import Page

            show_outcome(Page(), outcome)
        return 0 if outcome.well else MEND_DID_NOT_HOLD


def change(name: str, given: Wish, restart: bool, wish: Changing) -> int:
    """Change a definition: the difference shown, judged, and carried out with ``--apply``."""
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.families import family_of
    from hollow_chain.mend.supposing import Runs
    from hollow_chain.registering.editing import Edit, edited, entry_edited
    from hollow_chain.registering.objections import of_change

    edit = Edit(name, given, restart)
    snapshot = common.load(wish.source, with_claims=True, supposed=edit.fit if not wish.source else None)
    graph = Graph(snapshot)
    owner = finding.one_host(graph, wish.host)
    if wish.source:
        owner.services = [*owner.services, edit.fit(owner, Facts(graph).index(owner.name).file)]
    facts = Facts(Graph(snapshot))
    if against := of_change(facts, owner, edit):
        raise wrong_call(f"{common.shown(edit.name)} is not changed: {'; '.join(against)}")
    owner.services = [one for one in owner.services if one.name != edit.trial_name]
    facts = Facts(Graph(snapshot))
    if family_of(owner).defined_in_files:
        if wish.source:
            raise wrong_call(
                "--edit changes the text of a definition, which facts do not hold: it works on this machine, without --from"
            )
        found = edited(facts, owner, edit, _text_of, Runs())
    else:
        found = entry_edited(facts, owner, edit, Runs())

    def show(outcome: MendOutcome | None, carried_out: bool) -> None:
        from hollow_chain.show import registering

        if wish.json:
            from hollow_chain.show.documents import to_json

            common.put(to_json(registering.edit_document(found, outcome)))
        else:
            from hollow_chain.show.page import Page

            registering.show_edit(Page(), found, carried_out, restart)

    return wish.carry(found.plan, show)


def _text_of(path: str) -> str | None:
    """The text of a definition; None where there is none. Raises :class:`~hollow_chain.trouble.Trouble`."""
    from hollow_chain.reach.here import here

    try:
        return here().files.walker().read(path, _MAX_DEFINITION).data.decode("utf-8")
    except FileNotFoundError:
        return None
    except (OSError, UnicodeDecodeError) as error:
        raise wrong_call(f"cannot read {path}: {getattr(error, 'strerror', None) or 'no text'}") from None

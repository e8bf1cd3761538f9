"""Before a step: whether the facts are still those that it was planned from. After it: whether it did what it was to do."""

from __future__ import annotations

from dataclasses import dataclass

from hollow_chain.boot.making import UP
from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.mend.hands import Hands, NotDone, hands_at
from hollow_chain.mend.outcome import Stopped
from hollow_chain.mend.plan import Answer, Step
from hollow_chain.mend.verbs import VERBS, ActView
from hollow_chain.verdict import Verdict, diagnose

OPENS = ("mode", "owner", "owners", "folder", "remove", "allow")
"""Verbs that give somebody a right or take a file away: what did not help is taken back at once."""
_ANY_OLD = ("start", "restart", "stop", "continue", "pause", "renew", "reboot")
"""Verbs whose old value is a state of this moment, which may differ as long as it is not the new one already."""


@dataclass
class Guard:
    """Looks at steps on the hosts of *hands*."""

    hands: Hands

    def view(self, facts: Facts, step: Step) -> ActView:
        return ActView(facts, facts.graph.hosts[step.host], hands_at(self.hands, step.host).look)

    def is_so_already(self, facts: Facts, step: Step) -> bool:
        act = step.act
        if act is None or act.verb not in ("start", "stop", "continue", "reload"):
            return False
        view = self.view(facts, step)
        if act.verb == "reload":
            return VERBS[act.verb].old(view, act) == step.new
        service = view.service(act)
        if act.verb in ("start", "continue"):
            return service is not None and service.state in UP and facts.standing(view.node(act)).well
        return service is None or service.state not in (*UP, "starting")

    def check(self, facts: Facts, step: Step, before: list[Step], target: str) -> None:
        """Stop where the facts are no longer those that the plan was made from."""
        act = step.act
        assert act is not None
        if step.host not in facts.graph.hosts:
            raise Stopped(f"this is not {step.host}")
        view = self.view(facts, step)
        if act.service and view.service(act) is None:
            raise Stopped(f"{act.service} is not registered any more")
        found = VERBS[act.verb].old(view, act)
        if act.verb not in _ANY_OLD and found != step.old:
            raise Stopped(
                f"the facts have changed since the plan was made ({step.does}: it was {step.old}, and is {found}); ask again"
            )
        fresh = _fresh(step, before)
        if fresh:
            verdict = diagnose(facts, facts.graph.node(self.hands.host, target))
            if act.verb in OPENS and not self._is_still_proposed(verdict, step):
                raise Stopped(
                    f"the facts have changed since the plan was made: nothing asks for this any more ({step.does}); ask again"
                )
            if not _shown(verdict, fresh):
                raise Stopped(
                    f"the facts have changed since the plan was made: {fresh[0][2]} no longer shows {fresh[0][0]}; ask again"
                )

    def is_needless(self, facts: Facts, step: Step, before: list[Step], target: str) -> bool:
        """Whether what a person has done meanwhile has done this too: it is so already, or what it answers is gone."""
        act, fresh = step.act, _fresh(step, before)
        if (
            act is not None
            and act.verb not in _ANY_OLD
            and VERBS[act.verb].old(self.view(facts, step), act) == step.new
        ):
            return True
        return bool(fresh) and not _shown(diagnose(facts, facts.graph.node(self.hands.host, target)), fresh)

    def _is_still_proposed(self, verdict: Verdict, step: Step) -> bool:
        """Whether a rule proposes the very act of *step* by the facts of this moment, or what it names is no longer a cause."""
        found = [
            c.finding for c in verdict.causes if (c.finding.cause, c.finding.host, c.finding.service) in step.answers
        ]
        return not found or any(step.act in mend.acts for one in found for mend in one.mends)

    def hold(self, step: Step) -> None:
        """Look whether the step did what it was to do."""
        act = step.act
        if act is None or act.verb in ("renew", "reboot"):
            return
        facts = Facts(Graph(hands_at(self.hands, step.host).facts()))
        view = self.view(facts, step)
        found = VERBS[act.verb].old(view, act)
        service = view.service(act) if act.service else None
        if act.verb in ("start", "restart", "continue"):
            well = service is not None and (service.state in UP or _ended_well(service.state, service.last))
        elif act.verb == "stop":
            well = service is None or service.state not in UP
        elif act.verb == "startup":
            well = found == act.value or (
                act.value == "automatic" and found in ("automatic", "delayed", "event", "on-need")
            )
            well = well or (act.value == "manual" and found in ("manual", "on-need", "event"))
        else:
            well = found == step.new or (act.verb == "folder" and found == "a folder")
        if not well:
            raise NotDone(f"{step.does}: it is {found} afterwards, not {step.new}")


def _fresh(step: Step, before: list[Step]) -> list[Answer]:
    """What a step answers and no step before it does."""
    return [answer for answer in step.answers if not any(answer in one.answers for one in before)]


def _shown(verdict: Verdict, answers: list[Answer]) -> bool:
    """Whether any of *answers* is still found."""
    known = {(c.finding.cause, c.finding.host, c.finding.service) for c in verdict.causes}
    known |= {(note.cause, note.host, note.service) for note in verdict.notes}
    return any(answer in known for answer in answers)


def _ended_well(state: str, last: object) -> bool:
    return state == "stopped" and getattr(last, "result", "") == "success"

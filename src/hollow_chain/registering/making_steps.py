"""An act as a step of a plan that nobody has to answer a cause with."""

from __future__ import annotations

from hollow_chain.causes.acts import Act
from hollow_chain.mend.plan import Step
from hollow_chain.mend.verbs import VERBS, ActView


def step_of(view: ActView, act: Act) -> Step:
    """The step that does *act*, with all that one has to know before."""
    verb = VERBS[act.verb]
    return Step(
        host=view.host.name,
        does=verb.does(view, act),
        act=act,
        old=verb.old(view, act),
        new=verb.new(view, act),
        effect=verb.effect(view, act),
        also_touches=tuple(dict.fromkeys(verb.touches(view, act))),
        interrupts=tuple(dict.fromkeys(verb.interrupts(view, act))),
        undo=verb.undo(view, act),
        cost=verb.cost,
    )

"""Whether a step for a person is done: what can be seen of it is looked at, and what cannot is said.

What a step means is a state of things (a service that is stopped, a path that is there, an owner): that is looked at as it is after a
step of a machine. Where it means nothing that is known, the cause that it answers must no longer be found; a cause that only describes
an end, or that rests on the words of the last run alone, shows by nothing but the next start.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from hollow_chain.causes import Facts
from hollow_chain.facts.endpoints import of_claim, of_listener, overlap
from hollow_chain.facts.service import Claim
from hollow_chain.mend.hands import Hands, hands_at, reached_by
from hollow_chain.mend.plan import Step
from hollow_chain.mend.verbs import VERBS, ActView
from hollow_chain.verdict import diagnose

_OF_THIS_MOMENT = ("restart", "renew", "reboot", "start", "continue", "pause")
"""Verbs that leave nothing behind that could be told from before; a start comes as a step of its own."""


def not_yet(hands: Hands, facts: Facts, step: Step, target: str, since: datetime | None) -> list[str]:
    """What of *step* is not done, in words; empty where all of it that can be seen is. The plan was made by the facts of *since*."""
    if step.host not in facts.graph.hosts:
        return []
    booted = facts.graph.hosts[step.host].boot_at
    if any(act.verb == "reboot" for act in step.means) and booted is not None and since is not None and booted <= since:
        return [f"{step.host} was not booted since the plan was made"]
    found = list(_not_so(hands, facts, step)) or list(_still_found(facts, step, target))
    for service in dict.fromkeys(service for _, host, service in step.answers if host in reached_by(hands)):
        own = hands_at(hands, next(host for _, host, name in step.answers if name == service))
        refused = own.own_test(service) if not found else ""
        found += [refused] if refused else []
    return found


def _not_so(hands: Hands, facts: Facts, step: Step) -> Iterator[str]:
    """What the step means and is not so."""
    look = hands_at(hands, step.host).look if step.host in reached_by(hands) else lambda path: None
    view = ActView(facts, facts.graph.hosts[step.host], look)
    for act in step.means:
        if act.verb == "port":
            yield from _still_wants(view, act.service, int(act.value), step)
        elif act.verb in VERBS and act.verb not in _OF_THIS_MOMENT:
            verb = VERBS[act.verb]
            old, new = verb.old(view, act), verb.new(view, act)
            if act.verb == "stop":
                if old in ("running", "starting", "done"):
                    yield f"{act.service} is {old}"
            elif act.verb == "startup":
                if old in ("automatic", "delayed") and act.value == "manual":
                    yield f"the startup type of {act.service} is {old}"
            elif old not in (new, "a folder"):
                yield f"{verb.does(view, act)}: it is {old}"


def _still_wants(view: ActView, name: str, port: int, step: Step) -> Iterator[str]:
    """Whether a service that was to get another port would still meet somebody on its own."""
    service = view.facts.graph.find(view.host.name, name)
    for claim in service.claims if service is not None else ():
        if not claim.counts or claim.told or claim.port == port:
            continue
        holder = next(
            (s for s in view.host.listeners if overlap(of_claim(claim), of_listener(s)) and s.service != name), None
        )
        if holder is not None:
            yield f"{name} is still set to {_said(claim)}, which {holder.service or holder.program or 'somebody else'} has"


def _said(claim: Claim) -> str:
    return f"{of_claim(claim)}{f' ({claim.source})' if claim.source else ''}"


def _still_found(facts: Facts, step: Step, target: str) -> Iterator[str]:
    """The causes that the step answers and that are found all the same."""
    if step.means:
        return
    verdict = diagnose(facts, facts.graph.node(step.host, target))
    for cause in verdict.causes:
        finding = cause.finding
        if (finding.cause, finding.host, finding.service) in step.answers and not (finding.residual or step.seeks):
            yield f"{finding.cause} is still found: {finding.says}"

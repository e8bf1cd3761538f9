"""How far a proof is one: what the rules of starting carry, what has to be assumed, and what nothing here can tell.

A rehearsal knows who starts when, what each needs, holds and waits for. It does not know programs: whether one then really comes up,
it knows from nothing but its recorded good starts, and those speak only for what has not been changed since.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime

from hollow_chain.boot.durations import AT_ONCE
from hollow_chain.causes import Facts, rule_of
from hollow_chain.chain import Node
from hollow_chain.facts.service import Service
from hollow_chain.mend.plan import ASSUMED, NOT_KNOWN, SIMULATED, Step
from hollow_chain.verdict import Cause

SURE = 0.9
"""From this probability on a diagnosis is taken as it is; below, the proof holds only if it is right, and says so."""
_CHANGES_STATE = (*AT_ONCE, "mount", "swap", "device")
"""Kinds whose start runs no program of their own."""
_STARTS = ("start", "restart")
_SEEN = (
    "start", "stop", "restart", "continue", "pause", "startup", "limit", "wait", "reload", "reboot", "port", "define", "undefine",
)  # fmt: skip
"""Verbs whose whole effect a rehearsal sees."""
_STAYED = 10.0
"""Seconds after which a program that ended badly had come up well all the same."""
_OF_A_PLACE = {
    "mode": "the mode of {path} was all that kept it out",
    "owner": "the owner of {path} was all that kept it out",
    "owners": "the owner of {path} and of what lies in it was all that kept it out",
    "folder": "{path} was all that it missed",
    "remove": "{path} was all that was in its way",
    "allow": "that right was all that it lacked",
    "amend": "{service} comes up with the changed definition",
    "account": "the account {value} may do what it needs",
    "renew": "{service} takes the file on disk",
}
"""What has to be so for the other verbs to help."""


@dataclass(frozen=True)
class Kinds:
    """What each step is proven by, and what the whole rests on."""

    of_steps: tuple[str, ...] = ()
    assumptions: tuple[str, ...] = ()
    unknown: tuple[str, ...] = ()


def kinds_of(facts: Facts, steps: list[Step], causes: list[Cause]) -> Kinds:
    """Judge *steps* that answer *causes*."""
    kinds: list[str] = []
    assumptions: dict[str, None] = {}
    unknown: dict[str, None] = {}
    by_hand: set[tuple[str, str]] = set()
    for cause in causes:
        # Where nothing is wrong but that it does not run, its starts on record say more than we could.
        if cause.confidence < SURE and not cause.finding.note and not rule_of(cause.finding.cause).lacks_only_a_start:
            place = f"{cause.finding.service} on {cause.finding.host}"
            assumptions[f"it is {cause.finding.cause} ({place}), of which this is {cause.confidence:.0%} sure"] = None
        if words := rule_of(cause.finding.cause).assumes:
            assumptions[words.format(service=cause.finding.service)] = None
    for step in steps:
        kind = SIMULATED
        for kind_of_it, words in (*_of_step(facts, step, causes), *_of_starts(facts, step, by_hand)):
            kind = _weaker(kind, kind_of_it)
            (unknown if kind_of_it == NOT_KNOWN else assumptions)[words] = None
        if not step.acts:  # what it changes, no rehearsal sees
            by_hand |= {(host, service) for _, host, service in step.answers}
        kinds.append(kind)
    return Kinds(tuple(kinds), tuple(assumptions), tuple(unknown))


def _weaker(one: str, other: str) -> str:
    order = (SIMULATED, ASSUMED, NOT_KNOWN)
    return max(one, other, key=order.index)


def _of_step(facts: Facts, step: Step, causes: list[Cause]) -> Iterator[tuple[str, str]]:
    """What a step itself rests on."""
    if step.act is None:
        residual = {c.finding.service for c in causes if c.finding.residual and _answers(step, c)}
        if step.seeks or residual:
            yield NOT_KNOWN, f"what comes of this is not known: {_short(step.does)}"
        else:
            yield ASSUMED, f"this is done: {_short(step.does)}"
        return
    for act in step.acts:
        if act.verb == "restart" and step.answers:  # it runs, and yet does not do what it is for
            yield ASSUMED, f"{act.service} does what it is for after a restart"
        elif act.verb not in _SEEN:
            does = _OF_A_PLACE.get(act.verb, "{verb} helps").format(**act._asdict())
            yield ASSUMED, does


def _answers(step: Step, cause: Cause) -> bool:
    finding = cause.finding
    return (finding.cause, finding.host, finding.service) in step.answers


def _of_starts(facts: Facts, step: Step, by_hand: set[tuple[str, str]]) -> Iterator[tuple[str, str]]:
    """What is known of the programs that a step starts: the service itself, and what comes up with it."""
    for act in step.acts:
        if act.verb not in _STARTS:
            continue
        for node in _started(facts, facts.graph.node(step.host, act.service)):
            yield from _of_start(facts, node, node.key in by_hand)


def _started(facts: Facts, node: Node) -> Iterator[Node]:
    """*node* and what is down and has to come up with it, on its host."""
    seen, stack = {node.key}, [node]
    while stack:
        one = stack.pop()
        yield one
        for edge in facts.graph.needs(one, ("hard",)):
            head = edge.head
            down = head.service is not None and head.service.state not in ("running", "done")
            if down and edge.link.pulls and not edge.crosses and head.key not in seen:
                seen.add(head.key)
                stack.append(head)


def _of_start(facts: Facts, node: Node, mended_by_hand: bool) -> Iterator[tuple[str, str]]:
    service = node.service
    if service is None or service.kind in _CHANGES_STATE:
        return
    good = last_good(service, facts.graph.hosts[node.host].boot_at)
    if good is None:
        words = f"whether {service.name} comes up: no good start of it is on record"
        yield (
            (NOT_KNOWN, words)
            if mended_by_hand
            else (ASSUMED, f"{service.name} comes up: no good start of it is on record")
        )
        return
    for path in _changed_since(facts, node.host, service, good):
        yield ASSUMED, f"{service.name} comes up with {path}, which was changed since its last good start"
        return


def last_good(service: Service, boot_at: datetime | None) -> datetime | None:
    """The moment of the last good start that is on record; None where none is."""
    moments = [start.at for start in service.starts if start.outcome == "up"]
    last = service.last
    if last is not None and last.up_at is not None:
        ended = last.left_up_at or last.ended_at
        stayed = ended is not None and (ended - last.up_at).total_seconds() >= _STAYED
        if service.state == "running" or last.result in ("", "success") or stayed:
            moments.append(last.up_at)
    if service.state in ("running", "done") and boot_at is not None and not moments:
        moments.append(boot_at)
    return max(moments, default=None)


def _changed_since(facts: Facts, host: str, service: Service, since: datetime) -> Iterator[str]:
    definition, program = service.definition, service.program
    if definition is not None and definition.changed_at is not None and definition.changed_at > since:
        yield "its definition"
    paths: Iterable[str] = (program.path, *program.settings_paths, *program.paths) if program is not None else ()
    for path in dict.fromkeys(paths):
        file = facts.index(host).file(path) if path else None
        if file is not None and file.exists and file.kind == "file":
            at = file.altered_at or file.changed_at
            if at is not None and at > since and not path.startswith(("/run/", "/var/")):
                yield path


def _short(does: str) -> str:
    return does[:1].lower() + does[1:].rstrip(".")

"""From findings to a verdict: which explain which, how sure, what to look at next."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from datetime import datetime

from hollow_chain.causes import HINT, Evidence, Facts, Finding, Standing, rule_of
from hollow_chain.causes.case import Learned
from hollow_chain.causes.rule import TELLS
from hollow_chain.chain import Edge, Graph, Node
from hollow_chain.facts.host import OF_RECORDS, Host
from hollow_chain.verdict.looks import NextLook, best_look, start_and_read
from hollow_chain.verdict.walk import Key, Walked, affected, is_hollow, walk
from hollow_chain.verdict.weigh import PriorOf, prior_of, probability, shared, weights

Weighed = tuple[Finding, float]
"""A finding with the probability that it is right."""
SETTLED = 0.85
"""A verdict this sure needs no further look."""


@dataclass(frozen=True)
class Cause:
    """A finding in its place: how sure all evidence together makes it, and the chain down to it."""

    finding: Finding
    confidence: float
    chain: tuple[Node, ...]


@dataclass
class Verdict:
    """The answer to "why will this service not start?"."""

    target: Node
    state: str
    read_at: datetime | None
    causes: list[Cause] = field(default_factory=list)
    notes: list[Finding] = field(default_factory=list)
    unread: list[str] = field(default_factory=list)
    next_look: NextLook | None = None
    chain: tuple[Node, ...] = ()
    """The nodes from the target down to the first cause; the target alone where there is none."""

    @property
    def healthy(self) -> bool:
        """Whether no cause was found."""
        return not self.causes

    @property
    def summary(self) -> str:
        """One sentence that can be pasted into a ticket."""
        who = f"{self.target.name} on {self.target.host}"
        if not self.causes:
            if self.notes and self.state not in ("running", "done"):
                return f"{who} is {self.state}: {self.notes[0].says}"
            return f"{who} is {self.state}; nothing wrong was found."
        first = self.causes[0]
        place = first.finding.service
        if first.finding.host != self.target.host:
            place += f" on {first.finding.host}"
        if first.chain[-1].key == self.target.key:
            lead = f"{who} is {self.state}"
        elif self.state == "running":
            lead = f"{who} runs, but stands on {place}, which does not hold"
        else:
            lead = f"{who} is {self.state}, because of {place}"
        more = len({(c.finding.cause, c.finding.service) for c in self.causes if c.confidence >= 0.5}) - 1
        tail = f" ({more} more cause{'s' if more > 1 else ''} found.)" if more > 0 else ""
        return f"{lead}: {first.finding.says}{tail}"


def diagnose(facts: Facts, target: Node, says: str = "") -> Verdict:
    """Why *target* does not run (or what is about to be wrong with it), from the facts and what the user saw (*says*).

    What the user saw makes causes likelier that fit it; it never makes one up.
    """
    facts.asked, facts.says = target.key, says
    walked = walk(facts, target)
    learned = facts.learned
    kept, notes = _weigh(walked, learned.prior_of if learned is not None else prior_of)
    if learned is not None:
        kept = [(_with_experience(finding, learned), sure) for finding, sure in kept]
    host = facts.graph.hosts.get(target.host) or Host(name=target.host)
    unread = _unread(facts.graph, walked)
    causes = [
        Cause(f, round(sure * _loss(facts, f), 3), tuple(walked.chain_to((f.host, f.service)))) for f, sure in kept
    ]
    if says:
        causes = [_heard(cause, says) for cause in causes]
    causes.sort(key=lambda c: (-c.confidence, -len(c.chain), c.finding.cause, c.finding.service))
    state = target.service.state if target.service else "not registered"
    verdict = Verdict(target, state, host.read_at, causes, notes, unread)
    verdict.chain = causes[0].chain if causes else (target,)
    verdict.next_look = _next_look(facts, walked, verdict)
    return verdict


def _loss(facts: Facts, finding: Finding) -> float:
    """What is left of a claim about the mere end of a program where the words that it said could not be read."""
    return weights().unread_records if finding.residual and _without_records(facts, finding.host) else 1.0


def _without_records(facts: Facts, name: str) -> bool:
    host = facts.graph.hosts.get(name)
    return host is not None and any(item.part == OF_RECORDS for item in host.unread)


def _with_experience(finding: Finding, learned: Learned) -> Finding:
    """*finding* with what confirmed cases say of its cause, where they make it likelier or less likely than documented."""
    told = learned.told(finding.cause)
    if not told:
        return finding
    return replace(finding, evidence=(*finding.evidence, Evidence(told, "experience", bears=TELLS)))


def _heard(cause: Cause, says: str) -> Cause:
    """*cause* with the message that the user saw as further evidence, where the message speaks for it."""
    from hollow_chain.causes import meanings

    for reading in meanings.read(says)[:3]:
        if cause.finding.cause in reading.causes:
            heard = Evidence(f"{says[:200]} ({reading.what}: {reading.means})", "what the user saw", bears=HINT)
            finding = replace(cause.finding, evidence=(*cause.finding.evidence, heard))
            odds = cause.confidence / (1 - cause.confidence) * weights().bearings[HINT].ratio
            return replace(cause, finding=finding, confidence=round(min(odds / (1 + odds), weights().ceiling), 3))
    return cause


def diagnose_all(facts: Facts) -> Iterator[Verdict]:
    """The verdicts on every service that is not well, or that stands on one that is not.

    One pass finds what is not well by itself, a second one what hard-needs that; only these are examined, so the
    cost grows with the size of the facts and the number of troubles, not with their product.
    """
    graph = facts.graph
    unwell = [node for node in graph.nodes() if not facts.standing(node).well]
    unwell += _obstacles(facts)
    troubled = affected(facts, unwell)
    facts.troubled = frozenset(troubled)
    for node in troubled.values():
        if node.service is not None and facts.standing(node) is not Standing.IDLE:
            verdict = diagnose(facts, node)
            if verdict.causes:
                yield verdict


def _obstacles(facts: Facts) -> Iterator[Node]:
    """What hard links point at and is not up, registered or not, and silent triggers: well by itself or not."""
    graph = facts.graph
    for host in graph.hosts.values():
        names = graph.names(host.name)
        for service in host.services:
            for link in service.links:
                if link.kind != "hard":
                    continue
                near = None if link.host else names.get(link.to)
                if near is not None and near.state in ("running", "done"):
                    continue
                edge = Edge(Node(host.name, service.name, service), link, graph.head(host.name, link))
                if edge.head.host in graph.hosts and (edge.head.service is None or is_hollow(facts, edge)):
                    yield edge.head
            if service.triggers:
                yield from facts.silent_triggers(Node(host.name, service.name, service))


def _weigh(walked: Walked, prior: PriorOf) -> tuple[list[Weighed], list[Finding]]:
    """The findings that remain as causes, and the notes."""
    kept: list[Weighed] = []
    notes: list[Finding] = []
    has_cause: set[Key] = set()
    for node in walked.order:
        found = walked.findings[node.key]
        if node.key not in walked.hollow:
            # A start of what stands above starts it too: its being down is no cause, only a fault of its own is.
            found = [f for f in found if not f.residual or not rule_of(f.cause).comes_along]
        notes += [f for f in found if f.note]
        deeper = any(key in has_cause for key in walked.below.get(node.key, ()))
        own = _own_causes([f for f in found if not f.note], deeper, prior)
        kept += own
        if own or deeper:
            has_cause.add(node.key)
    return _each_loop_once(walked, kept), notes


def _each_loop_once(walked: Walked, kept: list[Weighed]) -> list[Weighed]:
    """A loop is found on each of its members; the member nearest to the target tells it."""
    nearest: dict[frozenset[str], Finding] = {}
    for finding, _ in kept:
        if finding.loop:
            known = nearest.setdefault(frozenset(finding.loop), finding)
            if _distance(walked, finding) < _distance(walked, known):
                nearest[frozenset(finding.loop)] = finding
    return [(f, sure) for f, sure in kept if not f.loop or nearest[frozenset(f.loop)] is f]


def _distance(walked: Walked, finding: Finding) -> int:
    return len(walked.chain_to((finding.host, finding.service)))


def _own_causes(found: list[Finding], deeper: bool, prior: PriorOf) -> list[Weighed]:
    """The findings on one node that are not explained by each other or by something deeper."""
    explained: set[str] = set()
    for finding in sorted(found, key=lambda f: -probability(f, prior)):
        if finding.cause not in explained and not (finding.residual and deeper):
            explained.update(finding.explains)
    left = [f for f in found if f.cause not in explained]
    roots = [(f, probability(f, prior)) for f in left if not f.residual]
    if deeper or roots:
        return roots
    # Descriptions of one end are rivals: at most one is right. What nothing explains is told only where all else fails.
    known = [f for f in left if not rule_of(f.cause).last_resort]
    return shared(known or left, prior)


def _unread(graph: Graph, walked: Walked) -> list[str]:
    told = [f"{u.what}: {u.why}" if u.why else u.what for u in graph.document.unread]
    for name in dict.fromkeys(node.host for node in walked.order):
        host = graph.hosts.get(name)
        for item in host.unread if host else ():
            told.append(f"{name}: {item.what}" + (f" ({item.why})" if item.why else ""))
    for name, edge in walked.unknown_hosts.items():
        told.append(f"{edge.tail.name} needs {edge.link.to} on {name}, and no facts of {name} are here")
    return told


def _next_look(facts: Facts, walked: Walked, verdict: Verdict) -> NextLook | None:
    """Where to look next, when what was read does not settle it."""
    sure = verdict.causes[0].confidence if verdict.causes else 1.0
    down = facts.standing(verdict.target) in (Standing.DOWN, Standing.UNSTABLE)
    if walked.unknown_hosts and (sure < SETTLED or not verdict.causes):
        name, edge = next(iter(walked.unknown_hosts.items()))
        return NextLook(
            f"Capture the facts of {name} and ask again with both.",
            f"{edge.tail.name} needs {edge.link.to} there, and nothing is known of it.",
        )
    if sure >= SETTLED or not (down or verdict.causes):
        return None
    place = verdict.causes[0].chain[-1] if verdict.causes else verdict.target
    rivals = [c for c in verdict.causes if c.chain[-1].key == place.key]
    look = best_look(place, [(c.finding, c.confidence) for c in rivals], _without_records(facts, place.host))
    return look or start_and_read(place)

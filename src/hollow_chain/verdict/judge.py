"""From findings to a verdict: which explain which, how sure, what to look at next."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import datetime

import msgspec
from msgspec.structs import replace

from hollow_chain.causes import HINT, Case, Evidence, Facts, Finding, Standing
from hollow_chain.causes.case import Learned
from hollow_chain.causes.finding import TELLS
from hollow_chain.chain import Edge, Graph, Node
from hollow_chain.facts.change import Change
from hollow_chain.facts.host import OF_RECORDS, Host
from hollow_chain.families import family_of
from hollow_chain.verdict.below import Below, Fleet, Kept, Way, by_walk, own_of, way_of
from hollow_chain.verdict.changed import preceding, with_hints, with_told
from hollow_chain.verdict.looks import NextLook, best_look, observe_once, start_and_read
from hollow_chain.verdict.walk import affected, examine, is_hollow, is_looked_for, let_down
from hollow_chain.verdict.weigh import PriorOf, prior_of, weights

SETTLED = 0.85
"""A verdict this sure needs no further look."""


class Cause(msgspec.Struct, frozen=True):
    """A finding in its place: how sure all evidence together makes it, and the chain down to it."""

    finding: Finding
    confidence: float
    way: Way

    @property
    def chain(self) -> tuple[Node, ...]:
        """The nodes from the target down to the place of the cause, both included."""
        return tuple(self.way.nodes())

    @property
    def place(self) -> Node:
        """The node that the cause is on."""
        return self.way.last


class Verdict(msgspec.Struct):
    """The answer to "why will this service not start?"."""

    target: Node
    state: str
    read_at: datetime | None
    causes: list[Cause] = msgspec.field(default_factory=list)
    notes: list[Finding] = msgspec.field(default_factory=list)
    unread: list[str] = msgspec.field(default_factory=list)
    next_look: NextLook | None = None
    changed: list[tuple[Node, Change]] = msgspec.field(default_factory=list)
    """What was changed shortly before the failure of the target and of the places of causes, each with the node that it is about."""
    contradicted: str = ""
    """Where what the user saw speaks of something else than what was found: both, in one sentence."""

    @property
    def chain(self) -> tuple[Node, ...]:
        """The nodes from the target down to the first cause; the target alone where there is none."""
        return self.causes[0].chain if self.causes else (self.target,)

    @property
    def healthy(self) -> bool:
        """Whether no cause was found."""
        return not self.causes

    @property
    def is_untold(self) -> bool:
        """Whether nobody has said how the target stands, and nothing else speaks against it: that is no all-clear."""
        return not self.causes and self.state == "unknown"

    @property
    def summary(self) -> str:
        """One sentence that can be pasted into a ticket."""
        who = f"{self.target.name} on {self.target.host}"
        if not self.causes:
            if self.is_untold:
                return f"How {who} stands is not told, so that nothing can be said of it."
            if self.notes and self.state not in ("running", "done"):
                own = [note for note in self.notes if (note.host, note.service) == self.target.key]
                return f"{who} is {self.state}: {self._of_itself((own or self.notes)[0])}"
            return f"{who} is {self.state}; nothing wrong was found."
        first = self.causes[0]
        place = first.finding.service
        if first.finding.host != self.target.host:
            place += f" on {first.finding.host}"
        if first.place.key == self.target.key:
            lead = f"{who} is {self.state}"
        elif self.state == "running":
            lead = f"{who} runs, but depends on {place}, which {_is_what(first.place)}"
        else:
            lead = f"{who} is {self.state}, because of {place}"
        more = len({(c.finding.cause, c.finding.service) for c in self.causes if c.confidence >= 0.5}) - 1
        tail = f" ({more} more cause{'s' if more > 1 else ''} found.)" if more > 0 else ""
        # A state that is the whole of the cause is said once.
        return f"{lead}: {self.headline_of(first).removeprefix(f'it is {self.state}: ')}{tail}"

    def headline_of(self, cause: Cause) -> str:
        """What a cause says, as it stands behind the name of the target."""
        return self._of_itself(cause.finding)

    def _of_itself(self, finding: Finding) -> str:
        says, name = finding.says, self.target.name
        own = (finding.host, finding.service) == self.target.key and says.startswith(f"{name} ")
        return f"it{says.removeprefix(name)}" if own else says


def _is_what(place: Node) -> str:
    """What to say of the root cause's place: it is down, or it runs and is the cause."""
    runs = place.service is not None and place.service.state in ("running", "done", "starting")
    return "is the cause" if runs else "is down"


def diagnose(facts: Facts, target: Node, says: str = "") -> Verdict:
    """Why *target* does not run (or what is about to be wrong with it), from the facts and what the user saw (*says*).

    What the user saw makes causes likelier that fit it; it never makes one up.
    """
    facts.asked, facts.says = target.key, says
    return _verdict(facts, target, by_walk(facts, target, _prior(facts)), says)


def _prior(facts: Facts) -> PriorOf:
    return facts.learned.prior_of if facts.learned is not None else prior_of


def _verdict(facts: Facts, target: Node, below: Below, says: str = "") -> Verdict:
    """The verdict on *target*, from what was found on it and *below* it."""
    found = examine(Case(facts, target, True, None))
    own = own_of([f for f in found if not f.note], below.deeper, _prior(facts))
    here = way_of((target,))
    kept = _each_loop_once([*below.kept, *(Kept(finding, sure, here) for finding, sure in own)])
    if facts.learned is not None:
        kept = [one._replace(finding=_with_experience(one.finding, facts.learned)) for one in kept]
    host = facts.graph.hosts.get(target.host) or Host(name=target.host)
    unread = _unread(facts.graph, below)
    causes = [Cause(one.finding, round(one.sure * _loss(facts, one.finding), 3), one.way) for one in kept]
    if says:
        causes = [_heard(cause, says) for cause in causes]
    blamed = {cause.place.key: cause.place for cause in causes}
    places = {target.key: target, **blamed}
    changed = {key: near for key, node in places.items() if (near := preceding(facts, node, key in blamed))}
    if changed:
        causes = [_with_hints(facts, cause, changed.get(cause.place.key, [])) for cause in causes]
    causes.sort(key=lambda c: (-c.confidence, -c.way.length, c.finding.cause, c.finding.service))
    causes = _told_once(facts, causes, changed) if changed else causes
    state = target.service.state if target.service else "not registered"
    verdict = Verdict(target, state, host.read_at, causes, [*below.notes, *(f for f in found if f.note)], unread)
    verdict.changed = [(places[key], one) for key, found_there in changed.items() for one in found_there]
    verdict.next_look = _next_look(facts, below, verdict)
    verdict.contradicted = _contradicted(verdict, says) if says else ""
    return verdict


def _with_hints(facts: Facts, cause: Cause, changes: list[Change]) -> Cause:
    finding, sure = with_hints(facts, cause.place, changes, cause.finding, cause.confidence)
    return cause if finding is cause.finding else replace(cause, finding=finding, confidence=sure)


def _told_once(facts: Facts, causes: list[Cause], changed: Mapping[tuple[str, str], list[Change]]) -> list[Cause]:
    """*causes*, of which the first at each place has all that was changed there before it failed."""
    left, told = dict(changed), []
    for cause in causes:
        changes = left.pop(cause.place.key, [])
        finding = with_told(facts, cause.place, changes, cause.finding) if changes else cause.finding
        told.append(cause if finding is cause.finding else replace(cause, finding=finding))
    return told


def _contradicted(verdict: Verdict, says: str) -> str:
    """What does not fit, where a message of known meaning speaks of none of the causes."""
    from hollow_chain.causes import meanings

    readings = [one for one in meanings.read(says)[:3] if one.causes]
    spoken_of = dict.fromkeys(cause for reading in readings for cause in reading.causes)
    found = [cause.finding.cause for cause in verdict.causes if cause.confidence >= _WORTH_COMPARING]
    if not readings or spoken_of.keys() & {*found, *(note.cause for note in verdict.notes)}:
        return ""
    what = f"the facts say {found[0]}" if found else "the facts say that nothing is wrong"
    spoken = ", ".join(list(spoken_of)[:3])
    return f"What was seen ({readings[0].what}: {readings[0].means}) speaks of {spoken}, and {what}: is it of another service, or of an earlier try?"


_WORTH_COMPARING = 0.3
"""Confidence from which on a cause is one that a message may speak of."""


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
    facts.asked, facts.says = ("", ""), ""  # whatever was asked before
    unwell = [node for node in graph.nodes() if not facts.standing(node).well]
    unwell += _obstacles(facts)
    troubled = affected(facts, unwell)
    facts.troubled = frozenset(troubled)
    fleet = Fleet(facts, troubled.values(), _prior(facts))
    for node in troubled.values():
        if node.service is not None and is_looked_for(facts, node):
            facts.asked, facts.says = node.key, ""
            verdict = _verdict(facts, node, fleet.below(node))
            if verdict.causes:
                yield verdict
    facts.troubled = None
    for node in [node for node in let_down(facts) if node.key not in troubled]:
        # What only starts others leads nowhere but to these: it has no share in the chains of all.
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
                # One that nobody set to start is silent rightly, as long as nobody asks for what it triggers.
                silent = facts.silent_triggers(Node(host.name, service.name, service))
                yield from (node for node in silent if not facts.standing(node).well)


def _each_loop_once(kept: list[Kept]) -> list[Kept]:
    """A loop is found on each of its members; the member nearest to the target tells it."""
    nearest: dict[frozenset[str], Kept] = {}
    for one in kept:
        if one.finding.loop:
            known = nearest.setdefault(frozenset(one.finding.loop), one)
            if one.way.length < known.way.length:
                nearest[frozenset(one.finding.loop)] = one
    return [one for one in kept if not one.finding.loop or nearest[frozenset(one.finding.loop)] is one]


def _unread(graph: Graph, below: Below) -> list[str]:
    told = [f"{u.what}: {u.why}" if u.why else u.what for u in graph.document.unread]
    for name in below.hosts:
        host = graph.hosts.get(name)
        for item in host.unread if host else ():
            told.append(f"{name}: {item.what}" + (f" ({item.why})" if item.why else ""))
    for name, edge in below.unknown_hosts:
        told.append(f"{edge.tail.name} needs {edge.link.to} on {name}, and no facts of {name} are here")
    return told


def _next_look(facts: Facts, below: Below, verdict: Verdict) -> NextLook | None:
    """Where to look next, when what was read does not settle it."""
    sure = verdict.causes[0].confidence if verdict.causes else 1.0
    down = facts.standing(verdict.target) in (Standing.DOWN, Standing.UNSTABLE)
    if below.unknown_hosts and (sure < SETTLED or not verdict.causes):
        name, edge = below.unknown_hosts[0]
        return NextLook(
            f"Capture the facts of {name} and ask again with both.",
            f"{edge.tail.name} needs {edge.link.to} there, and nothing is known of it.",
        )
    if sure >= SETTLED or not (down or verdict.causes):
        return None
    place = verdict.causes[0].place if verdict.causes else verdict.target
    rivals = [c for c in verdict.causes if c.place.key == place.key]
    along = _observable(facts, place)
    look = best_look(
        place,
        [(c.finding, c.confidence) for c in rivals],
        _without_records(facts, place.host),
        along,
        facts.standing(place) is Standing.UNSTABLE,
    )
    restarts = facts.standing(place) is Standing.UNSTABLE
    if look or along:
        return look or observe_once(place, along, restarts=restarts)
    # Of a start that is still under way and was watched, its mend says what to look at: nothing has ended that could be read.
    under_way = place.service is not None and place.service.state == "starting"
    told = under_way and bool(verdict.causes) and any(mend.seeks for mend in verdict.causes[0].finding.mends)
    return None if told else start_and_read(place, restarts)


def _observable(facts: Facts, place: Node) -> str:
    """What a start of *place* that is watched takes along; empty where its calls cannot be watched, or have been."""
    service, host = place.service, facts.graph.hosts.get(place.host)
    if service is None or host is None or not family_of(host).traced or service.template or service.kind != "service":
        return ""
    if facts.standing(place) not in (Standing.DOWN, Standing.UNSTABLE) or service.refuses_hand:
        return ""
    if any(one.service == service.name for one in host.observed or ()):
        return ""
    heads = [edge.head for edge in facts.graph.needs(place, ("hard", "soft")) if edge.head.host == place.host]
    also = [one.name for one in heads if one.service and one.service.kind == "service" and not facts.standing(one).well]
    clashing = [link.to for link in service.links if link.kind == "clash"]
    ends = [
        name for name in clashing if (other := facts.graph.find(place.host, name)) is not None and other.state == "running"
        and other.kind == "service"
    ]  # fmt: skip
    says = [f"It starts {service.name}"]
    says += [f"with it {', '.join(also[:_MOST_ALONG])}"] if also else []
    says += [f"and stops {', '.join(ends[:_MOST_ALONG])}"] if ends else []
    return f"{' '.join(says)}."


_MOST_ALONG = 4
"""Names that a sentence takes."""

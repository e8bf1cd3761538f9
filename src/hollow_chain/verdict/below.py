"""What lies below a service, weighed: by a walk of its own, or from what was found below its needs when many are looked at.

A whole fleet is looked through once, deepest first: what was found below a need is passed upward to whatever stands on it, so that
a chain costs its length and not the square of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

import msgspec
from msgspec.structs import replace

from hollow_chain.causes import Case, Facts, Finding, rule_of
from hollow_chain.chain import Edge, Node, knots
from hollow_chain.verdict.walk import Key, Walked, examine, needs_of, walk
from hollow_chain.verdict.weigh import PriorOf, probability, shared

Weighed = tuple[Finding, float]
"""A finding with the probability that it is right."""


class Way(NamedTuple):
    """A way down the chain: a node, and how it goes on. Ways share what they have in common."""

    node: Node
    rest: Way | None
    length: int
    last: Node
    """Where it leads."""

    def nodes(self) -> Iterator[Node]:
        """The nodes on the way, the uppermost first."""
        way: Way | None = self
        while way is not None:
            yield way.node
            way = way.rest


def way_of(nodes: Sequence[Node]) -> Way:
    """The way along *nodes*, of which there is one at least."""
    way = Way(nodes[-1], None, 1, nodes[-1])
    for node in reversed(nodes[:-1]):
        way = on_top(node, way)
    return way


def on_top(node: Node, way: Way) -> Way:
    """The way from *node*, which stands on the first node of *way*, on along it."""
    return Way(node, way, way.length + 1, way.last)


class Kept(NamedTuple):
    """A cause as it is seen from above."""

    finding: Finding
    sure: float
    way: Way


class Below(msgspec.Struct, frozen=True):
    """All that a look from one node down finds, that on the node itself excepted."""

    kept: tuple[Kept, ...] = ()
    notes: tuple[Finding, ...] = ()
    hosts: tuple[str, ...] = ()
    """The hosts that were seen on the way, deepest first."""
    unknown_hosts: tuple[tuple[str, Edge], ...] = ()
    deeper: bool = False
    """Whether one of the direct needs has a cause, or stands on one."""


def own_of(found: list[Finding], deeper: bool, prior: PriorOf) -> list[Weighed]:
    """The findings on one node that are not explained by each other or by something deeper."""
    explained: dict[str, float] = {}
    for finding in sorted(found, key=lambda f: -probability(f, prior)):
        if finding.cause not in explained and not (finding.residual and deeper):
            for cause in finding.explains:
                explained.setdefault(cause, probability(finding, prior))
    left = [f for f in found if not _is_explained(f, explained, prior)]
    roots = [(f, probability(f, prior)) for f in left if not f.residual]
    if deeper or roots:
        return roots
    # Descriptions of one end are rivals: at most one is right. What nothing explains is told only where all else fails.
    known = [f for f in left if not rule_of(f.cause).last_resort]
    return shared(known or left, prior)


_MUCH_SURER = 0.3
"""By so much a claim has to be surer than another that would explain it, to stand all the same."""


def _is_explained(finding: Finding, explained: dict[str, float], prior: PriorOf) -> bool:
    """Whether another finding makes this one superfluous: what is proven is not explained away by what is only likely."""
    by = explained.get(finding.cause)
    return by is not None and (finding.residual or probability(finding, prior) < by + _MUCH_SURER)


def seen_from_above(found: list[Finding], hollow: bool) -> list[Finding]:
    """What counts of the findings on a node; where a start of what stands above starts it too (not *hollow*), its being down is no
    cause, only a fault of its own is."""
    return found if hollow else [f for f in found if not f.residual or not rule_of(f.cause).comes_along]


def by_walk(facts: Facts, target: Node, prior: PriorOf) -> Below:
    """What lies below *target*, by a walk."""
    walked = walk(facts, target)
    kept: list[Kept] = []
    notes: list[Finding] = []
    has_cause: set[Key] = set()
    for node in walked.order:
        if node.key == target.key:
            continue
        found = seen_from_above(walked.findings[node.key], node.key in walked.hollow)
        deeper = _any_of(walked, node, has_cause)
        notes += [f for f in found if f.note]
        own = own_of([f for f in found if not f.note], deeper, prior)
        if own:
            way = way_of(walked.chain_to(node.key))
            kept += [Kept(f, sure, way) for f, sure in own]
        if own or deeper:
            has_cause.add(node.key)
    hosts = _once(node.host for node in walked.order)
    unknown = tuple(walked.unknown_hosts.items())
    return Below(tuple(kept), tuple(notes), hosts, unknown, _any_of(walked, target, has_cause))


def _any_of(walked: Walked, node: Node, has_cause: set[Key]) -> bool:
    return any(key in has_cause for key in walked.below.get(node.key, ()))


class Fleet:
    """What lies below each of many nodes: looked at once, deepest first."""

    def __init__(self, facts: Facts, nodes: Iterable[Node], prior: PriorOf) -> None:
        """Look below *nodes* and all that they stand on."""
        self._facts, self._prior = facts, prior
        self._found: dict[Key, Below] = {}
        self._apart: set[Key] = set()
        """Nodes that one other node at most stands on, as it is with everything below them: what lies below two of them cannot
        meet."""
        above: dict[Key, int] = {}

        def step(node: Node) -> list[Node]:
            heads = [head for head, _ in self._heads(node)]
            for head in heads:
                above[head.key] = above.get(head.key, 0) + 1
            return heads

        for part in knots(nodes, step):
            for node in part:
                heads = self._heads(node)
                alone = len(part) == 1 and all(head.key != node.key for head, _ in heads)
                if alone and all(head.key in self._apart for head, _ in heads) and above.get(node.key, 0) <= 1:
                    self._apart.add(node.key)
                self._found[node.key] = self._below(node, heads) if alone else by_walk(facts, node, prior)

    def below(self, node: Node) -> Below:
        """What lies below *node*. Raises :class:`KeyError` where it was not looked at."""
        return self._found[node.key]

    def _heads(self, node: Node) -> list[tuple[Node, bool]]:
        """What *node* stands on, and whether each is an obstacle itself."""
        heads: dict[Key, tuple[Node, bool]] = {}
        for need in needs_of(self._facts, node)[0]:
            head = need.edge.head
            heads[head.key] = head, heads.get(head.key, (head, False))[1] or not need.passed
        return list(heads.values())

    def _below(self, node: Node, heads: list[tuple[Node, bool]]) -> Below:
        """From what lies below *heads*, where that is the same as a walk would find; else by a walk."""
        if len(heads) > 1 and not all(head.key in self._apart for head, _ in heads):
            return by_walk(self._facts, node, self._prior)
        whole = Below(unknown_hosts=tuple(needs_of(self._facts, node)[1].items()))
        for head, hollow in heads:
            whole = _joined(whole, self._seen(head, hollow, self._found[head.key], node))
        if any(one.finding.loop for one in whole.kept):  # told by the member that is nearest to whoever asks
            return by_walk(self._facts, node, self._prior)
        unknown = dict(reversed(whole.unknown_hosts))  # the first of each host, as a walk tells it
        return replace(whole, hosts=_once((*whole.hosts, node.host)), unknown_hosts=tuple(reversed(unknown.items())))

    def _seen(self, head: Node, hollow: bool, lower: Below, above: Node) -> Below:
        """*head* and what lies below it, as *above* sees them."""
        found = seen_from_above(examine(Case(self._facts, head, False, above)), hollow)
        own = own_of([f for f in found if not f.note], lower.deeper, self._prior)
        way = way_of((above, head))
        kept = [Kept(one.finding, one.sure, on_top(above, one.way)) for one in lower.kept]
        kept += [Kept(finding, sure, way) for finding, sure in own]
        notes = (*lower.notes, *(f for f in found if f.note))
        return Below(tuple(kept), notes, lower.hosts, lower.unknown_hosts, bool(own) or lower.deeper)


def _joined(one: Below, other: Below) -> Below:
    return Below(
        one.kept + other.kept,
        one.notes + other.notes,
        one.hosts + other.hosts,
        one.unknown_hosts + other.unknown_hosts,
        one.deeper or other.deeper,
    )


def _once(names: Iterable[str]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(names))

"""The neighborhood of a node: its links in both directions, level by level."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from hollow_chain.chain.graph import Edge, Graph, Key, Node
from hollow_chain.facts.service import LinkKind

MOST_EDGES = 20_000
"""Links around a target that are gathered; a picture or a list of more helps nobody, and a hostile snapshot could make millions."""
Levels = list[tuple[Edge, int]]
End = Callable[[Edge], Node]
"""One of the two ends of an edge."""


def around(graph: Graph, node: Node, kinds: Iterable[LinkKind], depth: int) -> tuple[Levels, Levels]:
    """The edges to what *node* needs and from what needs it, nearest first, each with its level (from 1).

    Every node is entered once, so loops end. At most ``MOST_EDGES`` edges each way.
    """
    wanted = tuple(kinds)
    return (
        _levels(node, lambda n: graph.needs(n, wanted), lambda e: e.head, depth),
        _levels(node, lambda n: graph.needed_by(n, wanted), lambda e: e.tail, depth),
    )


def folded(levels: Levels, start: Node, near: End, far: End, stays: Callable[[Node], bool]) -> tuple[Levels, int]:
    """*levels* without what does not stay, and without what hangs on the target by that alone; and how many nodes these are.

    What leads to a node that stays by itself, and to none that stays otherwise, has to be kept by *stays*, too.
    """
    kept: Levels = []
    reached = {start.key}
    for edge, level in levels:
        if near(edge).key in reached and stays(far(edge)):
            kept.append((edge, level))
            reached.add(far(edge).key)
    every = {far(edge).key for edge, _ in levels}
    return kept, len(every - reached)


def leading_to(levels: Levels, near: End, far: End, is_sought: Callable[[Node], bool]) -> frozenset[Key]:
    """All nodes of *levels* that are sought, or that lead to such a one."""
    above: dict[Key, list[Key]] = {}
    for edge, _ in levels:
        above.setdefault(far(edge).key, []).append(near(edge).key)
    found = {far(edge).key for edge, _ in levels if is_sought(far(edge))}
    open_ends = list(found)
    while open_ends:
        for key in above.get(open_ends.pop(), ()):
            if key not in found:
                found.add(key)
                open_ends.append(key)
    return frozenset(found)


def _levels(start: Node, edges: Callable[[Node], list[Edge]], far: Callable[[Edge], Node], depth: int) -> Levels:
    found: Levels = []
    seen = {start.key}
    level = [start]
    for distance in range(1, depth + 1):
        below: list[Node] = []
        for node in level:
            for edge in edges(node):
                if len(found) >= MOST_EDGES:
                    return found
                found.append((edge, distance))
                if far(edge).key not in seen:
                    seen.add(far(edge).key)
                    below.append(far(edge))
        level = below
    return found

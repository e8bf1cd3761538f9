"""The neighborhood of a node: its links in both directions, level by level."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from hollow_chain.chain.graph import Edge, Graph, Node
from hollow_chain.facts.service import LinkKind

MOST_EDGES = 20_000
"""Links around a target that are gathered; a picture or a list of more helps nobody, and a hostile snapshot could make millions."""
Levels = list[tuple[Edge, int]]


def around(graph: Graph, node: Node, kinds: Iterable[LinkKind], depth: int) -> tuple[Levels, Levels]:
    """The edges to what *node* needs and from what needs it, nearest first, each with its level (from 1).

    Every node is entered once, so loops end. At most ``MOST_EDGES`` edges each way.
    """
    wanted = tuple(kinds)
    return (
        _levels(node, lambda n: graph.needs(n, wanted), lambda e: e.head, depth),
        _levels(node, lambda n: graph.needed_by(n, wanted), lambda e: e.tail, depth),
    )


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

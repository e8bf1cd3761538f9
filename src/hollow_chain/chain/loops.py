"""Loops and order in the graph: strongly connected parts, a loop to print, deepest first."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from hollow_chain.chain.graph import Node

Step = Callable[[Node], Iterable[Node]]


def knots(starts: Iterable[Node], step: Step) -> list[list[Node]]:
    """The strongly connected parts that *step* leads to from *starts*, each part before those that need it.

    Tarjan, "Depth-first search and linear graph algorithms", 1972, with an explicit stack: chains are as long
    as hostile facts make them. Flattened, the result is a deepest-first order.
    """
    number: dict[tuple[str, str], int] = {}
    low: dict[tuple[str, str], int] = {}
    open_nodes: list[Node] = []
    is_open: set[tuple[str, str]] = set()
    parts: list[list[Node]] = []

    def enter(node: Node) -> None:
        number[node.key] = low[node.key] = len(number)
        open_nodes.append(node)
        is_open.add(node.key)
        path.append((node, iter(list(step(node)))))

    path: list[tuple[Node, Iterable[Node]]] = []
    for start in starts:
        if start.key not in number:
            enter(start)
        while path:
            node, below = path[-1]
            for child in below:
                if child.key not in number:
                    enter(child)
                    break
                if child.key in is_open:
                    low[node.key] = min(low[node.key], number[child.key])
            else:
                path.pop()
                if path:
                    upper = path[-1][0].key
                    low[upper] = min(low[upper], low[node.key])
                if low[node.key] == number[node.key]:
                    parts.append(_close(node, open_nodes, is_open))
    return parts


def _close(root: Node, open_nodes: list[Node], is_open: set[tuple[str, str]]) -> list[Node]:
    part: list[Node] = []
    while True:
        node = open_nodes.pop()
        is_open.discard(node.key)
        part.append(node)
        if node.key == root.key:
            return part


def deepest_first(start: Node, step: Step) -> list[Node]:
    """Everything below *start* and *start* itself, so that nothing stands before what it needs (loops aside)."""
    return [node for part in knots([start], step) for node in part]


def loop_through(node: Node, step: Step) -> list[Node]:
    """A shortest loop that leads from *node* back to itself, *node* first; empty where there is none."""
    came_from: dict[tuple[str, str], Node] = {}
    level = [node]
    seen = {node.key}
    while level:
        below: list[Node] = []
        for upper in level:
            for child in step(upper):
                if child.key == node.key:
                    return _way_back(upper, node, came_from)
                if child.key not in seen:
                    seen.add(child.key)
                    came_from[child.key] = upper
                    below.append(child)
        level = below
    return []


def _way_back(last: Node, first: Node, came_from: dict[tuple[str, str], Node]) -> list[Node]:
    way = [last]
    while way[-1].key != first.key:
        way.append(came_from[way[-1].key])
    return way[::-1]

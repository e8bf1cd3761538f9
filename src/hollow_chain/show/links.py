"""Links as two trees in text: what the target needs, and what it is needed by."""

from __future__ import annotations

from collections.abc import Callable

from hollow_chain.causes import Facts
from hollow_chain.chain import Edge, Node, stop_takes
from hollow_chain.show.clean import clean
from hollow_chain.show.page import Page, age
from hollow_chain.show.signs import sign_of, state_word, word_of

MOST_LINES = 200
Levels = list[tuple[Edge, int]]


def show_links(page: Page, facts: Facts, node: Node, needs: Levels, needed_by: Levels, depth: int) -> None:
    """Write both directions around *node*, and what a stop of it takes along."""
    host = facts.graph.hosts[node.host]
    _node_line(page, facts, node, "", 0)
    page.line((age(host.read_at), "dim"))
    page.heading(f"{clean(node.name, 80)} needs")
    _tree(page, facts, node, needs, lambda e: e.tail, lambda e: e.head, depth)
    page.heading(f"{clean(node.name, 80)} is needed by")
    _tree(page, facts, node, needed_by, lambda e: e.head, lambda e: e.tail, depth)
    taken = stop_takes(facts.graph, node)
    page.heading(f"A stop of {clean(node.name, 80)} takes along")
    running = [n for n in taken if n.service is not None and n.service.state == "running"]
    names = ", ".join(clean(n.name, 80) for n in running[:40])
    more = f" and {len(running) - 40} more" if len(running) > 40 else ""
    page.line(names + more or "nothing that is running", indent=3, hang=0)


def _tree(
    page: Page,
    facts: Facts,
    root: Node,
    levels: Levels,
    near: Callable[[Edge], Node],
    far: Callable[[Edge], Node],
    depth: int,
) -> None:
    if not levels:
        page.line("nothing", indent=3)
        return
    below: dict[tuple[str, str], list[Edge]] = {}
    for edge, _ in levels:
        below.setdefault(near(edge).key, []).append(edge)
    opened = {root.key}
    stack = [(edge, 1) for edge in reversed(_ranked(facts, below.get(root.key, []), far))]
    lines = 0
    while stack:
        edge, level = stack.pop()
        lines += 1
        if lines > MOST_LINES:
            page.line("... more; write them all with --json or --out", indent=3)
            return
        node = far(edge)
        again = node.key in opened
        more = below.get(node.key, [])
        suffix = "  (see above)" if again and more else ""
        _node_line(page, facts, node, _kind(edge), level, root.host, suffix)
        if not again:
            opened.add(node.key)
            stack += [(e, level + 1) for e in reversed(_ranked(facts, more, far))]


def _ranked(facts: Facts, edges: list[Edge], far: Callable[[Edge], Node]) -> list[Edge]:
    """What is not well first, then hard before soft, then by name."""
    kinds = ("hard", "soft", "order", "clash")
    return sorted(edges, key=lambda e: (facts.standing(far(e)).well, kinds.index(e.link.kind), far(e).name))


def _kind(edge: Edge) -> str:
    return f"{edge.link.kind}, {clean(edge.link.word, 30)}" if edge.link.word else edge.link.kind


def _node_line(page: Page, facts: Facts, node: Node, kind: str, level: int, home: str = "", suffix: str = "") -> None:
    standing = facts.standing(node)
    sign = sign_of(standing)
    service = node.service
    state = state_word(service.kind, service.state) if service else "not registered"
    where = f" on {clean(node.host, 80)}" if node.host != home else ""
    startup = f", {service.startup}" if service and service.startup != "unknown" else ""
    bad = (f"  {word_of(standing)}", "bold red") if not standing.well and (level == 0 or service or "hard" in kind) else ""
    page.line(
        (f"{page.sign(sign)} ", sign.style),
        clean(node.name, 120) + where,
        f"  {state}{startup}",
        bad,
        (f"  ({kind})" if kind else "", "dim"),
        (suffix, "dim"),
        indent=3 * level,
        hang=4,
    )

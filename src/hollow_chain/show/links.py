"""Links as two trees in text: what the target needs, and what it is needed by."""

from __future__ import annotations

from collections.abc import Callable

from hollow_chain.chain import Edge, Node, stop_takes
from hollow_chain.chain.around import Levels
from hollow_chain.show.clean import clean
from hollow_chain.show.own_words import startup_words
from hollow_chain.show.page import Page, age
from hollow_chain.show.surroundings import Surroundings
from hollow_chain.show.trees import Branch

MOST_LINES = 200
"""Links that are drawn as text: some screens full."""


def show_links(page: Page, view: Surroundings) -> None:
    """Write both directions around *node*, and what a stop of it takes along."""
    node, graph = view.target, view.facts.graph
    host = graph.hosts[node.host]
    _node_line(page, view, node, "", Branch())
    page.line((age(host.read_at), "dim"))
    taken = stop_takes(graph, node)
    page.heading(f"A stop of {clean(node.name, 80)} takes along")
    running = [n for n in taken if n.service is not None and n.service.state == "running"]
    names = ", ".join(clean(n.name, 80) for n in running[:40])
    more = f" and {len(running) - 40} more" if len(running) > 40 else ""
    page.line(names + more or "nothing that is running", indent=3, hang=0)
    page.heading(f"{clean(node.name, 80)} needs")
    _tree(page, view, view.needs, lambda e: e.tail, lambda e: e.head)
    _show_folded(page, view.folded[0])
    page.heading(f"{clean(node.name, 80)} is needed by")
    _tree(page, view, view.needed_by, lambda e: e.head, lambda e: e.tail)
    _show_folded(page, view.folded[1])
    page.legend()


def _show_folded(page: Page, number: int) -> None:
    if number:
        page.line(
            (f"and {number:,} of the base system, well (slices, start-up targets, mounts): --all", "dim"), indent=3
        )


def _tree(
    page: Page,
    view: Surroundings,
    levels: Levels,
    near: Callable[[Edge], Node],
    far: Callable[[Edge], Node],
) -> None:
    if not levels:
        page.line("nothing of its own" if any(view.folded) else "nothing", indent=3)
        return
    below: dict[tuple[str, str], list[Edge]] = {}
    for edge, _ in levels:
        below.setdefault(near(edge).key, []).append(edge)
    root = view.target
    opened = {root.key}

    def children(key: tuple[str, str], place: Branch) -> list[tuple[Edge, Branch]]:
        ranked = _ranked(view, below.get(key, []), far)
        return [(edge, place.below(edge is not ranked[-1])) for edge in reversed(ranked)]

    stack = children(root.key, Branch())
    lines = 0
    while stack:
        edge, place = stack.pop()
        lines += 1
        if lines > MOST_LINES:
            page.line("... more; write them all with --json or --out", indent=3)
            return
        node = far(edge)
        again = node.key in opened
        more = below.get(node.key, [])
        suffix = "  (see above)" if again and more else ""
        _node_line(page, view, node, _kind(edge), place, root.host, suffix)
        if not again:
            opened.add(node.key)
            stack += children(node.key, place)


def _ranked(view: Surroundings, edges: list[Edge], far: Callable[[Edge], Node]) -> list[Edge]:
    """What is not well first, then hard before soft, then by name."""
    kinds = ("hard", "soft", "order", "clash")
    return sorted(edges, key=lambda e: (view.is_well(far(e)), kinds.index(e.link.kind), far(e).name))


def _kind(edge: Edge) -> str:
    return f"{edge.link.kind}, {clean(edge.link.word, 30)}" if edge.link.word else edge.link.kind


def _node_line(
    page: Page, view: Surroundings, node: Node, kind: str, place: Branch, home: str = "", suffix: str = ""
) -> None:
    sign = view.sign(node)
    service = node.service
    where = f" on {clean(node.host, 80)}" if node.host != home else ""
    words = startup_words(service, view.facts.graph.hosts.get(node.host)) if service else ""
    startup = f", {words}" if words else ""
    lead = place.lead(page)
    page.line(
        (lead, "dim"),
        (f"{page.sign(sign)} ", sign.style),
        clean(node.name, 120) + where,
        f"  {view.state(node)}{startup}",
        ("" if view.is_well(node) else f"  {view.word(node)}", "bold red"),
        (f"  ({kind})" if kind else "", "dim"),
        (suffix, "dim"),
        indent=3 if lead else 0,
        hang=len(lead) + 4,
        under=place.trunk(page, place.siblings) if lead else "",
    )

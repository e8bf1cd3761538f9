"""The links around a service as a picture: what it is needed by above it, what it needs below it."""

from __future__ import annotations

import io
import math
from typing import Any

from hollow_chain.causes import Standing
from hollow_chain.chain import Edge, Node
from hollow_chain.lacking import needs
from hollow_chain.show.clean import clean
from hollow_chain.show.surroundings import Key, Surroundings

MOST_NODES = 30
_PER_ROW = 6
"""Boxes in all and side by side that can still be read at the size of a page."""
_FILL = {
    Standing.UP: ("#e3f1e5", "#2f7d46"),
    Standing.NOT_YET: ("#e2eef8", "#2b6ca3"),
    Standing.IDLE: ("#f1f1f1", "#8a8a8a"),
    Standing.DOWN: ("#fbe3dd", "#b3341c"),
    Standing.UNSTABLE: ("#fbe3dd", "#b3341c"),
}
_LINE: dict[str, Any] = {"hard": "-", "soft": (0, (6, 3)), "order": (0, (1, 2)), "clash": (0, (4, 2, 1, 2))}


def draw(view: Surroundings, kind: str) -> bytes:
    """The picture as PNG or SVG (*kind*). Beyond ``MOST_NODES`` nodes, the far and healthy ones are left out, and
    the picture says how many."""
    with needs("pictures", "a picture"):
        import matplotlib
    matplotlib.use("Agg")
    matplotlib.rcParams["svg.hashsalt"] = "hollow-chain"
    from matplotlib.figure import Figure

    target = view.target
    levels = _levels(view)
    kept = _kept(view, levels)
    rows = _rows(kept, levels, view.edges)
    places = _places(rows)
    height = min(max(4.2, 1.25 * len(rows) + 1.4), 40.0)
    figure = Figure(figsize=(12.8, height), dpi=100, facecolor="white")
    axes = figure.add_axes((0.01, 0.01, 0.98, 1 - 0.85 / height))
    axes.set_axis_off()
    axes.set_xlim(-0.5, _PER_ROW - 0.5)
    axes.set_ylim(-len(rows) + 0.45, 0.55)
    for edge in view.edges:
        if edge.tail.key in places and edge.head.key in places:
            _draw_edge(axes, edge, places)
    for number, node in enumerate(kept):
        _draw_node(axes, view, node, places[node.key], node.key == target.key, f"box-{number}")
    left = len(view.nodes) - len(kept)
    title = f"{clean(target.name, 80)} on {clean(target.host, 60)}: needed by (above), needs (below)"
    figure.text(0.015, 1 - 0.28 / height, plain(title), fontsize=13, fontweight="bold", va="center", color="#222222")
    legend = "solid: hard · dashed: soft · dotted: order · dash-dot: clash · arrows point at what is needed"
    figure.text(
        0.015,
        1 - 0.6 / height,
        legend + (f" · {left} more not drawn" if left else ""),
        fontsize=9,
        color="#555555",
        va="center",
    )
    out = io.BytesIO()
    figure.savefig(out, format=kind, metadata={"Date": None} if kind == "svg" else None)
    return _titled(out.getvalue(), view, kept) if kind == "svg" else out.getvalue()


def _titled(svg: bytes, view: Surroundings, kept: list[Node]) -> bytes:
    """The picture with the full text of each box, which a browser shows where one points (SVG 2, 5.7, "title")."""
    from xml.sax.saxutils import escape

    for number, node in enumerate(kept):
        title = f"{clean(node.name, 300)} on {clean(node.host, 100)}: {view.state(node)}, {view.word(node)}"
        begin = f'<g id="box-{number}">'
        svg = svg.replace(begin.encode(), f"{begin}<title>{escape(title)}</title>".encode(), 1)
    return svg


def plain(text: str) -> str:
    """Text that the drawing library does not take for a formula."""
    return text.replace("$", r"\$")


def _levels(view: Surroundings) -> dict[Key, int]:
    """Rows: 0 for the target, positive downward for what it needs, negative for what needs it; the nearest counts."""
    found: dict[Key, int] = {view.target.key: 0}
    for edge, level in view.needs:
        found.setdefault(edge.head.key, level)
    for edge, level in view.needed_by:
        found.setdefault(edge.tail.key, -level)
    return found


def _kept(view: Surroundings, levels: dict[Key, int]) -> list[Node]:
    """The target, then what is not well, then the nearest, hard needs before others."""
    hard = {key for edge in view.edges if edge.link.kind == "hard" for key in (edge.tail.key, edge.head.key)}
    ranked = sorted(
        view.nodes,
        key=lambda n: (n.key != view.target.key, view.is_well(n), n.key not in hard, abs(levels[n.key])),
    )
    kept = {node.key for node in ranked[:MOST_NODES]}
    return [node for node in view.nodes if node.key in kept]


def _rows(kept: list[Node], levels: dict[Key, int], edges: list[Edge]) -> list[list[Node]]:
    """Rows of nodes, each sorted by the mean place of its neighbors in the row nearer to the target."""
    by_level: dict[int, list[Node]] = {}
    for node in kept:
        by_level.setdefault(levels[node.key], []).append(node)
    place: dict[Key, float] = {}
    ordered: dict[int, list[Node]] = {}
    for level in sorted(by_level, key=abs):
        row = sorted(by_level[level], key=lambda n: (_mean(n, edges, place), n.host, n.name))
        for index, node in enumerate(row):
            place[node.key] = index - (len(row) - 1) / 2
        ordered[level] = row
    rows: list[list[Node]] = []
    for level in sorted(ordered):
        row = ordered[level]
        parts = math.ceil(len(row) / _PER_ROW)
        size = math.ceil(len(row) / parts)
        rows += [row[i : i + size] for i in range(0, len(row), size)]
    return rows


def _mean(node: Node, edges: list[Edge], place: dict[Key, float]) -> float:
    near = [place[e.tail.key] for e in edges if e.head.key == node.key and e.tail.key in place]
    near += [place[e.head.key] for e in edges if e.tail.key == node.key and e.head.key in place]
    return sum(near) / len(near) if near else 0.0


def _places(rows: list[list[Node]]) -> dict[Key, tuple[float, float]]:
    places: dict[Key, tuple[float, float]] = {}
    for depth, row in enumerate(rows):
        gap = _PER_ROW / len(row)
        for index, node in enumerate(row):
            places[node.key] = (gap * (index + 0.5) - 0.5, float(-depth))
    return places


def _draw_edge(axes: Any, edge: Edge, places: dict[Key, tuple[float, float]]) -> None:
    (x0, y0), (x1, y1) = places[edge.tail.key], places[edge.head.key]
    down = y1 < y0
    start = (x0, y0 - 0.25 if down else y0 + 0.25)
    end = (x1, y1 + 0.25 if down else y1 - 0.25)
    if y0 == y1:
        start, end = (x0, y0 - 0.25), (x1, y1 - 0.25)
    axes.annotate(
        "",
        xy=end,
        xytext=start,
        arrowprops={
            "arrowstyle": "-|>",
            "linestyle": _LINE[edge.link.kind],
            "color": "#b3341c" if edge.link.kind == "clash" else "#666666",
            "linewidth": 1.4 if edge.link.kind == "hard" else 1.0,
            "connectionstyle": "arc3,rad=0.35" if y0 == y1 else "arc3,rad=0",
            "shrinkA": 0,
            "shrinkB": 1,
        },
        zorder=1,
    )


def _draw_node(
    axes: Any, view: Surroundings, node: Node, place: tuple[float, float], is_target: bool, name_of_box: str
) -> None:
    from matplotlib.patches import FancyBboxPatch

    well = view.is_well(node)
    fill, line = _FILL[view.standing(node) if well else Standing.DOWN]
    x, y = place
    box = FancyBboxPatch(
        (x - 0.46, y - 0.24),
        0.92,
        0.48,
        boxstyle="round,pad=0,rounding_size=0.06",
        facecolor=fill,
        edgecolor=line,
        linewidth=2.6 if is_target else 1.2,
        linestyle="-" if well else "--",
        zorder=2,
    )
    box.set_gid(name_of_box)
    axes.add_patch(box)
    name = clean(node.name, 23)
    axes.text(
        x,
        y + 0.12,
        plain(name),
        ha="center",
        va="center",
        fontsize=8.5,
        fontweight="bold",
        color="#222222",
        zorder=3,
    )
    axes.text(
        x,
        y - 0.02,
        plain(clean(node.host, 30)),
        ha="center",
        va="center",
        fontsize=7.5,
        color="#555555",
        zorder=3,
    )
    axes.text(
        x,
        y - 0.14,
        f"{view.state(node)} \u2013 {view.word(node)}",
        ha="center",
        va="center",
        fontsize=8,
        color=line,
        zorder=3,
    )

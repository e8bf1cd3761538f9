"""A rehearsal as a picture: when each service comes up, with its spread; what is of no special interest is folded."""

from __future__ import annotations

import io
from typing import Any

from hollow_chain.boot.rehearsal import Odds, Rehearsal
from hollow_chain.lacking import needs
from hollow_chain.show.clean import clean
from hollow_chain.show.picture import plain
from hollow_chain.show.rehearsal import SURE, interesting, percent, scale_of, seconds, why
from hollow_chain.wording.counts import counted

MOST_ROWS = 24
"""Bars of a timeline that can be told apart at the size of a page."""
_WELL, _WEAK, _HOLLOW, _FOLDED = "#2f7d46", "#b8860b", "#b3341c", "#8a97a8"


def draw(rehearsal: Rehearsal, kind: str) -> bytes:
    """The picture as PNG or SVG (*kind*)."""
    with needs("pictures", "a picture"):
        import matplotlib
    matplotlib.use("Agg")
    matplotlib.rcParams["svg.hashsalt"] = "hollow-chain"
    from matplotlib.figure import Figure

    rows = interesting(rehearsal, MOST_ROWS)
    rest = [o for o in rehearsal.services if o not in rows and o.p50 is not None and o.starts and o.kind != "remote"]
    height = max(5.0, 0.24 * len(rows) + (1.9 if rest else 0.0) + 1.5)
    figure = Figure(figsize=(12.8, height), dpi=100, facecolor="white")
    top = 1 - 0.95 / height
    folded = (1.5 / height) if rest else 0.0
    bottom = 0.55 / height
    axes = figure.add_axes((0.24, bottom + folded, 0.60, top - bottom - folded))
    end = _end(rows, rest)
    for place, odds in enumerate(rows):
        _row(axes, place, odds, end)
    axes.set_ylim(len(rows) - 0.4, -0.6)
    axes.set_yticks(range(len(rows)), [plain(clean(odds.service, 34)) for odds in rows], fontsize=8.5)
    _dress(axes, end, labeled=not rest)
    if rest:
        _fold(figure.add_axes((0.24, bottom, 0.60, folded - 0.25 / height), sharex=axes), rest, end)
    _titles(figure, rehearsal, height)
    out = io.BytesIO()
    metadata = {"Date": None} if kind == "svg" else {"Software": None}
    figure.savefig(out, format=kind, metadata=metadata)
    return out.getvalue()


def _end(rows: list[Odds], rest: list[Odds]) -> float:
    return 1.04 * scale_of([odds.p95 or 0.0 for odds in (*rows, *rest)]) or 1.0


def _row(axes: Any, place: int, odds: Odds, end: float) -> None:
    color = _WELL if odds.up >= SURE else _HOLLOW if odds.up_in_the_end < 0.5 else _WEAK
    if odds.p50 is not None and odds.p50 > end:
        axes.plot((end * 0.99,), (place,), marker=">", color=color, markersize=5)  # it comes after the end of the scale
    elif odds.p50 is not None and odds.p5 is not None and odds.p95 is not None:
        begun = min(odds.begun or 0.0, odds.p50)
        axes.barh(place, odds.p50 - begun, left=begun, height=0.52, color=color, alpha=0.35, linewidth=0)
        axes.plot((odds.p5, min(odds.p95, end)), (place, place), color=color, linewidth=1.3, solid_capstyle="butt")
        axes.plot((odds.p50,), (place,), marker="D", color=color, markersize=4.5)
    said = seconds(odds.p50) if odds.up >= SURE else _why_not(odds)
    axes.text(end * 1.01, place, plain(said[:38]), fontsize=7.5, va="center", color=color, clip_on=False)


def _why_not(odds: Odds) -> str:
    """The chance, and the reasons; of one that never comes up, only what that is for: there is little room."""
    if odds.up_in_the_end == 0 and odds.why_not:
        blame = f", at {next(iter(odds.blame))}" if odds.blame else ""
        return f"never: {next(iter(odds.why_not))}{blame}"
    return f"up {percent(odds.up_in_the_end)}  {why(odds)}"


def _dress(axes: Any, end: float, labeled: bool) -> None:
    axes.set_xlim(0, end)
    axes.grid(axis="x", color="#e3e6ea", linewidth=0.7)
    axes.set_axisbelow(True)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.tick_params(left=False, labelbottom=labeled, labelsize=8.5)
    if labeled:
        axes.set_xlabel("seconds after the beginning of the boot", fontsize=9)


def _fold(axes: Any, rest: list[Odds], end: float) -> None:
    """All others as one: how many of them are up, by median moment, between their early and late moments."""
    for name, style in (("p5", ":"), ("p50", "-"), ("p95", ":")):
        moments = sorted(min(getattr(odds, name), end) for odds in rest)
        axes.step([0.0, *moments, end], [0, *range(1, len(moments) + 1), len(moments)], where="post", color=_FOLDED,
                  linestyle=style, linewidth=1.6 if style == "-" else 1.0)  # fmt: skip
    axes.set_ylim(0, len(rest) * 1.1 + 1)
    axes.set_yticks((0, len(rest)))
    _dress(axes, end, labeled=True)
    axes.spines["left"].set_visible(True)
    axes.text(
        -0.03,
        0.5,
        f"{len(rest)} more:\nhow many are up",
        transform=axes.transAxes,
        fontsize=8.5,
        ha="right",
        va="center",
    )


def _titles(figure: Any, rehearsal: Rehearsal, height: float) -> None:
    low, middle, high = rehearsal.done
    title = f"{clean(rehearsal.host, 60)}: the next boot, rehearsed {counted(rehearsal.runs, 'time')}"
    figure.text(0.015, 1 - 0.3 / height, plain(title), fontsize=13, fontweight="bold", va="center", color="#222222")
    legend = (
        f"all up after {seconds(middle)} ({seconds(low)} to {seconds(high)}) · bar: from the begin of its start to the median · "
        "line: 5 to 95 in 100 boots · green: surely up · yellow: not surely · red: mostly not"
    )
    figure.text(0.015, 1 - 0.62 / height, legend, fontsize=8.5, va="center", color="#555555")

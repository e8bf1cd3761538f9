"""Before and after, for a person and as JSON."""

from __future__ import annotations

from hollow_chain.boot.compare import Comparison, Difference, Shift
from hollow_chain.boot.durations import AT_ONCE
from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document
from hollow_chain.show.page import Page
from hollow_chain.show.rehearsal import percent, seconds
from hollow_chain.show.signs import HOLLOW, PENDING, SOLID, Sign
from hollow_chain.wording.counts import counted

_MOST = 25
"""Rows of a comparison: what changed most; the rest is in the document."""
_GROUPS: tuple[tuple[tuple[str, ...], str, Sign], ...] = (
    (("better",), "Better", SOLID),
    (("worse",), "Worse", HOLLOW),
    (("earlier",), "Earlier", SOLID),
    (("later",), "Later", HOLLOW),
    (("unsure",), "Not to be told from chance (more --runs would tell)", PENDING),
)


def show_comparison(page: Page, host: str, changes: list[str], comparison: Comparison, seed: int) -> None:
    """Write what the changes do."""
    page.line((clean(host, 80), "bold"), f": {counted(comparison.runs, 'boot')} before and after (seed {seed}), if")
    for change in changes:
        page.line(f"- {clean(change, 300)}", indent=2, hang=2)
    shown = [shift for shift in comparison.shifts if shift.kind not in AT_ONCE]
    for verdicts, title, sign in _GROUPS:
        group = sorted((s for s in shown if s.verdict in verdicts), key=lambda s: -_weight(s))
        if group:
            page.heading(title)
        for shift in group[:_MOST]:
            page.line(
                (f"{page.sign(sign)} ", sign.style), f"{clean(shift.service, 60):<30} {_said(shift)}", indent=1, hang=34
            )
        if len(group) > _MOST:
            page.line(f"and {len(group) - _MOST} more", indent=3)
    same = sum(1 for shift in shown if shift.verdict == "same")
    page.gap()
    page.line(f"{counted(same, 'service')} as before." if same < len(shown) else "Nothing differs.")
    if comparison.done.mean:
        page.line(
            f"All that starts with the boot is up after {seconds(comparison.done_after)}, before after {seconds(comparison.done_before)} "
            f"({_interval(comparison.done)})."
        )


def _weight(shift: Shift) -> float:
    return (
        abs(shift.up.mean)
        if shift.verdict in ("better", "worse")
        else abs(shift.seconds.mean)
        if shift.seconds
        else 0.0
    )


def _said(shift: Shift) -> str:
    if abs(shift.up.mean) >= 0.001:
        low, high = 100 * shift.up.low, 100 * shift.up.high
        moment = f", after {seconds(shift.seconds_after)}" if shift.seconds_after is not None else ""
        return f"up in {percent(shift.up_before)} -> {percent(shift.up_after)}{moment} ({low:+.1f} to {high:+.1f} in 100 boots)"
    told = f" ({_interval(shift.seconds)})" if shift.seconds else ""
    return f"{seconds(shift.seconds_before)} -> {seconds(shift.seconds_after)}{told}"


def _interval(difference: Difference) -> str:
    return f"{difference.low:+.2f} to {difference.high:+.2f} s, on average"


def comparison_document(host: str, changes: list[str], comparison: Comparison, seed: int) -> Document:
    """``hollow-chain/supposition``, version 1."""
    return {
        "format": "hollow-chain/supposition",
        "version": 1,
        "host": host,
        "runs": comparison.runs,
        "seed": seed,
        "changes": changes,
        "done_seconds": {
            "before": round(comparison.done_before, 4),
            "after": round(comparison.done_after, 4),
            "difference": _document(comparison.done),
        },
        "services": [
            {
                "service": shift.service,
                "verdict": shift.verdict,
                "up": {"before": shift.up_before, "after": shift.up_after, "difference": _document(shift.up)},
                "seconds": {
                    "before": shift.seconds_before,
                    "after": shift.seconds_after,
                    "difference": _document(shift.seconds) if shift.seconds else None,
                },
            }
            for shift in comparison.shifts
        ],
    }


def _document(difference: Difference) -> Document:
    return {
        "mean": round(difference.mean, 5),
        "low": round(difference.low, 5),
        "high": round(difference.high, 5),
        "real": difference.is_real,
    }

"""What has drifted, for a person and as a document."""

from __future__ import annotations

from hollow_chain.causes.words import clock
from hollow_chain.fleet.drifting import Drift, Drifted, Odd, is_far
from hollow_chain.lately.between import FAR, Divergence
from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document, when
from hollow_chain.show.page import Page
from hollow_chain.wording.counts import counted

_FEW, _MOST = 12, 60
"""Differences that are shown: what is tied to what is not well, and all where --all asks for them."""


def show_drift(page: Page, drift: Drift, everything: bool) -> None:
    """Write what differs, what matters most first."""
    page.line(
        (f"{clean(drift.host, 80)} {clock(drift.now)}", "bold"),
        f"  against {clean(drift.against, 160)}",
    )
    if not drift.found and not drift.stands:
        page.line("Nothing differs that both readings looked at.")
        return
    shown = (
        drift.found[:_MOST]
        if everything
        else [one for one in drift.found if not is_far(one)][:_FEW] or drift.found[:_FEW]
    )
    for number, one in enumerate(shown):
        _show_one(page, number + 1, one)
    if len(shown) < len(drift.found):
        page.line(
            (f"and {counted(len(drift.found) - len(shown), 'difference')} that nothing ties to trouble: --all", "dim"),
            indent=2,
        )
    if drift.stands:
        page.heading("What became of it")
        for stands in drift.stands[: _MOST if everything else _FEW]:
            page.line(_words(stands), indent=2, hang=2)
        left = len(drift.stands) - (_MOST if everything else _FEW)
        if left > 0:
            page.line((f"and {left} more: --all", "dim"), indent=2)


def _show_one(page: Page, number: int, one: Drifted) -> None:
    page.line(f"{number:>2}. ", (_words(one.divergence), "bold" if number == 1 else ""), hang=4)
    why = _why(one)
    if why:
        page.line((why, "dim"), indent=4, hang=2)


def _words(one: Divergence) -> str:
    who = f"{clean(one.service, 100)}: " if one.service else ""
    return f"{who}{clean(one.about, 160)} {clean(one.before, 200) or 'none'} -> {clean(one.after, 200) or 'none'}"


def _why(one: Drifted) -> str:
    parts = []
    if one.went is not None and one.went.strength:
        counts = one.went.counts
        of, others = counts.sick_with + counts.well_with, counts.sick + counts.well
        parts.append(
            f"of {counted(of, 'host')} that have it {counts.sick_with} fail as this one does, of {others - of} others"
            f" {counts.sick - counts.sick_with}"
        )
    if one.divergence.near == 0:
        parts.append("it is not well")
    elif one.divergence.near < FAR:
        parts.append(f"{counted(one.divergence.near, 'link')} below what is not well")
    return "; ".join(parts)


def show_odd(page: Page, host: str, group: str, odd: list[Odd]) -> None:
    """Write what a host has otherwise than most of its group."""
    page.line((clean(host, 80), "bold"), f"  against what most of group {clean(group, 80)} have")
    if not odd:
        page.line("It has nothing otherwise than most of them.")
    for number, one in enumerate(odd[:_MOST]):
        who = f"{clean(one.service, 100)}: " if one.service else ""
        page.line(
            f"{number + 1:>2}. ",
            (f"{who}{clean(one.about, 120)} {clean(one.has, 200)}", "bold" if not number else ""),
            f", and {clean(one.most_have, 200)} on {one.most} of {one.of}",
            hang=4,
        )


def drift_document(drift: Drift) -> Document:
    """``drift --json``."""
    return {
        "format": "hollow-chain/drift",
        "version": 1,
        "host": drift.host,
        "against": drift.against,
        "then": when(drift.then),
        "now": when(drift.now),
        "differences": [_entry(one) for one in drift.found],
        "became": [
            {
                "service": one.service or None,
                "about": one.about,
                "before": one.before or None,
                "after": one.after or None,
            }
            for one in drift.stands
        ],
    }


def _entry(one: Drifted) -> Document:
    divergence, went = one.divergence, one.went
    return {
        "service": divergence.service or None,
        "about": divergence.about,
        "before": divergence.before or None,
        "after": divergence.after or None,
        "links_from_trouble": divergence.near if divergence.near < FAR else None,
        "went_with_failure": None
        if went is None
        else {
            "not_well_with": went.counts.sick_with,
            "not_well": went.counts.sick,
            "well_with": went.counts.well_with,
            "well": went.counts.well,
            "is_more_than_chance": went.strength > 0,
        },
    }


def odd_document(host: str, group: str, odd: list[Odd]) -> Document:
    """The same against a group."""
    return {
        "format": "hollow-chain/drift",
        "version": 1,
        "host": host,
        "against": f"group {group}",
        "then": None,
        "now": None,
        "differences": [
            {
                "service": one.service or None,
                "about": one.about,
                "before": one.most_have,
                "after": one.has,
                "most": one.most,
                "of": one.of,
            }
            for one in odd
        ],
        "became": [],
    }

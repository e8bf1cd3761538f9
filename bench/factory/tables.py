"""What a run of the factory is worth: accuracy by operator, by daemon, by half; the reliability table; every bold wrong answer."""

from __future__ import annotations

import statistics
from collections import defaultdict
from collections.abc import Callable, Iterator

from bench.factory.trial import Outcome
from bench.faults import brier, reliability

BOLD = 0.8
"""Confidence from which a wrong answer is told in full."""


def tables(outcomes: list[Outcome], blind: bool = False) -> Iterator[str]:
    """All tables; *blind* leaves out whatever tells of a single answer."""
    broken = [o for o in outcomes if o.state == "broken"]
    whole = sum(o.state == "whole" for o in outcomes)
    yield f"{len(outcomes)} tried: {len(broken)} broken, {whole} stayed whole, {len(outcomes) - len(broken) - whole} were not whole before"
    if not broken:
        return
    right = [o.right for o in broken]
    yield (
        f"first cause right: {sum(right)} of {len(broken)} ({statistics.fmean(right):.3f}); names the thing: "
        f"{sum(o.exact for o in broken)}; no cause at all: {sum(not o.causes for o in broken)}; "
        f"second look differs: {sum(not o.steady for o in broken)}"
    )
    pairs = [o for o in broken if o.pair]
    if pairs:
        yield f"pairs: both faults named in {sum(o.both for o in pairs)} of {len(pairs)}"
    silent = [
        o
        for o in broken
        if o.observed and not o.told and o.observed["outcome"] != "up" and set(o.wanted) != {"config-rejected"}
    ]
    if silent:
        yield f"silent: {len(silent)} on {len({o.unit for o in silent})} daemons, which the records do not explain; observed,"
        yield f"  the right cause is first in {sum(o.right for o in silent)}, with the right thing in {sum(o.exact for o in silent)}"
    claims = [(o.causes[0]["confidence"], o.right) for o in broken if o.causes and not o.causes[0].get("note")]
    yield (
        f"Brier score of the first causes: {brier(claims):.4f}; wrong at 0.9 and more: "
        f"{sum(sure >= 0.9 and not ok for sure, ok in claims)}"
    )
    yield from reliability(claims)
    yield from _by("half", broken, lambda o: o.half)
    yield from _by("operator", broken, lambda o: o.operator)
    if blind:
        return
    yield from _by("daemon", broken, lambda o: o.unit)
    for one in broken:
        if one.causes and not one.right and one.causes[0]["confidence"] >= BOLD:
            yield from _in_full(one)


def _by(what: str, broken: list[Outcome], key: Callable[[Outcome], str]) -> Iterator[str]:
    groups: dict[str, list[Outcome]] = defaultdict(list)
    for one in broken:
        groups[key(one)].append(one)
    yield f"by {what}:"
    for name, found in sorted(groups.items(), key=lambda item: (statistics.fmean(o.right for o in item[1]), item[0])):
        yield f"  {name:<40} {sum(o.right for o in found):>3} of {len(found):>3}"


def _in_full(one: Outcome) -> Iterator[str]:
    first = one.causes[0]
    yield f"--- wrong at {first['confidence']:.2f}: {one.unit}, {one.operator}, {one.depth} deep; right: {'|'.join(one.wanted)} at {one.place}"
    yield f"    {first['cause']} at {first['service']}: {first['says'][:300]}"
    for piece in first["evidence"][:4]:
        yield f"    {str(piece)[:300]}"

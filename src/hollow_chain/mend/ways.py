"""The ways that the rules know to mend a cause, and which of them to try for several causes together."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from hollow_chain.causes import Mend
from hollow_chain.causes import acts as say
from hollow_chain.causes.acts import Act
from hollow_chain.causes.time.limits import proposed
from hollow_chain.mend.verbs import VERBS
from hollow_chain.verdict import Cause

Way = list[Mend]
"""Mends that belong together, of a rule that may know several ways."""
MOST_CHOICES = 6
MOST_LONGER = 2
"""Other ways that are tried in place of the first, and rounds in which one more is added: each costs a rehearsal."""


def ways_of(cause: Cause) -> list[Way]:
    """The ways to mend a cause: those that a machine can go first, and of these the least disruptive."""
    ways: list[Way] = [[]]
    for mend in cause.finding.mends:
        if mend.instead and ways[-1]:
            ways.append([])
        ways[-1].append(mend)
    return sorted(ways, key=lambda way: (not any(m.acts for m in way), _rank(way)))


def _rank(way: Way) -> int:
    return max((VERBS[act.verb].rank for mend in way for act in mend.acts), default=0)


def of_way(way: Way, ways: list[Way]) -> tuple[list[Mend], list[str]]:
    """The mends of a way that are steps, and what else there is to say: advice, and the other ways."""
    by_machine = [mend for mend in way if mend.acts]
    others = [mend.does for other in ways for mend in other if mend.does not in {own.does for own in way}]
    if by_machine:
        return by_machine, [mend.does for mend in way if not mend.acts] + others
    # A mere start is a step of its own, and comes after.
    return [mend for mend in way if not mend.only_starts], others


def choices(ways: list[list[Way]]) -> Iterator[list[Way]]:
    """A way for each cause: the best of all first, then one cause another way, both ways, or with more time, as far as a machine
    can go them."""
    best = [each[0] for each in ways]
    yield best
    others = [
        (at, way) for at, each in enumerate(ways) for way in each[1:] if any(mend.acts or mend.means for mend in way)
    ]
    for at, way in others[:MOST_CHOICES]:
        yield [*best[:at], way, *best[at + 1 :]]
        yield [*best[:at], best[at] + way, *best[at + 1 :]]
    for at, each in enumerate(ways):
        for way in each[:2]:
            for longer in _with_more_time(way):
                yield [*best[:at], longer, *best[at + 1 :]]


def _with_more_time(way: Way) -> Iterator[Way]:
    """The same way with longer limits, where it sets any."""
    if not any(act.verb == "limit" for mend in way for act in mend.acts):
        return
    for _ in range(MOST_LONGER):
        way = [_with_longer(mend) for mend in way]
        yield way


def _with_longer(mend: Mend) -> Mend:
    acts = tuple(_longer(act) for act in mend.acts)
    if acts == mend.acts:
        return mend
    old = next(act.value for act in mend.acts if act.verb == "limit")
    new = next(act.value for act in acts if act.verb == "limit")
    return replace(
        mend, acts=acts, because=f"{old} s are too short for it in the rehearsed boots; {new} s is half as much again."
    )


def _longer(act: Act) -> Act:
    return say.limit(act.service, proposed(float(act.value))) if act.verb == "limit" else act


def by_place(causes: list[Cause]) -> list[list[Cause]]:
    """*causes* in groups of one place each, likeliest first."""
    found: dict[tuple[str, str], list[Cause]] = {}
    for cause in sorted(causes, key=lambda c: -c.confidence):
        found.setdefault(cause.place.key, []).append(cause)
    return list(found.values())

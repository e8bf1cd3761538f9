"""Names that may have been meant (the ratio of Ratcliff and Obershelp, "Pattern Matching: The Gestalt Approach", 1988; difflib)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher
from typing import NamedTuple

from hollow_chain.lazy import pattern

_PARTS = pattern(r"[-_.@:\s]+")
_SHORTEST_PART, _PART_COUNTS = 4, 0.9
"""Letters of a part of a name that may stand for the whole, and what its likeness counts then."""
_LONGEST = 80
"""Letters that are compared: the work grows with their square."""


class Near(NamedTuple):
    """A name that is like the one that was given."""

    place: int
    name: str
    likeness: float
    """From 0 to 100."""


def nearest(wanted: str, names: Sequence[str], most: int = 5, least: float = 70.0) -> list[Near]:
    """Up to *most* of *names* that are at *least* so much like *wanted*, the likest first."""
    matcher = SequenceMatcher(autojunk=False)
    matcher.set_seq2(wanted[:_LONGEST].casefold())  # what is compared with many is prepared once
    found = [
        Near(at, name, likeness)
        for at, name in enumerate(names)
        if (likeness := 100 * _likeness(matcher, name[:_LONGEST].casefold(), least / 100)) >= least
    ]
    return sorted(found, key=lambda near: (-near.likeness, near.name))[:most]


def is_slip_of(written: str, meant: str) -> bool:
    """Whether a word is most likely another one, misspelled: by a letter or two."""
    short, other = written.casefold(), meant.casefold()
    if short == other or len(other) < _SHORTEST_PART or abs(len(short) - len(other)) > _LETTERS_OFF:
        return False
    matcher = SequenceMatcher(None, short[:_LONGEST], other[:_LONGEST], autojunk=False)
    return matcher.real_quick_ratio() >= _SLIP and matcher.ratio() >= _SLIP


_LETTERS_OFF, _SLIP = 2, 0.8
"""How many letters more or less a slip makes, and how like the words stay: two letters that changed places in a word of five."""


def _likeness(matcher: SequenceMatcher[str], name: str, least: float) -> float:
    """How like a name is, or a part of it; what cannot reach *least* is not worked out."""
    best = _ratio(matcher, (name,), least)
    if best < 1.0:
        parts = [part for part in _PARTS.split(name) if len(part) >= _SHORTEST_PART]
        if len(parts) > 1:
            best = max(best, _PART_COUNTS * _ratio(matcher, parts, least / _PART_COUNTS))
    return best


def _ratio(matcher: SequenceMatcher[str], names: Iterable[str], least: float) -> float:
    best = 0.0
    for name in names:
        matcher.set_seq1(name)
        if matcher.real_quick_ratio() >= least and matcher.quick_ratio() >= least:
            best = max(best, matcher.ratio())
    return best

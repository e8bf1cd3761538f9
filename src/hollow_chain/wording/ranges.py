"""Bounds on a number, as a line words them ("port must be 0-65535"), and the settings whose number lies outside."""

from __future__ import annotations

import math
import re
from typing import NamedTuple

from hollow_chain.lazy import pattern

_LONGEST = 600
"""Characters of a line that are gone through."""
_NUMBER = r"-?\d{1,15}"
_BETWEEN = pattern(
    rf"(?i)\b(?:must|should|has to|have to|needs? to|range|valid|allowed|expected)\b[^\d\n]{{0,40}}?"
    rf"(?P<least>{_NUMBER})(?:\s?(?:-|\u2013|\.{{2,3}}|to|and|through|,|<=?)\s?(?:<=?\s?)?)(?P<most>{_NUMBER})(?!\.?\d)"
)
_DEMANDS = pattern(r"(?i)\b(?:must|should|needs?|requires?|may|can|cannot|has to|have to|valid|allowed|accepted)\b")
"""What tells a demand from a report: what was waited for, or tried, is bounded by no setting."""
_AT_MOST = pattern(
    r"(?i)\b(?:at most|not? (?:more|greater|larger|higher) than|(?:less|smaller|lower) than or equal to|not exceed|maximum(?: value)?(?: is| of)?)"
    rf"\s?(?P<most>{_NUMBER})(?!\.?\d)"
)
_AT_LEAST = pattern(
    r"(?i)\b(?:at least|not? (?:less|smaller|lower) than|(?:more|greater|larger|higher) than or equal to|minimum(?: value)?(?: is| of)?)"
    rf"\s?(?P<least>{_NUMBER})(?!\.?\d)"
)
_NO_PORT = pattern(
    r"(?i)\b(?:invalid|illegal|bad|wrong|out of range)\b[^\n]{0,20}\bport\b|\bport\b[^\n]{0,20}\b(?:invalid|illegal|out of range)\b"
)
_LAST_PORT = 65535
_WORD = pattern(r"[A-Z]?[a-z]{2,40}|[A-Z]{3,40}")
_OF_NO_SETTING = frozenset((
    "must", "should", "has", "have", "to", "need", "needs", "between", "range", "from", "within", "valid", "allowed", "expected", "value",
    "values", "be", "is", "not", "error", "invalid", "option", "number", "the", "of", "and", "or", "in", "out", "bind", "socket",
    "argument", "config", "configuration", "setting", "parameter", "overflow", "integer", "int", "positive", "negative", "greater", "less",
    "than",
))  # fmt: skip
"""Words of such lines that are the name of no setting."""
_SETTING = pattern(
    r"^\s{0,40}(?:export\s)?[\"']?(?P<key>[A-Za-z][\w.\-]{0,80})[\"']?\s{0,8}[=: ]\s{0,8}[\"']?"
    rf"(?P<value>{_NUMBER})\b(?![.:/\w])"
)


class Bounds(NamedTuple):
    """What a number has to be, and the words that may name it."""

    least: float
    most: float
    words: frozenset[str]


def bounds_in(text: str) -> Bounds | None:
    """The bounds that a line puts on a number; None where it puts none, or names nothing that they are on."""
    text = text[:_LONGEST]
    least, most, at = -math.inf, math.inf, len(text)
    if found := _BETWEEN.search(text):
        least, most, at = float(found["least"]), float(found["most"]), found.start()
    elif _DEMANDS.search(text):
        if found := _AT_MOST.search(text):
            most, at = float(found["most"]), min(at, found.start())
        if found := _AT_LEAST.search(text):
            least, at = float(found["least"]), min(at, found.start())
    if least == -math.inf and most == math.inf and _NO_PORT.search(text):
        return Bounds(0, _LAST_PORT, frozenset(("port",)))
    words = _words(text[:at]) or _words(text)
    return Bounds(least, most, words) if words and least < most and (least, most) != (-math.inf, math.inf) else None


def lies_outside(bounds: Bounds, key: str, value: str) -> bool:
    """Whether a setting is one that the words may name, and its number is not within the bounds."""
    if not re.fullmatch(_NUMBER, value) or not bounds.words & _words(key):
        return False
    return not bounds.least <= int(value) <= bounds.most


def lines_outside(text: str, bounds: Bounds) -> list[int]:
    """The lines of a text of settings whose number is outside the bounds on it, from 1."""
    found = ((number, _SETTING.match(line[:200])) for number, line in enumerate(text.splitlines(), 1))
    return [number for number, match in found if match and lies_outside(bounds, match["key"], match["value"])]


def _words(text: str) -> frozenset[str]:
    return frozenset(word.lower() for word in _WORD.findall(text)) - _OF_NO_SETTING

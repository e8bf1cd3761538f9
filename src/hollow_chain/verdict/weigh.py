"""How sure a finding is: prior odds of its cause, times what each piece of its evidence is worth.

The odds form of Bayes' rule with evidence taken as independent (Good, "Weighing of evidence", 1950; Heckerman,
Breese and Rommelse, "Decision-theoretic troubleshooting", 1995). The numbers, each with its reason, are data:
``weights.json``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cache
from pathlib import Path

import msgspec

from hollow_chain import decoding
from hollow_chain.causes import Finding
from hollow_chain.causes.finding import FITS, HINT, PROOF, SAID

_NO_PRIOR = 0.03
"""For a cause that the data file does not list yet."""


class CausePrior(msgspec.Struct):
    """How usual a cause is, and why that is believed."""

    prior: float
    because: str


class Bearing(msgspec.Struct):
    """How many times likelier such evidence is where the claim is true than where it is not."""

    ratio: float
    because: str


class Weights(msgspec.Struct):
    """All numbers of the weighing."""

    about: str
    ceiling: float
    unread_records: float
    """Factor on what rests on records alone, where records could not be read."""
    words_alone: float
    """The most that a claim is sure that rests on lines of a program and on no look."""
    hints_alone: float
    """The most that a claim is sure for which only speaks what is often so without it, too."""
    bearings: dict[str, Bearing]
    priors: dict[str, CausePrior]


@cache
def weights() -> Weights:
    """The numbers that ship with the program."""
    return decoding.of_json(Path(__file__).with_name("weights.json").read_bytes(), Weights)


def prior_of(cause: str) -> float:
    """How usual a cause is, as documented."""
    known = weights().priors.get(cause)
    return known.prior if known else _NO_PRIOR


PriorOf = Callable[[str], float]


def odds(finding: Finding, prior_of: PriorOf = prior_of) -> float:
    """The odds that the claim is right; *prior_of* tells how usual a cause is."""
    numbers = weights()
    prior = prior_of(finding.cause)
    result = prior / (1 - prior)
    for piece in finding.evidence:
        result *= numbers.bearings[piece.bears].ratio
    return result


def probability(finding: Finding, prior_of: PriorOf = prior_of) -> float:
    """The probability that the claim is right, by itself: from 0 to the ceiling."""
    its = odds(finding, prior_of)
    return min(its / (1 + its), most(finding))


def most(finding: Finding) -> float:
    """The most that such evidence can make a claim: less than all, where it is words alone, or nothing but nearness."""
    numbers = weights()
    only_words = only_hints = True
    for piece in finding.evidence:  # asked for each finding of a whole host: no more than a walk over its few pieces
        if piece.bears == PROOF:
            return numbers.ceiling
        if piece.bears in _BEARING:
            only_words = only_words and piece.words
            only_hints = only_hints and piece.bears == HINT
    return numbers.hints_alone if only_hints else numbers.words_alone if only_words else numbers.ceiling


_BEARING = (SAID, FITS, HINT)


def shared(rivals: Iterable[Finding], prior_of: PriorOf = prior_of) -> list[tuple[Finding, float]]:
    """The probabilities of findings of which at most one is right: they share what is left to them, best first."""
    known = [(finding, odds(finding, prior_of)) for finding in rivals]
    whole = 1 + sum(its for _, its in known)
    parts = [(finding, min(its / whole, most(finding))) for finding, its in known]
    return sorted(parts, key=lambda part: -part[1])

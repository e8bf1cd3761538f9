"""Whether hosts that are not well have something in common that the well ones have not, or whether chance would do it.

Fisher's exact test, one-sided (R. A. Fisher, Journal of the Royal Statistical Society 85, 1922), with the false discovery rate of all
tests of a survey held down (Benjamini and Hochberg, Journal of the Royal Statistical Society B 57, 1995).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

_Floats = npt.NDArray[np.float64]
RATE = 0.05
"""Of all that is claimed, so many may be claimed by chance."""
CONFIDENCE = 0.95
"""Of an interval: so often it holds what it is about, as is usual."""


class Counts(NamedTuple):
    """How many hosts of each kind have something."""

    sick_with: int
    sick: int
    well_with: int
    well: int


class Interval(NamedTuple):
    """An odds ratio, and within what it lies with :data:`CONFIDENCE` (conditional, exact); infinite where no well host has it."""

    ratio: float
    low: float
    high: float


def chances(counts: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]:
    """For each row of *counts* (as :class:`Counts`), how likely it is that at least as many of the sick hosts have it by chance alone.

    What cannot be claimed among so many tests is not reckoned out, and counts as certain: where the very number that was met is already
    too likely.
    """
    found = np.ones(len(counts), dtype=np.float64)
    if not len(counts):
        return found
    likely = _likelihood(counts)
    # A step of the procedure of Benjamini and Hochberg: with so many candidates none above this is ever claimed.
    candidates = np.count_nonzero(likely <= RATE)
    worth = np.flatnonzero(likely <= RATE * candidates / len(counts))
    if not len(worth):
        return found
    found[worth] = _tails(counts[worth])
    return found


def _tails(counts: npt.NDArray[np.int64]) -> _Floats:
    """How likely so many or more are by chance: the upper tail of the hypergeometric distribution, term by term. That of SciPy is the same;
    to load its statistics takes longer than a survey of a million services."""
    sick_with, sick, well_with, well = counts.T.astype(np.float64)
    having = sick_with + well_with
    term = np.exp(_logs(counts.astype(np.float64)))
    whole = term.copy()
    last = np.minimum(sick, having)
    for more in range(int((last - sick_with).max(initial=0))):
        many = sick_with + more
        # From one number to the next (Johnson, Kotz and Kemp, Univariate Discrete Distributions, 6.2); nought from the last on.
        factor = (sick - many) * (having - many) / ((many + 1) * (well - having + many + 1))
        term = np.where(many < last, term * factor, 0.0)
        whole += term
        if (term <= whole * _NEGLIGIBLE).all():
            break
    return np.minimum(whole, 1.0)


_NEGLIGIBLE = 1e-15
"""A share that a sum of doubles no longer shows: the terms fall from here on, faster and faster."""


def _likelihood(counts: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]:
    """How likely just so many are by chance, where that is more than its mean; else 1. That is less than the chance of so many or more."""
    table = counts.astype(np.float64)
    sick_with, sick, well_with, well = table.T
    above = sick_with * (sick + well) > sick * (sick_with + well_with)
    # Rounding of the logarithms must not lose a test.
    return np.where(above, np.exp(_logs(table)) * (1 - 1e-6), 1.0)


def _logs(table: _Floats) -> _Floats:
    """The logarithm of how likely just so many are by chance (hypergeometric distribution)."""
    sick_with, sick, well_with, well = table.T
    logs = _ways(sick_with, sick) + _ways(well_with, well) - _ways(sick_with + well_with, sick + well)
    return np.minimum(logs, 0.0)


def _ways(chosen: _Floats, of: _Floats | float) -> _Floats:
    """The logarithm of the number of ways to choose so many of so many."""
    with needs(EXTRA, "an association"):
        from scipy.special import gammaln
    return np.asarray(gammaln(of + 1.0) - gammaln(chosen + 1.0) - gammaln(of - chosen + 1.0))


def corrected(chance: _Floats) -> _Floats:
    """The same, so corrected that of those up to a rate no more than that rate are false ones (the step-up procedure)."""
    order = np.argsort(chance, kind="stable")
    stepped = chance[order] * len(chance) / np.arange(1, len(chance) + 1)
    found = np.empty(len(chance), dtype=np.float64)
    found[order] = np.minimum(np.minimum.accumulate(stepped[::-1])[::-1], 1.0)
    return found


def interval(counts: Counts) -> Interval:
    """How much likelier a host that has it is sick, as an odds ratio: the conditional one of the noncentral hypergeometric distribution,
    with the limits of Cornfield (Proceedings of the Third Berkeley Symposium 4, 1956). That of SciPy is the same, and takes fifty times
    as long."""
    having = counts.sick_with + counts.well_with
    first, last = max(0, having - counts.well), min(counts.sick, having)
    many = np.arange(first, last + 1, dtype=np.float64)
    weights = _ways(many, counts.sick) + _ways(having - many, counts.well)
    at, tail = counts.sick_with, (1 - CONFIDENCE) / 2
    low = 0.0 if at == first else _solved(lambda share: share(many >= at) - tail, many, weights)
    high = np.inf if at == last else _solved(lambda share: tail - share(many <= at), many, weights)
    between = first < at < last
    ratio = _solved(lambda share: share(many) - at, many, weights) if between else 0.0 if at == first else np.inf
    return Interval(float(ratio), float(low), float(high))


_Weighed = Callable[..., float]
_STEPS, _WIDEST = 60, 60.0
"""Halvings of the logarithm of an odds ratio, and how large that can be: each is exact to the last digits that are shown."""


def _solved(rises: Callable[[_Weighed], float], many: _Floats, weights: _Floats) -> float:
    """The odds ratio at which what *rises* with it is nought, by halving."""
    low, high = -_WIDEST, _WIDEST
    for _ in range(_STEPS):
        middle = (low + high) / 2
        logs = weights + many * middle
        chance = np.exp(logs - logs.max())
        chance /= chance.sum()

        if rises(lambda of, chance=chance: float((chance * of).sum())) < 0:
            low = middle
        else:
            high = middle
    return float(np.exp((low + high) / 2))

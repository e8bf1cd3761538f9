"""Whether hosts that are not well have something in common that the well ones have not, or whether chance would do it.

Fisher's exact test, one-sided (R. A. Fisher, Journal of the Royal Statistical Society 85, 1922), with the false discovery rate of all
tests of a survey held down (Benjamini and Hochberg, Journal of the Royal Statistical Society B 57, 1995), both as SciPy has them.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

RATE = 0.05
"""Of all that is claimed, so many may be claimed by chance."""
CONFIDENCE = 0.95


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

    What is not even a standard deviation above what chance brings is not worth the reckoning: it counts as certain.
    """
    found = np.ones(len(counts), dtype=np.float64)
    worth = np.flatnonzero(_is_worth(counts))
    if not len(worth):
        return found
    with needs(EXTRA, "an association"):
        from scipy.stats import hypergeom
    unique, back = np.unique(counts[worth], axis=0, return_inverse=True)
    sick_with, sick, well_with, well = unique.T
    exact = hypergeom.sf(sick_with - 1, sick + well, sick_with + well_with, sick)
    found[worth] = np.clip(exact, 0.0, 1.0)[back.reshape(-1)]
    return found


def _is_worth(counts: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
    """Whether more sick hosts have it than the mean of the hypergeometric distribution and its standard deviation."""
    sick_with, sick, well_with, well = counts.T.astype(np.float64)
    all_, having = sick + well, sick_with + well_with
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = sick * having / all_
        variance = mean * (all_ - having) / all_ * well / np.maximum(all_ - 1, 1)
    return np.asarray(sick_with > mean + np.sqrt(np.maximum(np.nan_to_num(variance), 0.0)) - 1e-9)


def corrected(chance: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """The same, so corrected that of those up to a rate no more than that rate are false ones."""
    if not len(chance):
        return chance
    with needs(EXTRA, "an association"):
        from scipy.stats import false_discovery_control
    return np.asarray(false_discovery_control(chance, method="bh"), dtype=np.float64)


def interval(counts: Counts) -> Interval:
    """How much likelier a host that has it is sick, as an odds ratio."""
    with needs(EXTRA, "an association"):
        from scipy.stats.contingency import odds_ratio
    found = odds_ratio(
        [
            [counts.sick_with, counts.well_with],
            [counts.sick - counts.sick_with, counts.well - counts.well_with],
        ]
    )
    low, high = found.confidence_interval(CONFIDENCE)
    return Interval(float(found.statistic), float(low), float(high))


def load() -> None:
    """Load what the tests are made with, which takes its time: others may wait for a disk meanwhile."""
    with needs(EXTRA, "an association"):
        import scipy.stats  # noqa: F401

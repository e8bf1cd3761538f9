"""Whether hosts that are not well have something in common that the well ones have not, or whether chance would do it.

Fisher's exact test, one-sided (R. A. Fisher, Journal of the Royal Statistical Society 85, 1922), with the false discovery rate of all
tests of a survey held down (Benjamini and Hochberg, Journal of the Royal Statistical Society B 57, 1995), both as SciPy has them.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

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


def chances(counts: Sequence[Counts]) -> list[float]:
    """For each of *counts*, how likely it is that at least as many of the sick hosts have it by chance alone."""
    if not counts:
        return []
    with needs(EXTRA, "an association"):
        from scipy.stats import hypergeom
    sick_with, sick, well_with, well = np.array(counts, dtype=np.int64).T
    found = hypergeom.sf(sick_with - 1, sick + well, sick_with + well_with, sick)
    return [float(one) for one in np.clip(found, 0.0, 1.0)]


def corrected(chance: Sequence[float]) -> list[float]:
    """The same, so corrected that of those up to a rate no more than that rate are false ones."""
    if not chance:
        return []
    with needs(EXTRA, "an association"):
        from scipy.stats import false_discovery_control
    return [float(one) for one in false_discovery_control(np.array(chance), method="bh")]


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

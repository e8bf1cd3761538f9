"""How many runs are enough: a test that is repeated as runs come in, and stops as soon as its answer is certain.

A group-sequential test with the error spent evenly on its looks (Bonferroni over the looks; see Jennison and Turnbull, "Group
Sequential Methods with Applications to Clinical Trials", 1999, chapter 2), each look an exact binomial one (Clopper and Pearson,
"The use of confidence or fiducial limits", Biometrika 26, 1934).
"""

from __future__ import annotations

import math
from collections.abc import Iterator

ERROR = 0.001
"""The chance that the whole test is wrong, at most."""
FIRST = 100
"""Runs before the first look: fewer cannot tell nine in ten from all with that little error."""


def looks(most: int) -> Iterator[int]:
    """After how many runs to look, up to *most*: each time twice as many."""
    many = min(FIRST, most)
    while many < most:
        yield many
        many *= 2
    yield most


def decided(good: int, runs: int, share: float, most: int) -> bool | None:
    """Whether the true share is above (True) or below (False) *share*, after *good* of *runs*; None where that is not certain yet.

    *most* is the number of runs after which no more come.
    """
    error = ERROR / sum(1 for _ in looks(most))
    if 1.0 - _at_most(good - 1, runs, share) < error:
        return True
    if _at_most(good, runs, share) < error:
        return False
    return None


def _at_most(good: int, runs: int, share: float) -> float:
    """The chance of so few or fewer of *runs*, where the true share is *share*."""
    if good < 0:
        return 0.0
    if good >= runs:
        return 1.0
    log_share, log_rest = math.log(share), math.log1p(-share)
    whole = math.lgamma(runs + 1)
    return min(
        1.0,
        sum(
            math.exp(whole - math.lgamma(k + 1) - math.lgamma(runs - k + 1) + k * log_share + (runs - k) * log_rest)
            for k in range(good + 1)
        ),
    )

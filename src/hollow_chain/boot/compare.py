"""The same boots before and after a change, side by side: what got better, what got worse, and whether that is real.

Both are simulated with the same random numbers, run by run, so differences are taken run by run too, and what the change
does not touch does not differ at all (paired comparison with common random numbers).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from hollow_chain.boot.outcome import Outcome
from hollow_chain.boot.rehearsal import last_moments

SURE = 1.96
"""Standard errors on each side of an interval that holds the true value in 95 of 100 cases."""
WORTH_SECONDS = 0.01
WORTH_SHARE = 0.001
"""Differences from which on there is something to tell: one boot in a thousand, and the hundredth of a second that is printed."""


@dataclass(frozen=True)
class Difference:
    """A mean difference (after minus before) with the interval that holds the true one in 95 of 100 cases."""

    mean: float
    low: float
    high: float

    @property
    def is_real(self) -> bool:
        """Whether it can be told from none."""
        return self.low > 0 or self.high < 0


@dataclass(frozen=True)
class Shift:
    """One service before and after."""

    service: str
    kind: str
    up_before: float
    up_after: float
    up: Difference
    seconds_before: float | None
    seconds_after: float | None
    seconds: Difference | None
    """Of the runs in which it is up before and after."""

    @property
    def verdict(self) -> str:
        """``better``, ``worse``, ``earlier``, ``later``, ``unsure`` (differs, but by chance as well) or ``same``."""
        if abs(self.up.mean) >= WORTH_SHARE:
            if not self.up.is_real:
                return "unsure"
            return "better" if self.up.mean > 0 else "worse"
        if self.seconds is not None and abs(self.seconds.mean) >= WORTH_SECONDS:
            if not self.seconds.is_real:
                return "unsure"
            return "earlier" if self.seconds.mean < 0 else "later"
        return "same"


@dataclass
class Comparison:
    """All services, and the whole boot."""

    shifts: list[Shift]
    done_before: float
    done_after: float
    done: Difference
    runs: int


def difference(values: np.ndarray) -> Difference:
    """The mean of paired differences with its interval; where all are alike, as wide as so few runs leave it open."""
    many = values.size
    mean = float(values.mean()) if many else 0.0
    if not many or not values.any():
        return Difference(mean, mean, mean)
    width = SURE * float(values.std(ddof=1)) / many**0.5 if many > 1 else abs(mean)
    if width == 0.0:
        width = abs(mean) * min(1.0, 3.0 / many)  # the rule of three (Hanley and Lippman-Hand, 1983)
    return Difference(mean, mean - width, mean + width)


def compare(before: Outcome, after: Outcome) -> Comparison:
    """Compare two simulations of the same number of runs and the same seed."""
    runs = min(before.runs, after.runs)
    places = {unit.name: at for at, unit in enumerate(after.plan.units)}
    shifts = []
    for at, unit in enumerate(before.plan.units):
        there = places.get(unit.name)
        if there is not None and unit.kind not in ("remote", "absent"):
            shifts.append(_shift(before, after, at, there, runs))
    first, second = last_moments(before)[:runs], last_moments(after)[:runs]
    return Comparison(shifts, float(np.median(first)), float(np.median(second)), difference(second - first), runs)


def _shift(before: Outcome, after: Outcome, at: int, there: int, runs: int) -> Shift:
    unit = before.plan.units[at]
    up, up_then = before.up[:runs, at], after.up[:runs, there]
    both = up & up_then
    moments, moments_then = before.up_at[:runs, at].astype(float), after.up_at[:runs, there].astype(float)
    return Shift(
        unit.name,
        unit.kind,
        float(up.mean()),
        float(up_then.mean()),
        _bounded(difference(up_then.astype(float) - up)),
        float(np.median(moments[up])) if up.any() else None,
        float(np.median(moments_then[up_then])) if up_then.any() else None,
        difference((moments_then - moments)[both]) if both.any() else None,
    )


def _bounded(share: Difference) -> Difference:
    """A difference of shares is no greater than all."""
    return Difference(share.mean, max(share.low, -1.0), min(share.high, 1.0))

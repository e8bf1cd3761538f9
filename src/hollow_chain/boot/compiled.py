"""A plan as arrays over its units: what the simulation looks up, worked out once for all runs."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from hollow_chain.boot import draws
from hollow_chain.boot.plan import FOREVER, BootPlan, Unit
from hollow_chain.boot.queues import Floats, Index

DISK, CPU, CLOCK = 0, 1, 2
"""The stations of a start, in the order in which it passes them; the last one has room for all."""
MOST_TRIES = 10
"""Tries of one service that are followed; by then more of the same tells nothing new."""
_FAR = 4.0
"""Where starts are repeated (with other durations), a limit so many times longer than all can last is not watched."""
some = np.count_nonzero
"""Whether any is true: the quickest of the calls that tell."""


class Fan:
    """From each unit to some others: lists of unequal length, in two flat arrays."""

    def __init__(self, lists: list[list[int]]) -> None:
        self.count = np.array([len(one) for one in lists], np.int64)
        self.start = np.concatenate(([0], np.cumsum(self.count)[:-1])) if lists else self.count
        self.flat = np.array([unit for one in lists for unit in one], np.int64)
        self.empty = not self.flat.size

    def out(self, runs: Index, units: Index) -> tuple[Index, Index, Index]:
        """All pairs of a run and a unit that is led to, with the unit that leads there."""
        many = self.count[units]
        total = int(many.sum())
        if not total:
            none = np.empty(0, np.int64)
            return none, none, none
        ends = np.cumsum(many)
        within = np.arange(total) - np.repeat(ends - many, many)
        return np.repeat(runs, many), self.flat[np.repeat(self.start[units], many) + within], np.repeat(units, many)


def _turned(units: list[Unit], pick: Callable[[Unit], tuple[int, ...]]) -> Fan:
    back: list[list[int]] = [[] for _ in units]
    for at, unit in enumerate(units):
        if unit.starts:
            for other in dict.fromkeys(pick(unit)):
                back[other].append(at)
    return Fan(back)


class Compiled:
    """A plan as arrays over its units."""

    def __init__(self, plan: BootPlan, seed: int) -> None:
        units = plan.units
        self.plan, self.many = plan, len(units)
        self.streams = draws.streams([unit.name for unit in units], seed)
        self.cut_stream = draws.streams(["\0cuts"], seed)
        self.waiters = _turned(units, lambda u: u.waits)
        self.needers = _turned(units, lambda u: u.needs + u.bound)
        self.bound = _turned(units, lambda u: u.bound)
        self.up_first = Fan([list(u.up_first) for u in units])
        self.uses = Fan([list(u.uses) for u in units])
        self.takes = Fan([sorted(u.takes) for u in units])
        self.seconds = self._floats(lambda u: u.work.seconds)
        self.spread = self._floats(lambda u: u.work.spread)
        shares = np.array([(u.work.disk, u.work.cpu, u.work.wait) for u in units])
        self.shares = np.where(self.seconds[:, None] > 0, shares, 0.0)
        self.next = self._next_stations()
        self.limit = self._floats(lambda u: u.limit)
        self.at = self._floats(lambda u: u.at)
        self.at_spread = self._floats(lambda u: u.spread)
        self.passed = np.array([u.passed_over for u in units])
        self.fault_odds = self._floats(lambda u: u.fault.odds if u.fault else 0.0)
        self.fault_after = self._floats(
            lambda u: u.fault.after if u.fault and u.fault.after is not None else -1.0)  # fmt: skip
        self.retry_after = self._floats(lambda u: u.retry.after if u.retry else 0.0)
        self.retry_most = np.array([min(u.retry.most, MOST_TRIES - 1) if u.retry else 0 for u in units])
        self.retry_within = self._floats(lambda u: u.retry.within if u.retry else FOREVER)
        self.retry_timeout = np.array([bool(u.retry and u.retry.on_timeout) for u in units])
        self.retry_failure = np.array([bool(u.retry and u.retry.on_failure) for u in units])
        self.starts = np.array([u.starts for u in units])
        self.far = _FAR if self.retry_most.any() else 1.0
        self.variants = [frozenset[int](), *(cut for _, cut in plan.cuts)]
        self.variant_ends = np.cumsum([1.0 - min(1.0, sum(p for p, _ in plan.cuts)), *(p for p, _ in plan.cuts)])

    def _floats(self, pick: Callable[[Unit], float]) -> Floats:
        return np.array([pick(unit) for unit in self.plan.units], np.float64)

    def _next_stations(self) -> NDArray[np.int64]:
        """For each unit and each station: the first one from there on at which it has anything to do; 3: none."""
        found = np.full((self.many, 4), 3)
        for station in (CLOCK, CPU, DISK):
            found[:, station] = np.where(self.shares[:, station] > 0, station, found[:, station + 1])
        return found

    def durations(self, units: Index, runs: Index, tries: NDArray[Any]) -> Floats:
        """How long starts would take alone: run by its number, try by its number from 0."""
        seconds, spread = self.seconds[units], self.spread[units]
        luck = spread > 0
        if some(luck):
            z = draws.normal(self.streams[units[luck]], runs[luck], tries[luck])
            seconds[luck] *= np.exp(spread[luck] * z)
        return seconds

    def first_durations(self, runs: Index) -> Floats:
        """How long the first tries would take alone: a row a run, a column a unit."""
        found = np.tile(np.where(self.starts, self.seconds, 0.0), (runs.size, 1))
        lucky = np.flatnonzero(self.starts & (self.spread > 0) & (self.seconds > 0))
        if lucky.size:
            z = draws.normal(self.streams[lucky][None, :], runs[:, None], 0)
            found[:, lucky] *= np.exp(self.spread[lucky] * z)
        return found

    def faulty(self, runs: Index) -> NDArray[np.bool_]:
        """Whether each unit meets its fault: a row a run, a column a unit. One chance a run, whichever try it is."""
        found = np.zeros((runs.size, self.many), bool)
        may = np.flatnonzero(self.fault_odds > 0)
        if may.size:
            found[:, may] = draws.uniform(self.streams[may][None, :], runs[:, None], draws.FAULT) < self.fault_odds[may]
        return found

    def most_wait(self, durations: Floats) -> Floats:
        """The longest that others can keep a start from getting on, in each run: all that they have to read and compute."""
        load = self.shares[:, DISK] / self.plan.disks + self.shares[:, CPU] / self.plan.cores
        load *= 1 + np.where(self.fault_odds > 0, self.retry_most, 0)
        return np.asarray(durations @ load)

    def variant_of(self, runs: Index) -> NDArray[np.int64]:
        """Which way of cutting loops each run meets."""
        if len(self.variants) == 1:
            return np.zeros(runs.size, np.int64)
        chance = draws.uniform(self.cut_stream[np.zeros(runs.size, np.int64)], runs, draws.CUT)
        return np.minimum(np.searchsorted(self.variant_ends, chance, side="right"), len(self.variants) - 1)

    def begins(self) -> Iterator[tuple[NDArray[np.bool_], NDArray[np.int16]]]:
        """For each way of cutting loops: which units start, and for how many others each waits."""
        for cut in self.variants:
            starts = self.starts.copy()
            starts[list(cut)] = False
            waits = np.zeros(self.many, np.int16)
            for at, unit in enumerate(self.plan.units):
                if starts[at]:
                    waits[at] = sum(bool(starts[other]) for other in dict.fromkeys(unit.waits))
            yield starts, waits + (self.at > 0) + (self.at_spread > 0) * (self.at <= 0)

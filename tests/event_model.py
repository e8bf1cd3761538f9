"""A second model of a boot, written for checking the first: one run at a time, event by event, with simpy.

It shares nothing with the program but the plan that it is given and the meaning of it as documented in ``boot/plan.py``;
its random numbers are its own.
"""

from __future__ import annotations

import math
import random
from dataclasses import dataclass, field

import simpy

from hollow_chain.boot.plan import BootPlan, Unit

MOST_TRIES = 10


class Shared:
    """A station whose users get on at one pace, min(1, capacity / number)."""

    def __init__(self, env: simpy.Environment, capacity: float) -> None:
        self.env, self.capacity = env, capacity
        self.left: dict[object, list] = {}
        self.since = 0.0
        self.changed = env.event()
        env.process(self._serve())

    def use(self, amount: float) -> tuple[object, simpy.Event]:
        self._advance()
        user, done = object(), self.env.event()
        self.left[user] = [amount, done]
        self._wake()
        return user, done

    def leave(self, user: object) -> None:
        self._advance()
        if self.left.pop(user, None) is not None:
            self._wake()

    def _pace(self) -> float:
        return min(1.0, self.capacity / max(1, len(self.left)))

    def _advance(self) -> None:
        got = (self.env.now - self.since) * self._pace()
        for entry in self.left.values():
            entry[0] -= got
        self.since = self.env.now

    def _wake(self) -> None:
        changed, self.changed = self.changed, self.env.event()
        changed.succeed()

    def _serve(self):
        while True:
            if not self.left:
                yield self.changed
                continue
            user = min(self.left, key=lambda one: self.left[one][0])
            wait = max(0.0, self.left[user][0] / self._pace())
            timer = self.env.timeout(wait)
            changed = self.changed
            yield timer | changed
            if not changed.triggered or timer.processed:
                self._advance()
                entry = self.left.pop(user, None)
                if entry is not None and entry[0] <= 1e-9 * max(1.0, self.env.now):
                    entry[1].succeed()
                elif entry is not None:
                    self.left[user] = entry


@dataclass
class Boot:
    """One run."""

    plan: BootPlan
    rng: random.Random
    horizon: float = 3600.0
    env: simpy.Environment = field(default_factory=simpy.Environment)
    state: list[str] = field(default_factory=list)
    up_at: list[float] = field(default_factory=list)

    def run(self) -> Boot:
        units = self.plan.units
        self.disk, self.cpu = Shared(self.env, self.plan.disks), Shared(self.env, self.plan.cores)
        cut: frozenset[int] = frozenset()
        chance = self.rng.random() - (1.0 - sum(p for p, _ in self.plan.cuts)) if self.plan.cuts else -1.0
        for odds, dropped in self.plan.cuts:
            if chance < 0:
                break
            cut = dropped
            chance -= odds
        self.starts = [u.starts and at not in cut for at, u in enumerate(units)]
        self.state = ["waiting" if s else "not started" for s in self.starts]
        self.up_at = [math.nan] * len(units)
        self.settled = [self.env.event() for _ in units]
        self.well = [True] * len(units)
        self.gave_up = [self.env.event() for _ in units]
        self.down = [self.env.event() for _ in units]
        self.left = [held.amount for held in self.plan.held]
        for at, unit in enumerate(units):
            if self.starts[at]:
                self.env.process(self._live(at, unit))
                for other in set(unit.needs + unit.bound):
                    self.env.process(self._watch(at, other))
        self.env.run(until=self.horizon)
        return self

    def _watch(self, at: int, other: int):
        yield self.settled[other]
        bound_over = other in self.plan.units[at].bound and self.state[other] == "passed over"
        if (not self.well[other] or bound_over) and self.state[at] == "waiting":
            self._settle(at, False, "failed")
            self.gave_up[at].succeed()
        if other in self.plan.units[at].bound and self.state[at] != "failed":
            yield self.down[other]
            if self.state[at] in ("up", "waiting", "starting") and not self.gave_up[at].triggered:
                self.gave_up[at].succeed()

    def _settle(self, at: int, well: bool, state: str) -> None:
        self.state[at] = state
        if not self.settled[at].triggered:
            self.well[at] = well
            self.settled[at].succeed()

    def _live(self, at: int, unit: Unit):
        env = self.env
        moment = unit.at + unit.spread * self.rng.random()
        if moment > 0:
            yield env.timeout(moment)
        for other in set(unit.waits):
            if self.starts[other] and not self.settled[other].triggered:
                yield self.settled[other] | self.gave_up[at]
                if self.gave_up[at].triggered:
                    break
        yield env.timeout(0)  # failures of what it needs are told in the same moment
        if self.state[at] != "waiting" or self.gave_up[at].triggered:
            self._settle(at, False, "failed")
            return
        if unit.passed_over:
            self._settle(at, True, "passed over")
            if not self.down[at].triggered:
                self.down[at].succeed()
            return
        if any(self.state[other] != "up" for other in unit.up_first):
            self._settle(at, False, "failed")
            return
        faulty = unit.fault is not None and self.rng.random() < unit.fault.odds
        opened, counted = -math.inf, 0
        for number in range(MOST_TRIES):
            if env.now - opened < (unit.retry.within if unit.retry else math.inf) and number:
                counted += 1
            else:
                opened, counted = env.now, 1
            self.state[at] = "starting"
            how = yield from self._try(at, unit, faulty)
            if how == "up":
                self.up_at[at] = env.now
                self._settle(at, True, "up")
                dies = env.timeout(unit.fault.after) if faulty else env.event()
                yield dies | self.gave_up[at]
                self.up_at[at] = math.nan
                if unit.takes:
                    for thing in unit.takes:
                        self.left[thing] += 1
                how = "needs" if self.gave_up[at].triggered else "failed"
                if not self.down[at].triggered:
                    self.down[at].succeed()
            self._settle(at, False, "failed")
            retry = unit.retry
            if how == "needs" or retry is None or counted > min(retry.most, MOST_TRIES - 1):
                return
            if not (retry.on_timeout if how == "timeout" else retry.on_failure):
                return
            self.state[at] = "retry"
            yield env.timeout(retry.after)
        self.state[at] = "failed"

    def _try(self, at: int, unit: Unit, faulty: bool):
        env, work = self.env, unit.work
        total = work.seconds * math.exp(work.spread * self.rng.gauss(0, 1))
        limit = env.timeout(unit.limit) if math.isfinite(unit.limit) and total > 0 else env.event()
        for station, share in ((self.disk, work.disk), (self.cpu, work.cpu), (None, work.wait)):
            if share <= 0 or total <= 0:
                continue
            if station is None:
                yield env.timeout(total * share) | limit | self.gave_up[at]
            else:
                user, done = station.use(total * share)
                yield done | limit | self.gave_up[at]
                if not done.triggered:
                    station.leave(user)
            if self.gave_up[at].triggered:
                return "needs"
            if limit.processed:
                return "timeout"
        if faulty and unit.fault is not None and unit.fault.after is None:
            return "failed"
        if any(self.state[other] != "up" for other in unit.uses):
            return "needs"
        if any(self.left[thing] < unit.takes.count(thing) for thing in unit.takes):
            return "failed"
        for thing in unit.takes:
            self.left[thing] -= 1
        return "up"

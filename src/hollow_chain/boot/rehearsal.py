"""What many simulated boots say together: who is up when and how surely, what the boot waits for, who decides a race."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import pairwise
from math import isnan

import numpy as np

from hollow_chain.boot.durations import AT_ONCE
from hollow_chain.boot.engine import Progress, simulate
from hollow_chain.boot.outcome import NEED, Outcome, State
from hollow_chain.boot.plan import BootPlan, Unit
from hollow_chain.boot.quantiles import quantiles
from hollow_chain.causes import named
from hollow_chain.families.base_system import is_base_name

LATE_AFTER = 300.0
"""Seconds after boot from which on a service counts as late (delayed ones: after their group's moment)."""
_LINKS_WEIGHED = 8
"""Links of the slowest chain for each of which the boots are simulated once more, without its time."""
_WORTH_WEIGHING = 0.01
"""A link that takes less than this part of the boot is not weighed: it cannot save anything to speak of."""
_SHOWN_SHARE = 0.005
"""Share of the boots from which on a race or a fall is told: below, it is within the chance of a thousand runs."""


@dataclass(frozen=True)
class Diagnosis:
    """What is taken to be wrong with a service, in all boots alike."""

    service: str
    cause: str
    sure: float
    """The probability that it is right. It is no share of boots."""


@dataclass
class Odds:
    """One service over all runs. Shares of runs add up to 1 for a service that the boot starts."""

    service: str
    kind: str
    starts: bool
    up: float = 0.0
    """Up in time."""
    late: float = 0.0
    """Up, but only after a try that failed, or after people have stopped waiting."""
    failed: float = 0.0
    passed_over: float = 0.0
    p5: float | None = None
    p50: float | None = None
    p95: float | None = None
    begun: float | None = None
    """When its start begins (median)."""
    why_not: dict[str, float] = field(default_factory=dict)
    blame: dict[str, float] = field(default_factory=dict)
    """Whose fault it is, where it is not its own."""
    now_up: bool | None = None
    rests_on: list[Diagnosis] = field(default_factory=list)
    """What is taken to be wrong, and the boots in which it is not up rest on."""

    @property
    def up_in_the_end(self) -> float:
        """The chance to be up at all."""
        return self.up + self.late

    @property
    def change(self) -> str:
        """``returns`` (down now, up after the boot), ``lost`` (the other way), or empty."""
        if self.now_up is None or self.kind in AT_ONCE or self.kind in ("remote", "absent"):
            return ""
        if is_base_name(self.kind, self.service):
            return ""  # the kernel and the start-up itself make it, by whatever way
        after = self.up_in_the_end >= 0.5
        if after == self.now_up or (self.passed_over and not self.now_up):
            return ""
        if not after and set(self.why_not) == {named.EVENT_PENDING}:
            return ""  # it comes up when it is asked for, as it did this time
        return "returns" if after else "lost"


@dataclass(frozen=True)
class ChainLink:
    """A link of the slowest chain."""

    service: str
    seconds: float
    """How long its start takes in the boot (median)."""
    saves: float | None
    """By how much the boot would be shorter if it took no time at all (mean). None: too short to matter."""


@dataclass(frozen=True)
class Race:
    """Two services whose order decides: who gets what both want, or whether what is used is up in time."""

    what: str
    one: str
    other: str
    one_wins: float
    other_wins: float


@dataclass
class Rehearsal:
    """All of it."""

    host: str
    runs: int
    asked: int
    seed: int
    services: list[Odds]
    done: tuple[float, float, float]
    """When the last service is up: 5th percentile, median, 95th percentile."""
    slowest_chain: list[ChainLink]
    chain_share: float
    """In which share of the runs that chain is the slowest."""
    races: list[Race]
    falls: list[tuple[str, float, list[tuple[str, float]]]]
    """Who fails by itself, how often, and who goes down with it (share of those times)."""
    notes: list[str]


def rehearse(
    plan: BootPlan, runs: int = 1000, seed: int = 1, late_after: float = LATE_AFTER, progress: Progress | None = None
) -> Rehearsal:
    """Boot the host of *plan* in simulation, *runs* times, and sum up."""
    outcome = simulate(plan, runs, seed, progress)
    roots = _roots(outcome)
    chain, share = _slowest_chain(outcome)
    return Rehearsal(
        host=plan.host,
        runs=outcome.runs,
        asked=runs,
        seed=seed,
        services=_all_odds(outcome, roots, late_after),
        done=_done(outcome),
        slowest_chain=_weighed(outcome, chain),
        chain_share=share,
        races=list(_races(outcome)),
        falls=_falls(outcome, roots),
        notes=list(plan.notes),
    )


def _moments(outcome: Outcome) -> np.ndarray:
    """When each unit came up in each run; 0 where it did not, or the boot is over without it."""
    part = np.array([not unit.apart for unit in outcome.plan.units])
    return np.asarray(np.where(np.isnan(outcome.up_at) | ~part, 0.0, outcome.up_at))


def last_moments(outcome: Outcome) -> np.ndarray:
    """For each run, when the last unit came up; 0 where none did."""
    return np.asarray(_moments(outcome).max(axis=1))


def _done(outcome: Outcome) -> tuple[float, float, float]:
    low, middle, high = np.percentile(last_moments(outcome), (5, 50, 95))
    return float(low), float(middle), float(high)


def _failed(outcome: Outcome) -> np.ndarray:
    state = outcome.state
    return np.asarray((state != State.UP) & (state != State.PASSED_OVER) & (state != State.NOT_STARTED))


def _roots(outcome: Outcome) -> np.ndarray:
    """For each run and unit that failed for want of another: the unit at the bottom of it; -1 elsewhere."""
    found = np.full(outcome.state.shape, -1, np.int32)
    runs, units = np.nonzero(_failed(outcome) & (outcome.why == NEED))
    root = outcome.blame[runs, units].astype(np.int64)
    for _ in range(len(outcome.plan.units)):
        further = (outcome.why[runs, root] == NEED) & (outcome.blame[runs, root] >= 0)
        further &= outcome.state[runs, root] == State.FAILED
        if not further.any():
            break
        root[further] = outcome.blame[runs[further], root[further]]
    found[runs, units] = root
    return found


def _all_odds(outcome: Outcome, roots: np.ndarray, late_after: float) -> list[Odds]:
    units, tried = outcome.plan.units, ~np.isnan(outcome.begun_at)
    people_wait = np.array([late_after + unit.at + unit.spread for unit in units])
    late = outcome.up & ((outcome.tries > 1) | (outcome.up_at > people_wait))
    shares = [part.mean(axis=0).tolist() for part in (outcome.up & ~late, late, outcome.state == State.PASSED_OVER)]
    moments = quantiles(outcome.up_at, outcome.up, (0.05, 0.5, 0.95)).T.tolist()
    begun = quantiles(outcome.begun_at, tried, (0.5,))[0].tolist()
    found: list[Odds] = []
    for at, unit in enumerate(units):
        if not unit.starts:
            found.append(_not_started(outcome.plan, unit))
            continue
        up, after, passed_over = (share[at] for share in shares)
        odds = Odds(unit.name, unit.kind, True, up, after, max(0.0, 1.0 - up - after - passed_over), passed_over)
        odds.p5, odds.p50, odds.p95 = (None if isnan(moment) else moment for moment in moments[at])
        odds.begun = None if isnan(begun[at]) else begun[at]
        odds.now_up = unit.now_up
        _reasons(outcome, at, roots, odds)
        found.append(odds)
    return found


def _not_started(plan: BootPlan, unit: Unit) -> Odds:
    odds = Odds(unit.name, unit.kind, False, now_up=unit.now_up)
    odds.why_not = {unit.why_not: 1.0} if unit.why_not else {}
    odds.blame = {plan.units[unit.blame].name: 1.0} if unit.blame >= 0 else {}
    return odds


def _reasons(outcome: Outcome, at: int, roots: np.ndarray, odds: Odds) -> None:
    causes: Counter[str] = Counter()
    culprits: Counter[str] = Counter()
    runs = np.flatnonzero(~outcome.up[:, at])
    if not runs.size:
        return
    root = np.where(roots[runs, at] < 0, at, roots[runs, at])
    kinds = np.stack([root, outcome.state[runs, root], outcome.why[runs, root]])
    for (place, state, why), many in zip(*_counted(kinds), strict=True):
        causes[_cause(outcome, place, State(state), why, at)] += many
        if place != at:
            culprits[outcome.plan.units[place].name] += many
    odds.why_not = {cause: many / outcome.runs for cause, many in causes.most_common()}
    odds.blame = {name: many / outcome.runs for name, many in culprits.most_common()}
    for name in (odds.service, *odds.blame):
        taken = outcome.plan.taken.get(name)
        if taken is not None and taken.cause in odds.why_not:
            odds.rests_on.append(Diagnosis(name, taken.cause, taken.sure))


def _counted(columns: np.ndarray) -> tuple[list[list[int]], list[int]]:
    """The different columns, and how often each occurs."""
    found, many = np.unique(columns, axis=1, return_counts=True)
    return found.T.tolist(), many.tolist()


def _cause(outcome: Outcome, root: int, state: State, why: int, at: int) -> str:
    """Why unit *at* is not up in runs in which *root* ended in that state, for that reason."""
    unit = outcome.plan.units[root]
    if state == State.NOT_STARTED:
        return unit.why_not or (named.DEPENDENCY_CYCLE if unit.starts else named.MANUAL_NOT_STARTED)
    if state == State.PASSED_OVER:
        return named.CONDITION_UNMET
    if state == State.WAITING:
        return named.DEPENDENCY_CYCLE
    if state == State.STARTING:
        return named.START_TIMEOUT
    if state == State.UP and root != at:
        return named.START_RACE  # it is up in the end, and was not yet when it was used
    return named.START_RACE if why == NEED else outcome.cause(why, root)


def _slowest_chain(outcome: Outcome) -> tuple[list[int], float]:
    """The chain of waits that most often ends with the last one up, first link first."""
    last = _moments(outcome).argmax(axis=1)
    paths: Counter[tuple[int, ...]] = Counter()
    for run, unit in enumerate(last.tolist()):
        path = [unit]
        while (gate := int(outcome.gate[run, path[-1]])) >= 0:
            path.append(gate)
        paths[tuple(reversed(path))] += 1
    best, many = paths.most_common(1)[0]
    return list(best), many / outcome.runs


def _weighed(outcome: Outcome, chain: list[int]) -> list[ChainLink]:
    total = last_moments(outcome)
    took = {at: _median(outcome.settled_at[:, at] - outcome.begun_at[:, at]) for at in chain}
    worth = _WORTH_WEIGHING * float(np.median(total))
    heavy = sorted((at for at in chain if took[at] > worth), key=lambda at: -took[at])[:_LINKS_WEIGHED]
    path = _LongestPath(outcome) if heavy else None
    saves = {at: max(0.0, float((total - path.without(at)).mean())) for at in heavy if path is not None}
    return [ChainLink(outcome.plan.units[at].name, took[at], saves.get(at)) for at in chain]


def _median(values: np.ndarray) -> float:
    known = values[~np.isnan(values)]
    return float(np.median(known)) if known.size else 0.0


def _in_order(outcome: Outcome) -> list[int]:
    """All units, each after those that it waits for; what stands in a loop is left out (it never begins)."""
    units = outcome.plan.units
    left = [sum(units[w].starts for w in set(u.waits)) for u in units]
    waiters: list[list[int]] = [[] for _ in units]
    for at, unit in enumerate(units):
        for other in set(unit.waits) if unit.starts else ():
            waiters[other].append(at)
    order = [at for at, unit in enumerate(units) if unit.starts and not left[at]]
    for at in order:
        for other in waiters[at]:
            left[other] -= 1
            if not left[other]:
                order.append(other)
    return order


class _LongestPath:
    """The moment of the last one up in each run, had one start taken no time and all others as long as they did.

    The waits are followed through each run anew (a longest path; see Kelley, "Critical-path planning and scheduling",
    1961). What the others would gain from more room on cores and disk is not counted. Arrays are over (unit, run).
    """

    def __init__(self, outcome: Outcome) -> None:
        units = outcome.plan.units
        settled, begun = (np.ascontiguousarray(array.T, float) for array in (outcome.settled_at, outcome.begun_at))
        self.order = _in_order(outcome)
        self.waits = {at: [other for other in set(units[at].waits) if units[other].starts] for at in self.order}
        self.took = settled - begun
        self.settled = np.where(np.isnan(settled), 0.0, settled)
        # One that began later than its waits let it go waited for a moment of its own.
        self.own = np.where(np.isnan(begun), 0.0, begun)
        for at, waits in self.waits.items():
            if waits:
                self.own[at] = np.where(self.own[at] > self.settled[waits].max(axis=0) + 1e-4, self.own[at], 0.0)
        # One that came up after its first try keeps its distance from it.
        later = np.asarray(outcome.up_at.T, float) - settled
        self.later = np.where(np.isnan(later), 0.0, later)
        self.up = np.ascontiguousarray(outcome.up.T)
        self.apart = [unit.apart for unit in units]
        part = np.where(self.up, self.settled + self.later, 0.0)
        part[self.apart] = 0.0
        self.last = part
        """When each is up, of those that belong to the boot."""

    def without(self, gone: int) -> np.ndarray:
        """The same, without the time of the unit *gone*: only who comes after it can come sooner."""
        then: dict[int, np.ndarray] = {}
        for at in self.order:
            waits = self.waits[at]
            if at != gone and not any(other in then for other in waits):
                continue
            free = self.own[at]
            for other in waits:
                free = np.maximum(free, then.get(other, self.settled[other]))
            moved = free if at == gone else free + self.took[at]
            then[at] = np.where(np.isnan(moved), self.settled[at], moved)
        after = [at for at in then if not self.apart[at]]
        others = np.delete(self.last, list(then), axis=0).max(axis=0, initial=0.0)
        for at in after:
            np.maximum(others, np.where(self.up[at], then[at] + self.later[at], 0.0), out=others)
        return np.asarray(others)


def _races(outcome: Outcome) -> Iterator[Race]:
    plan = outcome.plan
    for thing, held in enumerate(plan.held):
        takers = [at for at, unit in enumerate(plan.units) if thing in unit.takes]
        for one, other in pairwise(takers):
            yield Race(held.name, plan.units[one].name, plan.units[other].name,
                       float(outcome.up[:, one].mean()), float(outcome.up[:, other].mean()))  # fmt: skip
    for at, unit in enumerate(plan.units):
        for used in unit.uses:
            if plan.units[used].kind != "remote":
                both = ~np.isnan(outcome.settled_at[:, at]) & ~np.isnan(outcome.settled_at[:, used])
                first = both & (outcome.settled_at[:, used] <= outcome.settled_at[:, at])
                share = float(first.sum() / max(1, both.sum()))
                yield Race(f"{unit.name} uses {plan.units[used].name} without waiting for it", plan.units[used].name,
                           unit.name, share, 1.0 - share)  # fmt: skip


def _falls(outcome: Outcome, roots: np.ndarray) -> list[tuple[str, float, list[tuple[str, float]]]]:
    units = outcome.plan.units
    together: dict[int, Counter[int]] = {}
    runs, taken_down = np.nonzero(roots >= 0)
    for (root, unit), many in zip(*_counted(np.stack([roots[runs, taken_down], taken_down])), strict=True):
        together.setdefault(root, Counter())[unit] = many
    found = []
    for root, taken in together.items():
        times = int((~outcome.up[:, root]).sum())
        if times >= _SHOWN_SHARE * outcome.runs:
            group = [(units[at].name, many / times) for at, many in taken.most_common()]
            found.append((units[root].name, times / outcome.runs, group))
    return sorted(found, key=lambda one: (-one[1] * len(one[2]), one[0]))

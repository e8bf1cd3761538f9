"""The simulation against a second model that was written apart from it, on random hosts; and what must hold of any boot."""

from __future__ import annotations

import math
import random

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from hollow_chain.boot.engine import simulate
from hollow_chain.boot.outcome import State
from hollow_chain.boot.plan import BootPlan, Fault, Held, Retry, Unit, Work
from hollow_chain.boot.queues import Queues
from tests.event_model import Boot
from tests.made_boots import made_boot, plain_boot

HOSTS = 50
RUNS = 1500
EVENT_RUNS = 100
FAR = 4.75
"""Standard errors; a difference this great comes by chance once in a million."""


def test_agrees_with_the_event_model_on_random_hosts() -> None:
    gaps: list[float] = []
    for seed in range(HOSTS):
        plan = made_boot(5 + seed % 20, seed)
        outcome = simulate(plan, RUNS, seed)
        boots = [Boot(plan, random.Random(1000 * seed + run)).run() for run in range(EVENT_RUNS)]
        for at, unit in enumerate(plan.units):
            gaps += _gaps(outcome, boots, at, f"host {seed}, {unit}")
    assert len(gaps) > 500
    # Were there a bias, the gaps would be wider than chance makes them.
    assert 0.85 < float(np.sqrt(np.mean(np.square(gaps)))) < 1.15


def _gaps(outcome, boots, at, place) -> list[float]:
    ours = outcome.up[:, at]
    theirs = np.array([boot.state[at] == "up" for boot in boots])
    share = (ours.sum() + theirs.sum()) / (ours.size + theirs.size)
    error = math.sqrt(max(share * (1 - share), 1e-4) * (1 / ours.size + 1 / theirs.size))
    found = [(ours.mean() - theirs.mean()) / error] if 0.02 < share < 0.98 else []
    assert abs(ours.mean() - theirs.mean()) <= FAR * error + 2 / theirs.size, (place, ours.mean(), theirs.mean())
    if theirs.sum() > 30 and ours.any():
        one = outcome.up_at[ours, at].astype(float)
        other = np.array([boot.up_at[at] for boot in boots])[theirs]
        error = math.sqrt(one.var() / one.size + other.var() / other.size)
        gap = one.mean() - other.mean()
        assert abs(gap) <= FAR * error + 1e-4, (place, one.mean(), other.mean())
        found += [gap / error] if error > 1e-4 else []
    return found


PLANS = st.builds(made_boot, st.integers(1, 25), st.integers(0, 10_000))
FIXED = settings(max_examples=60, deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))


@FIXED
@given(PLANS, st.integers(0, 100))
def test_nobody_is_up_before_what_he_needs_and_waits_for(plan: BootPlan, seed: int) -> None:
    outcome = simulate(plan, 40, seed)
    for at, unit in enumerate(plan.units):
        for other in set(unit.needs) & set(unit.waits):
            begun, settled = outcome.begun_at[:, at], outcome.settled_at[:, other]
            both = ~np.isnan(begun) & ~np.isnan(settled)
            assert (begun[both] >= settled[both]).all()
            assert not (outcome.up[:, at] & np.isnan(settled) & (outcome.state[:, other] != State.NOT_STARTED)).any()


@FIXED
@given(PLANS, st.integers(0, 100))
def test_what_is_not_started_is_never_up_and_equal_seeds_are_equal(plan: BootPlan, seed: int) -> None:
    one, other = simulate(plan, 30, seed), simulate(plan, 30, seed)
    for at, unit in enumerate(plan.units):
        if not unit.starts:
            assert not one.up[:, at].any() and (one.tries[:, at] == 0).all()
    assert np.array_equal(one.state, other.state) and np.array_equal(one.up_at, other.up_at, equal_nan=True)


@FIXED
@given(st.integers(2, 60), st.integers(0, 1000))
def test_more_cores_never_slow_the_mean(many: int, seed: int) -> None:
    plan = plain_boot(many, seed)
    few = simulate(BootPlan("x", plan.units, cores=1), 60, seed)
    more = simulate(BootPlan("x", plan.units, cores=3), 60, seed)
    assert more.up_at.max(axis=1).mean() <= few.up_at.max(axis=1).mean() + 1e-3


def test_runs_are_the_same_in_portions_as_in_one(monkeypatch: pytest.MonkeyPatch) -> None:
    plan = made_boot(15, 4)
    whole = simulate(plan, 64, 3)
    monkeypatch.setattr("hollow_chain.boot.engine.PORTION", 15 * 10)
    parts = simulate(plan, 64, 3)
    assert np.array_equal(whole.state, parts.state)
    assert np.array_equal(whole.up_at, parts.up_at, equal_nan=True)


def test_an_interruption_gives_the_result_so_far() -> None:
    def stop(done: int, runs: int) -> None:
        if done >= 100:
            raise KeyboardInterrupt

    outcome = simulate(plain_boot(10, 1), 2000, 1, stop)
    assert outcome.runs == 100


def exact(*units: Unit, held: tuple[Held, ...] = (), cores: float = 1.0):
    """One run of a boot without chance, all work computing."""
    return simulate(BootPlan("x", list(units), list(held), cores=cores), 1, 1)


def busy(name: str, seconds: float, **more) -> Unit:
    return Unit(name, starts=True, work=Work(seconds, 0.0, 0.0, 1.0), **more)


def test_three_on_one_core_share_it() -> None:
    # 1, 2 and 3 s of work: the first is done when each has had 1 s, the second a second for each of two later, ...
    up = exact(busy("a", 1), busy("b", 2), busy("c", 3)).up_at[0]
    assert np.allclose(up, (3, 5, 6))


def test_as_many_as_cores_do_not_slow_each_other() -> None:
    assert np.allclose(exact(busy("a", 1), busy("b", 2), cores=2).up_at[0], (1, 2))


def test_the_limit_counts_while_others_slow_it() -> None:
    outcome = exact(busy("a", 1, limit=1.5), busy("b", 1))
    assert outcome.state[0].tolist() == [State.FAILED, State.UP]
    assert outcome.settled_at[0, 0] == 1.5
    assert np.isclose(outcome.up_at[0, 1], 1.75)  # 0.75 s each by then; the rest alone


def test_tries_stop_at_the_bar_and_go_on_past_its_window() -> None:
    retry = Retry(after=1.0, most=2, within=10.0)
    outcome = exact(busy("a", 1, fault=Fault("killed"), retry=retry))
    assert (outcome.tries[0, 0], outcome.state[0, 0]) == (3, State.FAILED)
    slow = exact(busy("a", 1, fault=Fault("killed"), retry=Retry(after=20.0, most=2, within=10.0)))
    assert slow.tries[0, 0] > 3


def test_what_one_has_another_does_not_get_until_it_is_given_back() -> None:
    thing = (Held("port", "port-held"),)
    outcome = exact(
        busy("first", 1, takes=(0,), fault=Fault("killed", after=1.0)),
        busy("second", 1.5, takes=(0,), retry=Retry(after=3.0, most=3)),
        held=thing,
        cores=4,
    )
    assert outcome.state[0].tolist() == [State.FAILED, State.UP]
    assert outcome.tries[0, 1] == 2 and outcome.cause(int(outcome.why[0, 1]), 1) == "port-held"


def test_what_is_bound_goes_down_with_it() -> None:
    outcome = exact(
        busy("base", 1, fault=Fault("killed", after=2.0)), busy("bound", 1, bound=(0,), waits=(0,)),
        busy("needs", 1, needs=(0,), waits=(0,)), cores=4,
    )  # fmt: skip
    assert outcome.state[0].tolist() == [State.FAILED, State.FAILED, State.UP]


@pytest.mark.parametrize("columns", [1, 2, 5, 300, 1024, 1025, 5000])
def test_the_queues_give_back_in_order(columns: int) -> None:
    rng = np.random.default_rng(columns)
    queues, rows = Queues(3, columns), np.arange(3)
    values = rng.random((3, columns))
    for column in range(columns):
        queues.put(rows, np.full(3, column), values[:, column])
    dropped = rng.integers(columns)
    queues.drop(rows, np.full(3, dropped))
    values[:, dropped] = np.inf
    for place in range(min(columns - 1, 20)):
        assert np.array_equal(queues.first, np.sort(values, axis=1)[:, place])
        assert np.array_equal(queues.pop(rows), np.argsort(values, axis=1)[:, place])

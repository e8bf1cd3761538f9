"""How fast the simulation is: against the second model of the tests on the same host, and how it grows."""

from __future__ import annotations

import math
import random
import time
from collections.abc import Iterator
from pathlib import Path

from tests.event_model import Boot
from tests.made_boots import plain_boot

from hollow_chain.boot.engine import simulate

RUNS, SERVICES, EVENT_RUNS = 1000, 300, 25
SIZES = (300, 1000, 3000, 10_000)
GROWTH_RUNS = 300
"""As many as are simulated at once on the largest host."""


def boots(_: Path) -> Iterator[tuple[str, float, float]]:
    """Runs of a 300-service host against the event model, and the exponent of growth up to 10,000 services."""
    plan = plain_boot(SERVICES, 1)
    simulate(plan, 10)
    pairs = [(_ours(plan, RUNS, seed), _theirs(plan, seed)) for seed in range(3)]
    ours, theirs = (sorted(column)[1] for column in zip(*pairs, strict=True))
    print(
        f"{RUNS} boots of {SERVICES} services: {ours:.2f} s; the event model: {theirs:.1f} s; {theirs / ours:.0f} times faster"
    )
    yield "1,000 boots / the event model / 80 times faster", 80 * ours / theirs, 1.0
    points = []
    for many in SIZES:
        took = _ours(plain_boot(many, 1), GROWTH_RUNS, 1)
        points.append((math.log(many * GROWTH_RUNS), math.log(took)))
        print(f"{many:6} services x {GROWTH_RUNS} runs: {took:6.2f} s")
    yield "exponent of growth in runs x services", _slope(points), 1.1


def _ours(plan, runs: int, seed: int) -> float:
    began = time.perf_counter()
    simulate(plan, runs, seed)
    return time.perf_counter() - began


def _theirs(plan, seed: int) -> float:
    began = time.perf_counter()
    for run in range(EVENT_RUNS):
        Boot(plan, random.Random(1000 * seed + run)).run()
    return (time.perf_counter() - began) * RUNS / EVENT_RUNS


def _slope(points: list[tuple[float, float]]) -> float:
    """The slope of the straight line that lies nearest to *points*."""
    x = sum(a for a, _ in points) / len(points)
    y = sum(b for _, b in points) / len(points)
    return sum((a - x) * (b - y) for a, b in points) / sum((a - x) ** 2 for a, _ in points)

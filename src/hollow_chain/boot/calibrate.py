"""Durations that were recorded while everything started at once, taken back to what each start takes alone.

A start that is recorded at boot was slowed by the others. Simulated with that duration it would be slowed twice; so the
durations are scaled, round by round, until the simulated boot gives back the recorded ones (a fixed point; each round
compares medians of few runs).
"""

from __future__ import annotations

import numpy as np
from msgspec.structs import replace

from hollow_chain.boot.durations import AT_ONCE, records_of
from hollow_chain.boot.engine import simulate
from hollow_chain.boot.making import Expected
from hollow_chain.boot.plan import BootPlan, Unit
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service

ROUNDS = 5
RUNS = 8
"""Rounds of fitting, and boots in each: every factor changes the company of all others, so that each is fitted again; a median of
eight boots is steadier than the guess that it replaces."""
AT_BOOT = 600.0
"""A start that began so soon after boot is one of the boot."""
_LEAST, _MOST = 0.2, 1.5
"""Bounds of a factor: a recorded start that took five times less or half as much again as it would alone has other reasons than
the company it was in, and is not explained away by it."""
_WORTH = 0.005
"""Seconds; what is quicker makes no difference."""


def calibrate(plan: BootPlan, host: Host, expected: Expected) -> None:
    """Put durations into *expected* that give back the recorded ones; those that were recorded by hand stay as they are."""
    boots = {
        s.name for s in host.services if s.kind not in AT_ONCE and s.name not in expected.works and _at_boot(s, host)
    }
    recorded = {at: unit.work.seconds for at, unit in enumerate(plan.units)
                if unit.name in boots and unit.starts and unit.work.seconds > _WORTH}  # fmt: skip
    if len(recorded) < 2:
        return
    for _ in range(ROUNDS):
        # Without the luck of durations one run is enough, and the median of few where other things are left to luck.
        sure = [replace(unit, work=replace(unit.work, spread=0.0)) for unit in plan.units]
        outcome = simulate(replace(plan, units=sure), RUNS, 0)
        factors: dict[int, float] = {}
        for at, seconds in recorded.items():
            took = outcome.settled_at[:, at] - outcome.begun_at[:, at]
            tried = ~np.isnan(took) & (outcome.tries[:, at] == 1)
            if tried.any():
                factors[at] = min(_MOST, max(_LEAST, seconds / float(np.median(took[tried]))))
        plan = replace(
            plan, units=[_scaled(unit, factors.get(at, 1.0), recorded.get(at)) for at, unit in enumerate(plan.units)]
        )
        if all(0.97 < factor < 1.03 for factor in factors.values()):
            break
    expected.works.update((plan.units[at].name, plan.units[at].work) for at in recorded)


def _scaled(unit: Unit, factor: float, most: float | None) -> Unit:
    if most is None:
        return unit
    return replace(unit, work=replace(unit.work, seconds=min(most, unit.work.seconds * factor)))


def _at_boot(service: Service, host: Host) -> bool:
    """Whether its durations were recorded at boots only."""
    if not records_of(service, host)[0]:
        return False
    timed = [start for start in service.starts if start.seconds > 0]
    if timed:
        return all(start.at_boot for start in timed if start.outcome == "up")
    last = service.last
    if last is None or last.started_at is None or host.boot_at is None:
        return bool(host.boots)
    return 0 <= (last.started_at - host.boot_at).total_seconds() <= AT_BOOT

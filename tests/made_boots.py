"""Random boots for tests and benchmarks: every feature of a plan, in any mixture, reproducible by seed."""

from __future__ import annotations

import random

from hollow_chain.boot.plan import FOREVER, BootPlan, Fault, Held, Retry, Unit, Work


def made_boot(many: int, seed: int) -> BootPlan:
    """A boot of *many* units that need, wait for, use and rival each other at random."""
    rng = random.Random(seed)
    plan = BootPlan("made-up", cores=rng.choice((1, 2, 4, 8)), disks=rng.choice((1, 1, 2)))
    plan.held = [Held(f"thing {n}", "port-held", rng.choice((1, 1, 2))) for n in range(3)]
    plan.units = [_unit(at, rng) for at in range(many)]
    if rng.random() < 0.3 and many > 5:
        plan.cuts = [(0.5, frozenset({many - 1})), (0.3, frozenset({many - 2, many - 1}))]
    return plan


def _unit(at: int, rng: random.Random) -> Unit:
    earlier = [rng.randrange(at) for _ in range(rng.choice((0, 1, 1, 2, 3)))] if at else []
    if rng.random() < 0.15:
        return Unit(f"t{at}", "target", True, waits=tuple(earlier))
    fault = (
        Fault("exits-with-error", rng.choice((0.2, 0.7, 1.0)), rng.choice((None, None, 0.7)))
        if rng.random() < 0.25
        else None
    )
    retry = (
        Retry(rng.uniform(0.1, 1.0), rng.randrange(0, 4), rng.choice((FOREVER, 3.0))) if rng.random() < 0.4 else None
    )
    return Unit(
        f"u{at}",
        starts=rng.random() < 0.95,
        at=rng.choice((0.0, 0.0, 0.0, 2.0)),
        spread=rng.choice((0.0, 0.0, 3.0)),
        waits=tuple(earlier),
        needs=tuple(earlier[:1]) if rng.random() < 0.6 else (),
        bound=tuple(earlier[1:2]) if rng.random() < 0.3 else (),
        uses=(rng.randrange(at),) if at and rng.random() < 0.05 else (),
        passed_over=rng.random() < 0.05,
        work=Work(
            rng.uniform(0.05, 2.0), rng.uniform(0.05, 0.6), rng.choice((0.0, 0.2, 0.4)), rng.choice((0.0, 0.3, 0.6))
        ),
        limit=rng.choice((FOREVER, FOREVER, 30.0, 2.5)),
        fault=fault,
        retry=retry,
        takes=(rng.randrange(3),) if rng.random() < 0.15 else (),
    )


def plain_boot(many: int, seed: int) -> BootPlan:
    """A boot as hosts have them: services in layers that wait for a few before them, none of which fails."""
    rng = random.Random(seed)
    units = [Unit("base.target", "target", True)]
    for at in range(1, many):
        ahead = tuple(sorted({rng.randrange(max(0, at - 40), at) for _ in range(rng.randrange(4))}))
        units.append(
            Unit(
                f"u{at}", "service", True, waits=ahead, needs=ahead[:1], work=Work(0.6 * rng.random(), 0.4), limit=90.0
            )
        )
    return BootPlan("made-up", units, cores=4)

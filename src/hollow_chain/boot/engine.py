"""The simulation: a boot, event by event, in many runs at once.

Every run has its own clock. Each step takes the next event of each run, so a step costs a few array operations however
many runs there are, and a run needs as many steps as it has events. Reading and computing go by *virtual time*: all who
share a station get on at one pace, min(1, capacity / number), so who will be done first is known when he comes, and a
change of pace moves nobody in the queue (processor sharing; see Kleinrock, "Queueing Systems", volume 2, 1976).
"""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

from hollow_chain.boot.compiled import Compiled
from hollow_chain.boot.outcome import Outcome
from hollow_chain.boot.plan import BootPlan
from hollow_chain.boot.portion import Portion

HORIZON = 3600.0
"""Seconds of boot that are followed, past the last moment at which anything is set to start."""
PORTION = 3_000_000
"""Runs times units that are simulated at once: bounds the memory."""
FIRST_PORTION = 100
"""Runs after which there is a first result, where somebody watches."""
_QUICK = 1000
"""Units, and runs, up to which all is done in a second or two: a small first portion would be done for nothing."""
PATIENCE = 2.0
"""Seconds of real time; where a portion takes longer, the next ones are kept small, so that one can stop in between."""

Progress = Callable[[int, int], None]


def simulate(
    plan: BootPlan,
    runs: int = 1000,
    seed: int = 1,
    progress: Progress | None = None,
    horizon: float | None = None,
    first: int = 0,
) -> Outcome:
    """Boot the host of *plan* *runs* times. Equal seeds give equal results, however the runs are portioned: *first* is the number of
    the first one.

    *progress* is told how many runs are done, of how many. Where it is interrupted (Ctrl-C) after a portion, the runs that
    are done are the result. Raises :class:`ValueError` for an empty plan or no runs.
    """
    if runs < 1 or not plan.units:
        raise ValueError("nothing to simulate: no runs, or no units")
    if horizon is None:  # an hour past the last moment that is set
        horizon = HORIZON + max(unit.at + unit.spread for unit in plan.units)
    compiled = Compiled(plan, seed)
    most = max(1, min(runs, PORTION // len(plan.units)))
    size = most if progress is None or max(len(plan.units), runs) <= _QUICK else min(most, FIRST_PORTION)
    parts: list[Outcome] = []
    done = 0
    try:
        while done < runs:
            many = min(size, runs - done)
            began = time.monotonic()
            parts.append(Portion(compiled, first + done, many, horizon).run())
            done += many
            if progress is not None:
                progress(done, runs)
            # Few runs cost nearly as much as many: small portions only where the rest takes long.
            size = most if time.monotonic() - began < PATIENCE else max(FIRST_PORTION, min(most, runs // 4))
    except KeyboardInterrupt:
        if not parts:
            raise
    return parts[0] if len(parts) == 1 else joined(plan, parts)


def joined(plan: BootPlan, parts: list[Outcome]) -> Outcome:
    """Several outcomes of one plan as one."""
    names = ("state", "up_at", "begun_at", "settled_at", "tries", "why", "blame", "gate")
    return Outcome(plan, *(np.concatenate([getattr(part, name) for part in parts]) for name in names))

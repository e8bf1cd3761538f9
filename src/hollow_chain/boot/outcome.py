"""What comes out of a simulation: where each unit stands in each run, since when, and why."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from hollow_chain.boot.plan import NEEDS, BootPlan
from hollow_chain.causes import named

OWN, TIMEOUT, NEED = 0, 1, 2
"""Codes of why something failed: what the fault or the thing held says, its limit, something it needs."""
FIRST_HELD = 3
"""The first code that stands for a thing to be held; those below are the reasons above."""


class State(IntEnum):
    """Where a unit stands."""

    NOT_STARTED = 0
    WAITING = 1
    STARTING = 2
    UP = 3
    FAILED = 4
    PASSED_OVER = 5
    RETRY = 6


@dataclass
class Outcome:
    """What came out, one row a run, one column a unit. Moments are NaN where they never came."""

    plan: BootPlan
    state: NDArray[np.int8]
    up_at: NDArray[np.float32]
    """When it was up for good (the last time, where it came up several times)."""
    begun_at: NDArray[np.float32]
    settled_at: NDArray[np.float32]
    """When its first try was over, and those that wait for it could go on."""
    tries: NDArray[np.int8]
    why: NDArray[np.int16]
    """Code of why it failed (the last time); -1: it did not."""
    blame: NDArray[np.int32]
    """Which unit that was the fault of; -1: nobody else."""
    gate: NDArray[np.int32]
    """The unit that it waited for last; -1: for none."""

    @property
    def runs(self) -> int:
        """How many runs."""
        return int(self.state.shape[0])

    def head(self, runs: int) -> Outcome:
        """The first *runs* of it."""
        arrays = (
            self.state, self.up_at, self.begun_at, self.settled_at, self.tries, self.why, self.blame, self.gate
        )  # fmt: skip
        return Outcome(self.plan, *(array[:runs] for array in arrays))  # type: ignore[arg-type]

    @cached_property
    def up(self) -> NDArray[np.bool_]:
        """Where it is up in the end."""
        return np.asarray(self.state == State.UP)

    def cause(self, code: int, unit: int) -> str:
        """The name of the cause behind a code of :attr:`why`."""
        if code >= FIRST_HELD:
            return self.plan.held[code - FIRST_HELD].cause
        fault = self.plan.units[unit].fault
        return {OWN: fault.cause if fault else named.UNEXPLAINED, TIMEOUT: named.START_TIMEOUT, NEED: NEEDS}.get(
            code, ""
        )

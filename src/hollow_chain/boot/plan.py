"""What a boot is made of, in words that no service manager owns: the input of the simulation.

A family's rules (``systemd_rules``, ``control_rules``) turn the facts of a host into a :class:`BootPlan`; from there on
nothing knows of families. All durations and moments are seconds; moments count from the beginning of the boot.
"""

from __future__ import annotations

import math

import msgspec

FOREVER = math.inf
NEEDS = "needs"
"""In the place of a cause: what the unit needs did not come up."""


class Work(msgspec.Struct, frozen=True):
    """How long a start takes when it has the host for itself: log-normal, and what it spends that time on.

    ``seconds`` is the median, ``spread`` the standard deviation of the logarithm. A start first reads from the disk,
    then computes, then waits (for a device, a peer, a clock); the shares say how much of it each takes. Reading and
    computing are shared with all others that do the same at that moment, waiting is not.
    """

    seconds: float = 0.0
    spread: float = 0.0
    disk: float = 0.2
    cpu: float = 0.3
    records: int = 0
    """Recorded starts that it rests on; 0: the prior of its family alone."""

    @property
    def wait(self) -> float:
        """The share that is spent on waiting."""
        return max(0.0, 1.0 - self.disk - self.cpu)


class Fault(msgspec.Struct, frozen=True):
    """Something that makes a start fail, or ends what was started."""

    cause: str
    odds: float = 1.0
    """The share of boots in which it is there. How sure anybody is of it, is no matter of boots: see :class:`Presumed`."""
    after: float | None = None
    """Seconds after it is up until it ends; None: the start itself fails."""


class Presumed(msgspec.Struct, frozen=True):
    """What is taken to be wrong with a service: a diagnosis, which holds in every boot or in none."""

    cause: str
    sure: float
    """The probability that it is right; it is told beside the shares of boots, and never mixed into them."""


class Retry(msgspec.Struct, frozen=True):
    """What the manager does when it failed."""

    after: float = 0.1
    """Seconds until the next try."""
    most: int = 0
    """Further tries at most; 0: none."""
    within: float = FOREVER
    """The bar counts tries of so many seconds only (a window that is opened by the first one)."""
    on_timeout: bool = True
    on_failure: bool = True


class Held(msgspec.Struct, frozen=True):
    """Something of which there is only so much: an endpoint that two want, a lock, seats."""

    name: str
    cause: str
    """The cause of the catalogue where it is not to be had."""
    amount: int = 1


class Unit(msgspec.Struct, frozen=True):
    """One service (or target, mount, ...) in the boot. Others are named by their place in the plan."""

    name: str
    kind: str = "service"
    starts: bool = False
    """Whether this boot starts it at all."""
    at: float = 0.0
    """Not before this moment (a delayed group, an event at a given time)."""
    spread: float = 0.0
    """Up to so many seconds later, evenly spread (an event at a random time)."""
    apart: bool = False
    """Started by an event or a moment of its own (the delayed group): the boot is over without it."""
    waits: tuple[int, ...] = ()
    """Starts once all of these are settled: up, passed over, or failed."""
    needs: tuple[int, ...] = ()
    """Fails where one of these fails before it has begun."""
    up_first: tuple[int, ...] = ()
    """Fails where one of these is not up at the moment it begins (and is not waited for)."""
    uses: tuple[int, ...] = ()
    """Used without being declared: fails where one of these is not up at the moment it would be up itself."""
    bound: tuple[int, ...] = ()
    """Goes down with any of these, and does not start where one of these was passed over."""
    passed_over: bool = False
    """A condition does not hold: never begun, and no failure."""
    work: Work = Work()
    limit: float = FOREVER
    """Seconds after which a start is given up."""
    fault: Fault | None = None
    retry: Retry | None = None
    takes: tuple[int, ...] = ()
    """Places in :attr:`BootPlan.held` of what it takes as it comes up, one piece each (several: named several times)."""
    why_not: str = ""
    """Where it is not started: the cause of the catalogue, or empty where nothing asks for it."""
    blame: int = -1
    """Where it is not started: the unit whose fault that is."""
    now_up: bool | None = None
    """Whether it runs in the facts that the plan was made from. None: not known."""


class BootPlan(msgspec.Struct):
    """A whole boot of one host."""

    host: str
    units: list[Unit] = msgspec.field(default_factory=list)
    held: list[Held] = msgspec.field(default_factory=list)
    cores: float = 1.0
    disks: float = 1.0
    cuts: list[tuple[float, frozenset[int]]] = msgspec.field(default_factory=list)
    """Ways in which loops are cut: the chance of each, and the units whose start it drops. Empty: no loop."""
    notes: list[str] = msgspec.field(default_factory=list)
    """What the reader should know about how the plan was made."""
    taken: dict[str, Presumed] = msgspec.field(default_factory=dict)
    """By the name of a unit: the diagnosis that its faults, rivals and uses rest on."""

    def index(self, name: str) -> int | None:
        """The place of the unit of that name."""
        return next((at for at, unit in enumerate(self.units) if unit.name == name), None)

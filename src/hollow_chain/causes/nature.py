"""What a cause is beside its rule: what it means for the next boot and for a mend, when there is any use in looking for it, and
how it shows. All of it is said where the cause is registered, as data; nobody else knows causes by name.
"""

from __future__ import annotations

from enum import Enum, Flag, auto
from typing import NamedTuple


class Boot(Enum):
    """What a cause that is there now means for the next boot of the host that it is on."""

    STAYS = "stays"
    """A reboot does not put it right."""
    OVER = "over"
    """It is over with a reboot, or no cause at a boot."""
    ANEW = "anew"
    """It follows from the facts: the simulation of the boot finds it by itself."""
    RIVALRY = "rivalry"
    """It is decided anew by who comes first, where it is known who the two are."""
    USES = "uses"
    """The service uses another one without waiting for it: the simulation is told so, and finds the rest."""


class When(Flag):
    """What has to be true of a node, beside its state, for a rule to have anything to say; worked out once for all rules."""

    ANY = 0
    DOWN = auto()
    """It is not up."""
    UNWELL = auto()
    """It is not well by itself."""
    FAILED = auto()
    """It is not well, and its last run ended badly."""
    SPOKE = auto()
    """That, and the program said something in it."""
    STRAINED = auto()
    """It is not well by itself, or has as many tasks as it may have."""
    REFUSED = auto()
    """It is not well by itself, or is asked about and says in this run that it was refused something."""
    STALE = auto()
    """It is not up, or the last reload of its settings failed."""
    LICENSED = auto()
    """It is the service of a license server."""


RUNNING, CLAIMS, CLASHES, SEATS, TIMES = "running", "claims", "clashes", "seats", "times"
"""Parts of what is known of a service that are put right when a person has mended a cause, as far as the simulation sees it: it
runs; its endpoints are its own; it clashes with nobody; its seats are there; its starts
that ran out of time say nothing of the next one."""
ACCOUNT, PORT = "account", "port"
"""Settings of a service whose change may be the answer to a cause."""


class Shown(NamedTuple):
    """How a start that fails by a cause shows on a host of the control-manager family."""

    number: int
    """The manager's error number."""
    result: str
    text: str
    """The record; ``{name}``, ``{blame}``, ``{thing}``, ``{program}``, ``{account}``, ``{endpoint}``, ``{port}``."""
    exit_status: int | None = None

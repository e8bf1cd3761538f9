"""What carries out steps on a host: the interface that both families' hands have."""

from __future__ import annotations

from collections.abc import Collection
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, NamedTuple, Protocol, runtime_checkable

from hollow_chain.facts.host import File, Snapshot
from hollow_chain.mend.plan import Step


class NotDone(Exception):
    """A step could not be carried out: why, in words."""


class Hands(Protocol):
    """One host that steps can be carried out on."""

    host: str
    """Its name, as the facts have it."""
    machine: str
    """What tells it from all others, however it is called."""

    named: str
    """How a call names it: ``--from FOLDER``, or nothing for this machine."""

    @property
    def place(self) -> Path:
        """The folder of its journals."""

    def lacks(self, steps: list[Step]) -> list[str]:
        """Rights that *steps* need and that are not there, in words."""

    def facts(self, with_claims: bool = False, with_packages: bool = False) -> Snapshot:
        """The facts, read now; with what whole configurations claim and with the packages of files, where that is asked for."""

    def look(self, path: str) -> File | None:
        """What is at a path now."""

    def own_test(self, service: str) -> str:
        """What the service's own test says against its start, where its definition names one (its own program, run before the start
        proper with other arguments); empty where it passes, or there is none."""

    def keep(self, step: Step, mend: str, number: str) -> dict[str, Any]:
        """All that is needed to take the step back, read before it is carried out; plain JSON. *mend* and *number* name what
        the step is going to leave behind. Raises :class:`NotDone` where it could not be taken back."""

    def do(self, step: Step, kept: dict[str, Any]) -> None:
        """Carry out a step, and wait for its end. Raises :class:`NotDone`."""

    def settle(self, step: Step, kept: dict[str, Any]) -> None:
        """The mend that the step belongs to has held: let go of what was only kept for the case that it had not."""

    def take_back(self, step: Step, kept: dict[str, Any]) -> None:
        """Restore what was kept, whether the step was carried out wholly, half or not at all. Raises :class:`NotDone`."""

    def let_pass(self, seconds: float) -> None:
        """Let so much time pass on the host."""


@runtime_checkable
class HandsOfMany(Hands, Protocol):
    """Several hosts that steps can be carried out on, each by hands of its own."""

    @property
    def reaches(self) -> frozenset[str]:
        """The hosts that there are hands for."""

    def at(self, host: str) -> Hands:
        """The hands of one of them. Raises :class:`NotDone` where it is not the machine that the facts are of, or is not reached."""

    def machines(self, hosts: Collection[str]) -> dict[str, str]:
        """What tells the machines of *hosts* from all others."""

    def begun(self, mend: str, hosts: Collection[str]) -> None:
        """Leave a mark on each of *hosts* that the *mend* is under way. Raises :class:`NotDone` where another one is."""

    def ended(self, mend: str) -> None:
        """Take the marks away again."""


def hands_at(hands: Hands, host: str) -> Hands:
    """The hands for steps on *host*."""
    return hands.at(host) if isinstance(hands, HandsOfMany) else hands


def reached_by(hands: Hands) -> frozenset[str]:
    """The hosts that *hands* can carry steps out on."""
    return hands.reaches if isinstance(hands, HandsOfMany) else frozenset({hands.host})


class FirstStart(NamedTuple):
    """What a first start has shown."""

    up_when: str = ""
    """``started``, ``forked``, ``reported`` or ``ended``; empty where it did not come up."""
    ports: tuple[int, ...] = ()
    """Ports that it was seen to hold."""
    pid_file: str = ""
    """The file that names its process, where its first process ended and one was found."""
    said: str = ""
    """How it ended, where it did not come up."""
    unit: str = ""
    """The name that it ran under."""


@runtime_checkable
class TryingHands(Hands, Protocol):
    """A host on which a program can be run once before it is registered."""

    def first_start(
        self, text: str, name: str, ports: list[int], limit: float | None
    ) -> AbstractContextManager[FirstStart]:
        """Run the definition *text* once, as the service *name*, which has to hold *ports* within *limit* seconds; it is there, ended,
        until the end of the block. Raises :class:`NotDone` where it cannot be run."""

    def facts_of(self, unit: str) -> Snapshot:
        """The facts, read now, with a service that no list shows."""

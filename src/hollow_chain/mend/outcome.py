"""What becomes of a mend that is carried out, and how a person is asked meanwhile."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from hollow_chain.mend.checking import Check
from hollow_chain.mend.journal import Record
from hollow_chain.mend.plan import Step

Tell = Callable[[str], None]
Ask = Callable[[int, Step], bool]
"""Asks a person whether a step (its number, from 1) is done."""


@dataclass
class MendOutcome:
    """What became of a mend."""

    id: str
    well: bool
    summary: str
    checks: list[Check] = field(default_factory=list)
    way_back: str = ""
    named: str = ""
    """The option that names the host, for the lines that speak of it."""
    case: int | None = None
    """The number under which it is kept as a case."""
    applied: bool = True
    waits_for: tuple[int, str] | None = None
    """The step for a person that it waits for: its number from 1, and what is to be done."""


class Stopped(Exception):
    """A try cannot go on: why, in words."""


class Waiting(Exception):
    """A step for a person is not done, as far as anybody says or can be seen."""

    def __init__(self, number: int, step: Step, why: str = "") -> None:
        super().__init__(why)
        self.number, self.step, self.why = number, step, why


def nobody(number: int, step: Step) -> bool:
    """Nobody is there to ask."""
    return False


_NOUNS = {"": "The mend", "register": "The registration", "edit": "The change", "unregister": "The removal"}


def called(head: Record, name: str = "") -> str:
    """What a journal is about, at the head of a sentence."""
    return f"{_NOUNS[head.does]}{f' {name}' if name else ''} of {head.target}"


def said_once(number: int, then: Ask) -> Ask:
    """A person has said that step *number* is done; whatever else is to be asked, *then* asks."""
    said: list[int] = []

    def ask(at: int, step: Step) -> bool:
        if at != number or said:
            return then(at, step)
        said.append(at)
        return True

    return ask

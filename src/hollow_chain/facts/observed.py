"""What was seen of a start that was watched. No contents of files or messages, and no arguments of programs, are kept."""

from __future__ import annotations

from typing import ClassVar, Literal

from hollow_chain.facts.part import Listed, Moment, Part, Seconds


class ObservedCall(Part, gc=False):
    """A system call of a process of the service that failed."""

    happens: ClassVar[bool] = True

    name: str
    """The call, such as ``openat``."""
    kind: str
    """What it was to do: ``open``, ``run``, ``bind``, ``connect``, ``lock``, ..."""
    thing: str
    """The path, from the root on, or the endpoint (``[::1]:8080``), or what else the call was about."""
    error: str
    """The name of its error, such as ``EACCES``; of a call for which a filter ended the process, ``SIGSYS``."""
    at: Moment
    process: int = 0
    program: str = ""
    writes: bool = False
    """Whether it needed the right to write."""
    weight: float = 0.0
    """How much speaks for its being what ended the start, from 0 to 1."""


class ObservedWait(Part, gc=False):
    """What a process of the service waited in when the watch ended."""

    name: str
    """The call."""
    kind: str = ""
    thing: str = ""
    """The path or the endpoint; empty where it is none."""
    holder: int = 0
    """The process that has what it waits for."""
    process: int = 0
    program: str = ""
    seconds: Seconds = 0.0
    """For how long, at least."""


class ObservedPart(Part, gc=False):
    """A part of a start and how long it took."""

    what: str
    seconds: Seconds


Outcome = Literal["up", "failed", "ended", "not-up", "no-try"]


class Observation(Part):
    """One start that was watched."""

    happens: ClassVar[bool] = True

    service: str
    at: Moment
    """When it was begun."""
    seconds: Seconds = 0.0
    outcome: Outcome = "not-up"
    """``up``; ``failed``; ``ended``, without an error, and nothing is left; ``not-up``: still under way when the watch ended;
    ``no-try``: its next try was waited for, and none came."""
    traced: bool = False
    """Whether the calls of its processes were seen."""
    why_not_traced: str = ""
    parts: Listed[ObservedPart] = []
    calls: Listed[ObservedCall] = []
    """Those that failed and may have ended it, the weightiest first."""
    waits: Listed[ObservedWait] = []
    read_last: str | None = None
    """The file that it had read last when it ended, where it did nothing after that which others see; its content is not kept."""
    known_good: bool = False
    """Whether what fails in good starts, too, was known and left out."""

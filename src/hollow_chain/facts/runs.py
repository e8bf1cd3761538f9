"""How the starts, runs and ends of one service go and went, and what was asked of it."""

from __future__ import annotations

from typing import ClassVar, Literal

from hollow_chain.facts.part import Listed, Moment, Part, Seconds


class LastRun(Part, gc=False):
    """How the last start, run and end went."""

    happens: ClassVar[bool] = True

    result: str = ""
    """``success``, ``exit-code``, ``signal``, ``timeout``, ``start-limit-hit``, ``dependency``, ... as the
    manager says it."""
    exit_status: int | None = None
    signal: int | None = None
    error_number: int | None = None
    """Numbered error of the control-manager family."""
    started_at: Moment | None = None
    """When the manager began to start it."""
    up_at: Moment | None = None
    ended_at: Moment | None = None
    left_up_at: Moment | None = None
    """When it last ceased to be up."""
    step: str = ""
    """The step that failed where that is not the main program, such as ``ExecStartPre``."""
    step_program: str = ""
    """The program of that step."""
    step_arguments: Listed[str] | None = None
    """The command line of that step, secrets masked."""
    took: Seconds | None = None
    """How long that start took, with all its steps, until it was up."""
    cpu_seconds: Seconds | None = None
    """Computing time that its processes have used since."""
    restarts: int = 0
    """Restarts by the manager itself since the last start by somebody else."""
    well_before: Seconds | None = None
    """For how long the run before this one was up, where it ended without an error and the manager started it again."""
    reload_result: str = ""
    """How the last reload of its settings in this run ended, as the manager says it; empty where it went well, or there was none."""
    status_text: str = ""


class Progress(Part, gc=False):
    """How a start, stop, pause or continuation that is under way comes along, by what the service itself reports."""

    happens: ClassVar[bool] = True

    checkpoint: int = 0
    """Counts up while it comes along."""
    wait_hint: Seconds = 0.0
    """How long it says that it needs until the next count."""
    looked_for: Seconds = 0.0
    """How long lay between the two looks."""
    moves: bool | None = None
    """Whether it counted on, or ended, between two looks. None: looked at once."""
    process_runs: bool | None = None
    """Whether its process is there. None: not known."""


class Job(Part, gc=False):
    """What the manager was last asked to do with the service, where that is not done: it waits, is under way, or came to nothing."""

    happens: ClassVar[bool] = True

    kind: str = "start"
    """``start``, ``stop``, ``restart``, ``reload``, ... as the manager says it."""
    state: str = "waiting"
    """``waiting``, ``running``, or what it came to: ``timeout``, ``canceled``."""
    behind: Listed[str] = []
    """The services whose jobs have to be done first."""
    at: Moment | None = None
    """When it came to that."""


class Start(Part, gc=False):
    """One recorded start."""

    happens: ClassVar[bool] = True

    at: Moment
    seconds: Seconds = 0.0
    """How long it took; 0 where that is not told, as of a program that counts as up at once."""
    outcome: Literal["up", "failed", "timeout"] = "up"
    at_boot: bool = False
    offset: Seconds | None = None
    """Seconds after boot at which it was up."""


class Usage(Part, gc=False):
    """What a service that runs takes of the host at the moment. None: not known."""

    happens: ClassVar[bool] = True

    memory_bytes: int | None = None
    tasks: int | None = None
    open_files: int | None = None
    """Descriptors that its main process has open."""
    most_open_files: int | None = None
    """How many it may have open at most; -1: no limit."""

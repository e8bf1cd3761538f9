"""What the definition takes from the program, or lets it have too little of: descriptors, tasks, memory, calls of the kernel."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.causes import looked
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import AFTER_RELOAD, ENDS, FITS, HINT, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.process.telling import signal_name
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import span
from hollow_chain.facts.host import Event
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import has_its_tasks
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.complaints import config_errors
from hollow_chain.wording.forms import read
from hollow_chain.wording.system_errors import error_at_end

_STATES = ("running", *NOT_UP)


class Bound(NamedTuple):
    """A thing that a program may have too little of."""

    says: str
    """What a line says that complains of it."""
    settings: tuple[str, ...]
    """The bounds on it, by the manager's words (systemd.exec(5), "Process Properties"; systemd.resource-control(5))."""
    what: str
    hardly: int
    """A bound at or below which hardly any program comes up."""
    of_host: str = ""
    """The setting of the kernel, where the bound is one of the whole host and no definition has it."""


_SIZE = ("LimitFSIZE",)
_BOUNDS = (
    # Three streams, the libraries one after the other, a log and a socket: whatever listens needs more than that.
    Bound("bounded files", ("LimitNOFILE",), "open files", 16),
    Bound("bounded tasks", ("TasksMax", "LimitNPROC", "LimitAS"), "processes and threads", 2),
    Bound("bounded locked", ("LimitMEMLOCK",), "locked memory", -1),  # hardly any program locks memory
    # The same errors as of a full disk and of too many files (inotify_add_watch(2), inotify_init(2), semget(2)), and neither.
    Bound(
        "bounded watches", (), "inotify watches or instances", -1, "fs.inotify.max_user_watches or max_user_instances"
    ),
    Bound(
        "bounded sharing",
        (),
        "System V semaphores, queues or shared memory",
        -1,
        "kernel.sem, kernel.msgmni or kernel.shmmni",
    ),
    # The loader and the C library of a 64-bit system map some tens of megabytes before the program's first step.
    Bound("bounded memory", ("LimitAS", "LimitDATA", "MemoryMax", "LimitSTACK"), "memory", 64 << 20),
    # A PID file holds a number, and a log more than that; a program that has no signal for it hears of a write that failed.
    Bound("", _SIZE, "the size of a file", 8),
)


@cause("limit-reached", Boot.STAYS, states=_STATES, when=When.STRAINED)
def limit_reached(case: Case) -> Iterator[Finding]:
    """It ran into a bound on what it may use: open files, processes, memory, locked memory, places to watch.

    Looks at: log lines that complain of too few of these; the bounds that the definition sets lower than for others.
    Convinced by: such a line, and such a bound; a bound so low that hardly any program comes up, where the end is not explained.
    Against: no bound of its own (then less sure: the host itself may have run out).
    Mend: raise that one bound.
    """
    if not failed_last(case.service) and case.service.state == "running":
        yield from _at_its_bound(case)
        return
    if case.standing.well:
        return
    lowered = (case.service.limits.lowered if case.service.limits else None) or {}
    words = [event for event in case.own_events() if not case.went_on_after(event)]
    if not lowered and not lines.saying(words, *(bound.says for bound in _BOUNDS)):
        return
    yield from _ended_by_bound(case, lowered)
    for bound in _BOUNDS:
        said = _complaints(words, bound) if bound.says else _too_large(case, lowered)
        said = said or (_not_begun(case) if "LimitNPROC" in bound.settings and "LimitNPROC" in lowered else [])
        own = {name: lowered[name] for name in bound.settings if name in lowered}
        absurd = {name: value for name, value in own.items() if value <= bound.hardly}
        if not said and not (absurd and (looked.is_silent(case) or _only_stumbles(case, bound))):
            continue
        yield _reached(case, bound, [case.quoted(said[0], SAID)] if said else [], own or absurd, bool(absurd))
        return


def _complaints(words: list[Event], bound: Bound) -> list[Event]:
    """Those that complain of too little of a thing; what ends with an error of rights was refused, however much there is of it."""
    return [event for event in lines.saying(words, bound.says) if error_at_end(event.text) not in _OF_RIGHTS]


_OF_RIGHTS = ("EPERM", "EACCES")


def _at_its_bound(case: Case) -> Iterator[Finding]:
    """It is up, has as many tasks as it may have, and says since it came up that it could not begin another."""
    service = case.service
    most = (service.limits.lowered or {}).get("TasksMax", 0) if service.limits else 0
    said = lines.saying(case.own_events(), "bounded tasks")
    bound = next(one for one in _BOUNDS if "TasksMax" in one.settings)
    if said and has_its_tasks(service):
        use = case.seen(f"it has as many tasks as it may have: {most}", "control group", bears=SAID)
        yield _reached(case, bound, [use, case.quoted(said[0], SAID)], {"TasksMax": most}, True)


def _too_large(case: Case, lowered: dict[str, int]) -> list[Event]:
    """Calls that were seen to fail because a file would grow beyond its bound (write(2), ``EFBIG``), and words of that where it has one."""
    words = set(_SIZE) & set(lowered)
    return [
        event
        for event in case.own_events()
        if (event.call.error if event.call is not None else words and error_at_end(event.text)) == "EFBIG"
    ]


def _not_begun(case: Case) -> list[Event]:
    """Records of the manager that it could not run the program, as its account has as many processes as it may (execve(2), ``EAGAIN``)."""
    told = [
        event for event in case.last_events() if event.by_manager and read(event.text).named("step", "step") == ["EXEC"]
    ]
    return [event for event in told if error_at_end(event.text) == "EAGAIN"]


def _only_stumbles(case: Case, bound: Bound) -> bool:
    """Whether its words only say that something could not be read or used, and neither why nor at which line: as a program does that
    gets no further under a bound."""
    own = case.own_events()
    tells = ["missing", "denied", "in use", "no address", "busy", "full", "account unknown", "too open"]
    if bound.settings != _SIZE:
        tells.append("locked")  # a lock or PID file that cannot be written is one of the files that may not grow
    return (
        failed_last(case.service)
        and not lines.saying(own, *tells)
        and all(one.line is None or _WARNS.search(one.event.text) for one in config_errors(own))
    )


_WARNS = pattern(r"(?i)\bwarn(?:ing)?\b")
_BY_SIGNAL = 128
_SIGNALS = {25: ("LimitFSIZE", "the size of a file"), 24: ("LimitCPU", "computing time")}
"""The signals by which the kernel ends whoever goes over one of two bounds (setrlimit(2): ``SIGXFSZ``, ``SIGXCPU``)."""


def _ended_by_bound(case: Case, lowered: dict[str, int]) -> Iterator[Finding]:
    last = case.service.last
    # A shell ends with 128 and the number of the signal that ended what it ran (sh(1p), "Exit Status").
    status = last.exit_status - _BY_SIGNAL if last is not None and last.exit_status is not None else 0
    signal = (last.signal or status) if last is not None else 0
    setting, what = _SIGNALS.get(signal, ("", ""))
    if last is not None and signal == _KILLED and (used := _spent(last, lowered)):
        # Where both limits are alike the kernel sends no warning first (setrlimit(2), RLIMIT_CPU).
        bound = Bound("", ("LimitCPU",), "computing time", 0)
        text = f"ended by {signal_name(signal)} {used}"
        said = [case.seen(text, MANAGER, last.ended_at, SAID)]
        yield _reached(case, bound, said, {"LimitCPU": lowered["LimitCPU"]}, True)
    elif last is not None and setting:
        text = f"ended by {signal_name(signal)}, which the kernel sends for that alone"
        end = case.seen(text, MANAGER, last.ended_at, SAID)
        own = {setting: lowered[setting]} if setting in lowered else {}
        yield _reached(case, Bound("", (setting,), what, 0), [end], own, bool(own))


_KILLED = 9
"""The signal that nothing can catch (signal(7), ``SIGKILL``)."""


def _spent(last: LastRun, lowered: dict[str, int]) -> str:
    """The computing time that a run had, where it came up to its bound on that; empty where it did not, or nobody knows."""
    bound = lowered.get("LimitCPU", 0)
    used = last.cpu_seconds
    if used is None and last.started_at is not None and last.ended_at is not None:
        ran = (last.ended_at - last.started_at).total_seconds()
        return (
            "" if not bound or not bound <= ran <= bound * _AT_WORK else f"after {span(ran)}, as long as it may compute"
        )
    return (
        f"once it had used {span(used)} of computing time"
        if bound and used is not None and used >= bound * _ALMOST
        else ""
    )


_ALMOST = 0.9
"""Share of its bound on computing time at which a run counts as ended by it: the kernel looks at it now and then."""
_AT_WORK = 1.5
"""A program that was busy all the time comes to its bound within so many times that long."""


def _reached(case: Case, bound: Bound, said: list[Evidence], own: dict[str, int], absurd: bool) -> Finding:
    name = case.service.name
    named = ", ".join(f"{setting}={value}" for setting, value in own.items())
    bears = SAID if absurd and said else FITS
    seen = (
        [case.seen(f"its definition bounds it to {named}, lower than for others", "definition", bears=bears)]
        if named
        else []
    )
    last = case.service.last
    # Without a bound that is known there are its words alone.
    end = case.seen(f"last run ended with {last.result if last else 'an error'}", MANAGER, bears=HINT if own else TELLS)
    into = f"ran into its bound on {bound.what}{f' ({named})' if named else ''}"
    if said and bound.says and not own:
        into = f"ran out of {bound.what}, by its own words"
    return Finding(
        says=f"{name} {into}.",
        evidence=(*said, *seen, end),
        mends=(
            Mend(f"Raise {next(iter(own), bound.settings[0])} in the definition of {name}.", AFTER_RELOAD)
            if own
            else Mend(f"See who uses up the {bound.what} of the host; raise {_bounding(bound, name)}.", seeks=True),
        ),
        explains=(*ENDS, "access-denied", "path-missing", "port-forbidden"),
    )


def _bounding(bound: Bound, name: str) -> str:
    return f"{bound.of_host} of the kernel" if bound.of_host else f"{bound.settings[0]} of {name} if it is its own"

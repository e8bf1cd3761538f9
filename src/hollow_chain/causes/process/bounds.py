"""What the definition takes from the program, or lets it have too little of: descriptors, tasks, memory, calls of the kernel."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from msgspec.structs import replace

from hollow_chain.causes import looked
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.process.telling import signal_name
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import clock, span, was_up_before
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import LastRun
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.system_errors import errors

_STATES = ("running", *NOT_UP)
_END = (
    "exits-with-error",
    "exits-at-once",
    "crash-loop",
    "killed",
    "config-rejected",
    "start-rate-limited",
    "lock-held",
)


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


@cause("limit-reached", Boot.STAYS, states=_STATES, when=When.UNWELL)
def limit_reached(case: Case) -> Iterator[Finding]:
    """It ran into a bound on what it may use: open files, processes, memory, locked memory, places to watch.

    Looks at: log lines that complain of too few of these; the bounds that the definition sets lower than for others.
    Convinced by: such a line, and such a bound; a bound so low that hardly any program comes up, where the end is not explained.
    Against: no bound of its own (then less sure: the host itself may have run out).
    Mend: raise that one bound.
    """
    if not failed_last(case.service) and case.service.state == "running":
        return
    lowered = (case.service.limits.lowered if case.service.limits else None) or {}
    words = [event for event in case.own_events() if not case.went_on_after(event)]
    if not lowered and not lines.saying(words, *(bound.says for bound in _BOUNDS)):
        return
    yield from _ended_by_bound(case, lowered)
    for bound in _BOUNDS:
        said = lines.saying(words, bound.says) if bound.says else _too_large(case)
        own = {name: lowered[name] for name in bound.settings if name in lowered}
        absurd = {name: value for name, value in own.items() if value <= bound.hardly}
        if not said and not (absurd and (looked.is_silent(case) or _only_stumbles(case, bound))):
            continue
        yield _reached(case, bound, [case.quoted(said[0], SAID)] if said else [], own or absurd, bool(absurd))
        return


def _too_large(case: Case) -> list[Event]:
    """Calls that were seen to fail because a file would grow beyond its bound (write(2), ``EFBIG``)."""
    return [event for event in case.own_events() if event.call is not None and event.call.error == "EFBIG"]


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
        and all(one.line is None or _WARNS.search(one.event.text) for one in lines.config_errors(own))
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
        explains=(*_END, "access-denied", "path-missing", "port-forbidden"),
    )


def _bounding(bound: Bound, name: str) -> str:
    return f"{bound.of_host} of the kernel" if bound.of_host else f"{bound.settings[0]} of {name} if it is its own"


_UP_AT_ONCE = ("simple", "exec", "idle")
"""Start types with which a service is up once its program runs (systemd.service(5), "Type=")."""
_NO_SUCH_CALL = 31
"""The signal of a call that a filter does not let pass (signal(7), ``SIGSYS``)."""
_PLAIN_REFUSALS = (1, 13)
"""Errors that many other things give too: ``EPERM``, ``EACCES``."""


@cause("call-forbidden", Boot.STAYS, states=_STATES, when=When.FAILED)
def call_forbidden(case: Case) -> Iterator[Finding]:
    """Its definition keeps a call of the kernel from it that it needs: a filter of calls, or of kinds of sockets.

    Looks at: the signal that ended it, log lines that name the error which a refused call gives; the filters of the definition.
    Convinced by: an end by ``SIGSYS``, or such a line, under such a filter.
    Against: no filter.
    Mend: let that one call, or kind of socket, through.
    """
    confinement, last = case.service.confinement, case.service.last
    if confinement is None or last is None:
        return
    if kept := _kept_from(case, confinement.keeps_from or []):
        yield _forbidden(case, kept[0], kept[1], [case.quoted(kept[2], SAID)], SAID)
        return
    if confinement.families is not None and (said := lines.saying(case.own_events(), "no family")):
        yield _forbidden(case, "RestrictAddressFamilies", "a kind of socket", [case.quoted(said[-1], FITS)], SAID)
    elif confinement.calls_by and last.signal == _NO_SUCH_CALL:
        end = case.seen(
            f"ended by {signal_name(_NO_SUCH_CALL)}: a call that a filter does not let pass",
            MANAGER,
            last.ended_at,
            SAID,
        )
        seen = [e for e in case.own_events() if e.call is not None and e.call.kind == "filter"][-1:]
        yield _forbidden(case, confinement.calls_by, _named_call(seen), [*map(case.quoted, seen), end], SAID)
    elif confinement.calls_by and confinement.calls_fail_with in errors():
        told = [
            e for e in case.own_events() if errors()[confinement.calls_fail_with or 0].text.lower() in e.text.lower()
        ]
        plain = confinement.calls_fail_with in _PLAIN_REFUSALS
        if told:
            bears = FITS if plain else SAID
            yield _forbidden(case, confinement.calls_by, _named_call(told[-1:]), [case.quoted(told[-1], FITS)], bears)
            return
    setting = confinement.calls_by or ("RestrictAddressFamilies" if confinement.families is not None else "")
    since = _changed_since_good(case)
    if setting and since is not None and looked.is_silent(case):
        text = f"its definition was changed at {clock(since)}, after its last good start and before the one that failed"
        changed = case.seen(text, "definition", since, FITS)
        found = _forbidden(case, setting, "something", [looked.ended(case), changed], TELLS)
        yield replace(found, residual=True, explains=("exits-with-error", "exits-at-once", "crash-loop"))


_KEPT_FROM = {
    "MemoryDenyWriteExecute": (
        ("mmap", "mprotect", "pkey_mprotect", "shmat"),
        "memory that it may both write and execute",
    ),
    "RestrictRealtime": (("sched_setscheduler", "sched_setattr", "sched_setparam"), "real-time scheduling"),
    "RestrictSUIDSGID": (
        ("chmod", "fchmod", "fchmodat", "fchmodat2", "mknod", "mknodat"),
        "files that run as their owner",
    ),
    "LockPersonality": (("personality",), "another execution domain"),
    "RestrictNamespaces": (("unshare", "setns", "clone", "clone3"), "a name space of its own"),
}
"""What each of these settings refuses, with ``EPERM`` (systemd.exec(5), "Sandboxing")."""


def _kept_from(case: Case, settings: list[str]) -> tuple[str, str, Event] | None:
    """The setting that refused it a call, what that call is about, and the record that names the call."""
    for event in case.own_events()[::-1] if settings else ():
        if event.call is not None and event.call.error != "EPERM":
            continue
        words = [event.call.name] if event.call is not None else _WORD.findall(event.text[:_LONGEST].lower())
        if event.call is None and errors()[_NOT_PERMITTED].text.lower() not in event.text.lower():
            continue
        for setting in settings:
            calls, what = _KEPT_FROM.get(setting, ((), ""))
            if any(call in words for call in calls):
                return setting, what, event
    return None


_NOT_PERMITTED = 1
"""The error that such a call gives (errno(3), ``EPERM``)."""
_WORD = pattern(r"[a-z_0-9]{3,30}")
_LONGEST = 2000
"""Characters of a line that are gone through for the name of a call."""


def _changed_since_good(case: Case) -> datetime | None:
    """When the definition was changed, if that was after the last good start and before the failed one."""
    definition, last = case.service.definition, case.service.last
    changed = definition.changed_at if definition is not None else None
    if changed is None or last is None or last.started_at is None or changed > last.started_at:
        return None
    # What counts as up as soon as it runs counts so in a try that fails too.
    at_once = case.service.program is not None and case.service.program.style in _UP_AT_ONCE
    later = [s for s in case.service.starts if s.outcome == "up" and s.at > changed] if not at_once else []
    return changed if was_up_before(case, changed) and not later else None


def _named_call(seen: list[Event]) -> str:
    """The call that was refused, where a start was watched; its name says more than any record does."""
    name = next((e.call.name for e in reversed(seen) if e.call is not None and e.call.name), "")
    return f"the call {name} of the kernel" if name else "a call of the kernel"


def _forbidden(case: Case, setting: str, what: str, said: list[Evidence], bears: str) -> Finding:
    name = case.service.name
    return Finding(
        says=f"{name} is kept from {what}, which it needs, by {setting}= of its definition.",
        evidence=(*said, case.seen(f"{setting}= is set for {name}", "definition", bears=bears)),
        mends=(
            Mend(
                f"Switch {setting}= off in the definition of {name}, if it is meant to have that."
                if setting in _KEPT_FROM
                else f"Let {name} make that call: widen {setting}= in its definition by what it needs, and no more.",
                AFTER_RELOAD,
            ),
        ),
        explains=(*_END, "access-denied", "port-forbidden"),
    )

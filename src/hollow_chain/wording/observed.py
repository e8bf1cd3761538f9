"""What was seen of a start, as records beside those of its log: rules read them like any other, by what the system says of each error."""

from __future__ import annotations

from functools import cache

from hollow_chain.facts.host import Event
from hollow_chain.facts.observed import Observation, ObservedCall, ObservedWait
from hollow_chain.lazy import pattern
from hollow_chain.wording import system_errors

SOURCE = "observed"
"""The source of such a record."""
SURE, LIKELY = 0.5, 0.2
"""Shares of all that failed from which on a call stands for the reason by itself, and from which on it may be the reason."""
_MOST = 2
"""Calls that are told as records: what comes behind the second is not the reason."""
_FORKS = ("fork", "vfork", "clone", "clone3")
_LOCKS_MEMORY = ("mlock", "mlock2", "mlockall")
_AS_LOCK = ("flock", "fcntl")
_PLAIN = {
    "openat": "open",
    "openat2": "open",
    "execve": "run",
    "execveat": "run",
    "newfstatat": "stat",
    "statx": "stat",
    "chdir": "enter",
}
_ACCOUNTS = ("user", "group")
"""Kinds of what was looked for that is no path: an account, by its name."""
_TAKEN = "another process has the lock"


@cache
def _texts() -> dict[str, str]:
    return {one.name: one.text for one in system_errors.errors().values()}


def records_of(seen: Observation) -> list[Event]:
    """The calls that may have ended a start, and the one that it hung in, as records."""
    if seen.outcome == "up":
        return [_record(seen, one) for one in seen.calls if _left_deaf(one)][:_MOST]
    # What the manager itself tries before it becomes the program is told by its own words, and by the definition.
    found = [_record(seen, one) for one in seen.calls[:_MOST] if one.weight >= LIKELY and one.program]
    if seen.outcome in ("not-up", "failed") and not (seen.calls and seen.calls[0].weight >= SURE):
        found += [_waiting(seen, one) for one in seen.waits if _tells(one)][:1]
    return found


def _record(seen: Observation, one: ObservedCall) -> Event:
    return Event(
        at=one.at, text=said(one), service=seen.service, source=SOURCE, level="error", process=one.process, trust="trusted", call=one
    )  # fmt: skip


def said(one: ObservedCall) -> str:
    """A call that failed, in a line as a program would write it."""
    why = _texts().get(one.error, one.error)
    if one.error == "SIGSYS":
        return f"{one.name}: a filter of calls does not let it pass (SIGSYS)"
    if one.kind == "library":
        says = f"cannot open shared object file: {why}" if one.error == "ENOENT" else "invalid ELF header"
        return f"error while loading shared libraries: {one.thing}: {says}"
    if one.kind in _ACCOUNTS and not one.thing.startswith("/"):
        return f"unknown system {one.kind} {one.thing}"
    if one.name == "kill":
        return f"cannot lock {one.thing}: the process that it names runs already"
    if one.name in _AS_LOCK or one.error == "EEXIST":
        return f"cannot lock {one.thing}: {_TAKEN} ({why})"
    if one.name in _FORKS and one.error == "EAGAIN":
        return f"cannot create a new process: {why}"
    if one.name in _LOCKS_MEMORY:
        return f"{one.name} failed: {why}"
    name = _PLAIN.get(one.name, one.name)
    to = " to" if one.kind == "connect" else ""
    writes = " for writing" if one.writes and one.kind == "open" else ""
    return f"{name}{to}{f' {one.thing}' if one.thing else ''}{writes}: {why}"


def _left_deaf(one: ObservedCall) -> bool:
    """Whether a program that came up all the same may have been left without an endpoint: what it then has, its sockets tell."""
    return one.kind == "bind" and one.error in _NOT_BOUND and _ENDPOINT.search(one.thing) is not None


_NOT_BOUND = ("EACCES", "EADDRINUSE", "EADDRNOTAVAIL")
_ENDPOINT = pattern(r"^(?:\[[0-9a-f:.]+\]|\d{1,3}(?:\.\d{1,3}){3}):\d{1,5}$")


def on(wait: ObservedWait) -> str:
    """What a call is about, with the word that joins the two."""
    return f"{'to' if wait.kind == 'connect' else 'of'} {wait.thing}"


def is_answer(one: ObservedWait) -> bool:
    """Whether it waits for what somebody sends whom it is connected with."""
    return one.kind == "read" and _ENDPOINT.search(one.thing) is not None


def _tells(one: ObservedWait) -> bool:
    """Whether what it waits for is somebody else's to give: a lock, an answer, the other end of a file."""
    if one.kind in ("lock", "open"):
        return one.thing.startswith("/")
    return one.kind in ("connect", "read", "poll") and _ENDPOINT.search(one.thing) is not None


def _waiting(seen: Observation, one: ObservedWait) -> Event:
    """The call in which a start hung, as the failure that it would have been with a limit of its own."""
    lock = one.kind == "lock"
    error = "EAGAIN" if lock else "ETIMEDOUT"
    call = ObservedCall(one.name, one.kind, one.thing, error, seen.at, one.process, one.program, weight=SURE)
    of = f" for {one.seconds:g} s" if one.seconds else ""
    if lock:
        text = f"waits{of} in {one.name}: cannot lock {one.thing}: {_TAKEN}"
    elif one.kind == "connect" or ":" in one.thing:
        text = f"waits{of} in {one.name} to {one.thing}: Connection timed out"
    else:
        text = f"waits{of} in {one.name} of {one.thing}"
    return Event(
        at=seen.at,
        text=text,
        service=seen.service,
        source=SOURCE,
        level="error",
        process=one.process,
        trust="trusted",
        call=call,
    )

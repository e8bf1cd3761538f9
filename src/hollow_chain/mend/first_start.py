"""The first start of a program that is to become a service: run once, as it will run, under a name of its own, and watched.

The definition stands in the place for definitions of this boot only, so that nothing of it outlives a crash and the next boot; and what
runs is ended by the manager after a while, whatever becomes of us. What *up* means is seen and not guessed: the manager is told to wait
for a report, and is asked what came of that.
"""

from __future__ import annotations

import contextlib
import re
import signal
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from hollow_chain.mend import files_kept
from hollow_chain.mend.hands import FirstStart, NotDone
from hollow_chain.mend.systemd_calls import POLL_SECONDS, Manager
from hollow_chain.reach.here import here
from hollow_chain.sources.systemd.groups import unit_of

_PLACE = Path("/run/systemd/system")
_PREFIX = "hollow-chain-try-"
_WATCH = 3.0
"""Seconds for which a program has to stay in front that neither reports nor listens."""
_SETTLED = 1.0
"""Seconds after which what has come up is looked at once more."""
_LISTENS_WITHIN = 30.0
"""Seconds within which a port is waited for where no start limit is wished: programs that read much before they listen take some."""
_ENDED_WITHIN = 10.0
"""Seconds that the processes of a try get to end by themselves."""
_AT_MOST = 120
"""Seconds after which the manager ends a try by itself."""
_DROPPED = re.compile(
    r"^(Type|PIDFile|GuessMainPID|NotifyAccess|Restart|RestartSec|StartLimitIntervalSec|StartLimitBurst|RuntimeMaxSec|TimeoutStartSec)="
)
_EXITED = 1
"""``CLD_EXITED`` (sigaction(2)): it ended by itself."""
_MOST_PID_FILES, _PID_BYTES = 200, 64
"""PID files that are looked at in one folder, and bytes of each: a number has ten digits at most."""
_MOST_SOCKETS = 20_000
"""Sockets that are gone through: a busy server has some thousands."""


def leftovers() -> list[str]:
    """Units of tries that a crash has left."""
    return [path.name for path in sorted(_PLACE.glob(f"{_PREFIX}*.service"))] if _PLACE.is_dir() else []


@contextlib.contextmanager
def tried(text: str, name: str, ports: list[int], limit: float | None) -> Iterator[FirstStart]:
    """Run the definition *text* once, as the service *name*; it is there, ended, until the end of the block. Raises :class:`NotDone`
    where the manager cannot be asked."""
    manager = Manager()
    for left in leftovers():
        _end(manager, left)
    unit = f"{_PREFIX}{name.removesuffix('.service').replace('@', '-')}.service"
    path = _PLACE / unit
    if not _PLACE.is_dir():
        files_kept.make_folder(_PLACE, "0", "0")
    files_kept.write_new(path, for_a_try(text).encode())
    try:
        manager.call("Reload")
        yield _watched(manager, unit, ports, limit)
    finally:
        _end(manager, unit)


def for_a_try(text: str) -> str:
    """A definition as it is tried: waits for a report, is not started again, and leaves what it has forked."""
    lines = [line for line in text.split("\n") if not _DROPPED.match(line)]
    at = lines.index("[Service]") + 1
    added = [
        "Type=notify",
        "NotifyAccess=all",
        "KillMode=process",
        "Restart=no",
        f"TimeoutStartSec={_AT_MOST}",
        f"RuntimeMaxSec={_AT_MOST}",
    ]
    before_install = lines.index("[Install]") if "[Install]" in lines else len(lines)
    return "\n".join([*lines[:at], *added, *lines[at:before_install]]) + "\n"


def _watched(manager: Manager, unit: str, ports: list[int], limit: float | None) -> FirstStart:
    """Start it, and look until it is clear what up means for it."""
    began = time.monotonic()
    manager.call("StartUnit", "ss", unit, "replace")
    held_at = 0.0
    while True:
        told, now = manager.unit(unit), time.monotonic()
        state, took = str(told.get("ActiveState")), now - began
        if state == "active":
            return _stays(manager, unit)
        if state in ("failed", "inactive") and not told.get("Job", (0,))[0]:
            return _ended(unit, told, ports, limit)
        if ports and not held_at and set(ports) <= set(_held(unit)):
            held_at = now
        runs = bool(told.get("MainPID"))
        if (held_at and now - held_at > _SETTLED) or (runs and not ports and took > _WATCH):
            return FirstStart("started", _held(unit), unit=unit)
        if took > (limit or _LISTENS_WITHIN) + _WATCH:
            lacking = ", ".join(str(port) for port in ports if port not in _held(unit))
            return FirstStart(said=f"it runs, and after {took:.0f} s does not listen on port {lacking}", unit=unit)
        time.sleep(POLL_SECONDS)


def _stays(manager: Manager, unit: str) -> FirstStart:
    """Whether what has reported is still there a moment later."""
    time.sleep(_SETTLED)
    told = manager.unit(unit)
    if told.get("ActiveState") != "active":
        return FirstStart(said=_how(told, "it reported that it was up, and then"), unit=unit)
    return FirstStart("reported", _held(unit), unit=unit)


def _ended(unit: str, told: dict[str, Any], ports: list[int], limit: float | None) -> FirstStart:
    """Its first process has ended: what is left of it tells a daemon from a job."""
    if told.get("ExecMainStatus") or told.get("ExecMainCode") != _EXITED:
        return FirstStart(said=_how(told, "it"), unit=unit)
    until = time.monotonic() + (limit or _LISTENS_WITHIN)
    while not set(ports) <= set(_held(unit)) and time.monotonic() < until and _processes(unit):
        time.sleep(POLL_SECONDS)
    time.sleep(_SETTLED)
    held, left = _held(unit), _processes(unit)
    if lacking := [port for port in ports if port not in held]:
        return FirstStart(said=f"it ended with status 0, and nothing listens on port {lacking[0]}", unit=unit)
    return FirstStart("forked" if left else "ended", held, _pid_file(left, told), unit=unit)


def _pid_file(left: set[int], told: dict[str, Any]) -> str:
    """The file that names one of the processes that are left: of those that its arguments name, and of those that lie where PID files
    do (hier(7), "/run")."""
    words = [str(word) for command in told.get("ExecStart", ()) for word in command[1]]
    named = [word.partition("=")[2] or word for word in words if ".pid" in word]
    files = here().files
    own = str(told.get("WorkingDirectory") or "/run").rstrip("/")
    folders = ["/run", "/run/*", files.literally(own)]
    found = [path for folder in folders for path in files.matching(f"{folder}/*.pid")[:_MOST_PID_FILES]]
    walker = files.walker()
    for path in dict.fromkeys([*(name for name in named if name.startswith("/")), *found]):
        with contextlib.suppress(OSError, ValueError):
            if int(walker.read(path, _PID_BYTES).data.split()[0]) in left:
                return path
    return ""


def _how(told: dict[str, Any], what: str) -> str:
    status, result = told.get("ExecMainStatus"), told.get("Result")
    if not told.get("ExecMainPID"):
        return f"{what} was not begun ({result})"
    if told.get("ExecMainCode") == _EXITED:
        return f"{what} ended with status {status}"
    name = signal.Signals(int(str(status))).name if str(status).isdigit() and 0 < int(str(status)) < 32 else str(status)
    return f"{what} was ended by {name}"


def _processes(unit: str) -> set[int]:
    processes = here().processes
    return {number for number in processes.numbers() if unit_of(number, processes) == unit}


def _held(unit: str) -> tuple[int, ...]:
    """The ports that processes of *unit* hold."""
    own = _processes(unit)
    try:
        sockets = here().network.sockets(_MOST_SOCKETS) if own else []
    except OSError:
        return ()
    return tuple(sorted({socket.port for socket in sockets if socket.process in own}))


def _end(manager: Manager, unit: str) -> None:
    """End all of a try, and take its definition away."""
    with contextlib.suppress(NotDone):
        manager.job("StopUnit", unit, _ENDED_WITHIN)
    for number in (signal.SIGTERM, signal.SIGKILL):
        if not _processes(unit):
            break
        with contextlib.suppress(NotDone):
            manager.call("KillUnit", "ssi", unit, "all", int(number))
        until = time.monotonic() + _ENDED_WITHIN
        while _processes(unit) and time.monotonic() < until:
            time.sleep(POLL_SECONDS)
    with contextlib.suppress(NotDone):
        files_kept.put_back(_PLACE / unit, {"kind": "absent"})
    with contextlib.suppress(NotDone):
        manager.call("Reload")
    with contextlib.suppress(NotDone):
        manager.call("ResetFailedUnit", "s", unit)

"""The stand-in license server: a front process, which reads the file, answers about it, and starts a daemon a publisher."""

from __future__ import annotations

import asyncio
import contextlib
import os
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec

from hollow_chain import decoding
from hollow_chain.facts.host import Host
from hollow_chain.license import wire
from hollow_chain.license.check import Checked
from hollow_chain.license.daemon import Orders
from hollow_chain.license.file import ANY_PORT, Daemon, License, SignedEntitlement, digest
from hollow_chain.license.serving import AlreadyHeld, Connection, Log, OwnFiles, notify, when_ended

ANOTHER_RUNS, CANNOT_LISTEN, FILE_IS_WRONG = 4, 5, 6
"""Exit statuses of the server beside 0."""
FIRST_TRY_SECONDS = 5.0
"""How long the server waits for the first word of its daemons before it reports that it is up: one that hangs holds nobody up."""
RESTART_SECONDS = (0.5, 1.0, 2.0, 5.0, 10.0)
"""Pauses before a daemon that ended is started again; the last one is kept to."""
END_SECONDS = 3.0
"""How long a daemon that is told to end may take; then it is made to, and may take as long again."""
OWN_DAEMON = "hollow-chain-license-daemon"
"""The daemon that ships with this program."""
_OWN_GROUP = getattr(subprocess, "CREATE_NEW_PROCESS_GROUP", 0)
"""Where there are consoles that interrupt all of a group: an interrupt is for the front, which then ends its daemons in order."""


@dataclass
class Child:
    """A license daemon as the front process sees it."""

    daemon: Daemon
    process: asyncio.subprocess.Process | None = None
    port: int = 0
    says: str = "not started yet"
    tries: int = 0
    tried: asyncio.Event = field(default_factory=asyncio.Event)
    """Set once it is up, or has failed for the first time."""


@dataclass
class Settings:
    """How the server is run."""

    path: Path
    address: str
    folder: Path
    heartbeat: float
    log: Path | None = None
    machine: Callable[[], Host] = lambda: Host(name="")
    """Gives name and adapters of this machine, each time the file is read."""


@dataclass
class Served:
    """What is served at this moment."""

    license: License
    digest: str
    read_at: datetime
    valid: list[dict[str, Any]] = field(default_factory=list)


class FileIsWrong(Exception):
    """The license file cannot be served; the text says why."""


class FrontServer:
    """The front process."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.log = Log("front", settings.log)
        self.served = self._read()
        self.children: dict[str, Child] = {}
        self.clients: set[Connection] = set()
        self.done = asyncio.Event()
        self._tasks: set[asyncio.Task[None]] = set()

    def _read(self) -> Served:
        data, checked, found = read_for_serving(self.settings.path, self.settings.machine())
        for problem in checked.problems:
            self.log(f"{self.settings.path}:{problem.place.line}: {'note: ' if problem.warning else ''}{problem.says}")
        self.log(
            f"read {self.settings.path} (digest {digest(data)[:16]}): {len(checked.entitlements)} entitlements hold"
        )
        return Served(found, digest(data), datetime.now(UTC), checked.entitlements)

    def orders(self, child: Child) -> Orders:
        """What a daemon is told: its place, and the entitlements of its publisher that hold."""
        name = child.daemon.name
        mine = [decoding.of_plain(e, SignedEntitlement) for e in self.served.valid if e["daemon"] == name]
        port = 0 if child.daemon.port == ANY_PORT else int(child.daemon.port)
        s = self.settings
        return Orders(
            name=name, address=s.address, port=port, folder=str(s.folder), heartbeat=s.heartbeat,
            log=str(s.log) if s.log else "", entitlements=mine,
        )  # fmt: skip

    def answer(self, request: wire.Message, client: Connection) -> None:
        """Carry out one request."""
        does = request.get("do")
        if does == "status":
            client.send(wire.answered(request, **self.status()))
        elif does == "reload" and client.local:
            client.send(wire.answered(request, **self.reload()))
        elif does == "reload":
            client.send(wire.refused(request, "not-here", "a reload is taken from the server's own host only"))
        else:
            client.send(wire.refused(request, "unknown", "the front process does: status, reload"))

    def status(self) -> dict[str, Any]:
        """What is served, and how each daemon is."""
        served = self.served
        return {
            "host": served.license.server.host, "port": served.license.server.port, "file": str(self.settings.path),
            "digest": served.digest, "read_at": served.read_at, "process": os.getpid(),
            "daemons": [
                {"name": c.daemon.name, "up": bool(c.port), "port": c.port or None, "says": c.says} for c in self.children.values()
            ],
        }  # fmt: skip

    def reload(self) -> dict[str, Any]:
        """Read the file anew: entitlements change in place; what only a restart can change is said."""
        old = self.served
        try:
            fresh = self._read()
        except (FileIsWrong, OSError) as error:
            self.log(f"reload refused, the old file is served on: {error}")
            return {"reloaded": False, "says": str(error), "restart_for": []}
        later = restart_for(old.license, fresh.license)
        for what in later:
            self.log(f"{what} has changed: this takes effect after a restart")
        self.served = fresh
        for child in self.children.values():
            if child.port:
                _tell(child, self.orders(child))
        return {"reloaded": True, "says": "entitlements are those of the file", "restart_for": later}

    async def keep(self, child: Child) -> None:
        """Start a daemon, and again whenever it ends."""
        while not self.done.is_set():
            await self._run(child)
            child.tried.set()
            child.port, child.process = 0, None
            if self.done.is_set():
                return
            pause = RESTART_SECONDS[min(child.tries, len(RESTART_SECONDS) - 1)]
            child.tries += 1
            self.log(f"daemon {child.daemon.name} is down: {child.says}; started again in {pause:g} s")
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self.done.wait(), pause)

    async def _run(self, child: Child) -> None:
        command = daemon_command(child.daemon.program)
        if not command:
            child.says = f"its program {child.daemon.program} is not there, or not executable"
            return
        try:
            process = await asyncio.create_subprocess_exec(
                *command, stdin=asyncio.subprocess.PIPE, stdout=asyncio.subprocess.PIPE, start_new_session=True,
                creationflags=_OWN_GROUP,
            )  # fmt: skip
        except OSError as error:
            child.says = f"its program {command[0]} could not be run: {error.strerror}"
            return
        child.process = process
        if process.stdin is None or process.stdout is None:
            return
        with contextlib.suppress(OSError):
            process.stdin.write(msgspec.json.encode(self.orders(child)) + b"\n")
            await process.stdin.drain()
        line = await process.stdout.readline()
        with contextlib.suppress(msgspec.MsgspecError):
            child.port = int(decoding.of_json(line, dict[str, int]).get("up", 0)) if line else 0
        if child.port:
            child.says, child.tries = f"up (process {process.pid})", 0
            child.tried.set()
            self.log(f"daemon {child.daemon.name} is up on port {child.port} (process {process.pid})")
        status = await process.wait()
        child.says = _ended(status)

    def start(self, daemons: list[Daemon]) -> None:
        """Start the daemons of the file."""
        for daemon in daemons:
            child = self.children[daemon.name] = Child(daemon)
            task = asyncio.create_task(self.keep(child))
            self._tasks.add(task)

    async def first_tries(self) -> None:
        """Wait until each daemon is up or has failed once; no longer than a few seconds, and not past a request to end."""
        tried = asyncio.gather(*(child.tried.wait() for child in self.children.values()))
        ends = asyncio.ensure_future(self.done.wait())
        both: list[asyncio.Future[Any]] = [tried, ends]
        await asyncio.wait(both, timeout=FIRST_TRY_SECONDS, return_when=asyncio.FIRST_COMPLETED)
        for waiting in both:
            waiting.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await waiting

    async def stop(self) -> None:
        """End all daemons in order."""
        self.done.set()
        for child in self.children.values():
            _tell(child, msgspec.structs.replace(self.orders(child), end=True))
        _, left = await asyncio.wait(self._tasks, timeout=END_SECONDS)
        for child in self.children.values() if left else ():
            if child.process is not None and child.process.returncode is None:
                with contextlib.suppress(ProcessLookupError):
                    child.process.terminate()
        if left:
            await asyncio.wait(left, timeout=END_SECONDS)


def _tell(child: Child, orders: Orders) -> None:
    stdin = child.process.stdin if child.process else None
    if stdin is not None:
        with contextlib.suppress(OSError):
            stdin.write(msgspec.json.encode(orders) + b"\n")


def _ended(status: int) -> str:
    if status < 0:
        return f"it was ended by {signal.Signals(-status).name}"
    known = {ANOTHER_RUNS: "another daemon of this publisher runs", CANNOT_LISTEN: "it cannot listen on its port"}
    return known.get(status, f"it ended with exit status {status}")


def daemon_command(program: str) -> list[str]:
    """What runs a daemon's program; empty where it is not there. The own one runs as a module where nothing installed its script."""
    found = find_program(program)
    if found:
        return [found]
    return [sys.executable, "-m", "hollow_chain.license.daemon"] if program == OWN_DAEMON else []


def find_program(program: str) -> str | None:
    """The program of a daemon: a path, or the name of one beside this program or on the search path."""
    for folder in (
        Path(sys.argv[0]).resolve().parent,
        Path(sys.executable).parent,
        Path(sys.executable).parent / "Scripts",
    ):
        found = shutil.which(str(folder / program)) if not set("/\\") & set(program) else None
        if found:
            return found
    return shutil.which(program)


def restart_for(old: License, new: License) -> list[str]:
    """What has changed that only a restart brings: host, ports, daemons."""
    changed = []
    if old.server.host != new.server.host:
        changed.append("the host name")
    if old.server.port != new.server.port:
        changed.append("the server's port")
    before = {d.name: d for d in old.daemon}
    for daemon in new.daemon:
        known = before.pop(daemon.name, None)
        if known is None:
            changed.append(f"the daemon {daemon.name} (new)")
        elif (known.port, known.program) != (daemon.port, daemon.program):
            changed.append(f"the port or program of the daemon {daemon.name}")
    return changed + [f"the daemon {name} (gone)" for name in before]


def read_for_serving(path: Path, machine: Host) -> tuple[bytes, Checked, License]:
    """The file, all that is wrong with it on *machine*, and its parts. Raises :class:`FileIsWrong`, :class:`OSError`."""
    from hollow_chain.license import file as form
    from hollow_chain.license.check import check

    with path.open("rb") as stream:
        data = stream.read(form.MAX_BYTES + 1)
    checked = check(data, str(path), machine, datetime.now(UTC))
    fatal = [
        p for p in checked.problems if not p.warning and p.cause in ("license-host-mismatch", "license-hostid-mismatch")
    ]
    if fatal:
        raise FileIsWrong(f"line {fatal[0].place.line}: {fatal[0].says}")
    try:
        return data, checked, form.read(data)
    except ValueError as error:
        raise FileIsWrong(str(error)) from None


async def serve(settings: Settings) -> int:
    """Run the front process until it is asked to end; the exit status."""
    log = Log("front", settings.log)
    files = OwnFiles(settings.folder, "front")
    try:
        left = files.take()
    except AlreadyHeld as error:
        log(f"another license server runs: {error}; this one ends")
        return ANOTHER_RUNS
    except OSError as error:
        log(f"cannot use the folder {settings.folder}: {error.strerror}")
        return CANNOT_LISTEN
    if left:
        log(left)
    try:
        front = FrontServer(settings)
    except OSError as error:
        log(f"cannot read {settings.path}: {error.strerror}")
        return _left(files, FILE_IS_WRONG)
    except FileIsWrong as error:
        log(f"{settings.path} cannot be served: {error}")
        return _left(files, FILE_IS_WRONG)
    loop = asyncio.get_running_loop()
    port = front.served.license.server.port
    try:
        server = await loop.create_server(
            lambda: Connection(front.answer, front.clients), settings.address, port, backlog=1024
        )
    except (OSError, OverflowError) as error:
        log(f"cannot listen on {settings.address}:{port}: {reason(error)}")
        return _left(files, CANNOT_LISTEN)
    log(f"front listens on {settings.address}:{port} (process {os.getpid()}), serving {settings.path}")
    when_ended(front.done.set)
    with contextlib.suppress(NotImplementedError, AttributeError):  # a system without that signal: reread by a request
        loop.add_signal_handler(signal.SIGHUP, lambda: front.reload() and None)
    front.start(front.served.license.daemon)
    await front.first_tries()  # who starts after a server that is up wants seats of its daemons
    notify("READY=1")
    await front.done.wait()
    notify("STOPPING=1")
    server.close()
    await front.stop()
    files.drop()
    log("front ends on request")
    return 0


def reason(error: Exception) -> str:
    """Why something of the system failed, in the system's own words."""
    number = getattr(error, "errno", None)
    return os.strerror(number) if number else str(error)


def _left(files: OwnFiles, status: int) -> int:
    files.drop()
    return status

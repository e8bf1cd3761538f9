"""What the front process and the license daemons have in common: connections with limits, a log, lock and PID files."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import sys
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, TextIO

import msgspec

from hollow_chain import decoding
from hollow_chain.license.wire import Lines, Message, WireError, refused
from hollow_chain.reach.here import began
from hollow_chain.reach.locks import Taken, take

MOST_CONNECTIONS = 2000
"""Clients at once; each costs a handle and a task."""
HALF_LINE_SECONDS = 10.0
"""How long a line may take from its first byte to its last."""
IDLE_SECONDS = 300.0
"""After so long without a word, heartbeats among them, a client is taken to be gone."""
MOST_WAITING = 1 << 20
"""Bytes of answers that a client may leave unread before it is dropped."""
Answer = Callable[[Message, "Connection"], None]
ENDING = tuple(getattr(signal, name) for name in ("SIGTERM", "SIGINT", "SIGBREAK") if hasattr(signal, name))
"""The signals of this system by which a process is asked to end."""


class Log:
    """The log: one line an event, to standard error and to a file where one is named."""

    def __init__(self, name: str, path: Path | None = None) -> None:
        self._name = name
        self._file: TextIO | None = path.open("a", encoding="utf-8") if path else None

    def __call__(self, text: str) -> None:
        """Write one line, with time and writer; nothing in it can begin another."""
        clean = "".join(c if c.isprintable() else "?" for c in text)[:1000]
        line = f"{datetime.now(UTC):%Y-%m-%dT%H:%M:%S.%f}Z {self._name}: {clean}\n"
        for stream in (sys.stderr, self._file):
            if stream is not None:
                with contextlib.suppress(OSError, ValueError):
                    stream.write(line)
                    stream.flush()


class Connection(asyncio.Protocol):
    """One client: its lines are cut, answered by *answer*, and bounded in length, time and number."""

    def __init__(self, answer: Answer, group: set[Connection]) -> None:
        self._answer = answer
        self._group = group
        self._lines = Lines()
        self._timer: asyncio.TimerHandle | None = None
        self.transport: Any = None
        self.client = ""
        self.local = False

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        """Take the client in, or turn it away where too many are here."""
        self.transport = transport
        peer = transport.get_extra_info("peername") or ("unix", 0)
        own = transport.get_extra_info("sockname") or ("",)
        self.client = f"{peer[0]}:{peer[1]}"
        self.local = str(peer[0]).startswith("127.") or peer[0] in ("::1", own[0])
        if len(self._group) >= MOST_CONNECTIONS:
            self.send(refused(None, "busy", f"{MOST_CONNECTIONS} clients are connected already"))
            transport.close()
            return
        self._group.add(self)
        self._wait()

    def data_received(self, data: bytes) -> None:
        """Answer what is whole now."""
        was_half = self._lines.half
        try:
            for message in self._lines.feed(data):
                self._answer(message, self)
        except WireError as error:
            self.send(refused(None, "wire", str(error)))
            self.transport.close()
            return
        if self._lines.half != was_half or not self._lines.half:
            self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        """Forget the client; its seats stay until its heartbeats fail."""
        self._group.discard(self)
        if self._timer is not None:
            self._timer.cancel()

    def send(self, data: bytes) -> None:
        """Send an answer; a client that does not read its answers is dropped."""
        if self.transport.get_write_buffer_size() > MOST_WAITING:
            self.transport.abort()
        else:
            self.transport.write(data)

    def _wait(self) -> None:
        """Drop the client where nothing comes, or no end of a line, in time."""
        if self._timer is not None:
            self._timer.cancel()
        limit = HALF_LINE_SECONDS if self._lines.half else IDLE_SECONDS
        self._timer = asyncio.get_running_loop().call_later(limit, self.transport.abort)


class Mark(msgspec.Struct):
    """What stands in a PID file: the process and when it began, since numbers are given out anew."""

    process: int
    began: int
    """In the ticks of the system."""


def when_ended(done: Callable[[], object]) -> None:
    """Have *done* called once somebody asks this process to end; from within its event loop."""
    loop = asyncio.get_running_loop()
    for number in ENDING:
        try:
            loop.add_signal_handler(number, done)
        except NotImplementedError:  # Win32: its event loop waits for other things than signals
            signal.signal(number, lambda *_: loop.call_soon_threadsafe(done))


class AlreadyHeld(Exception):
    """Another live process has the lock; the text names it."""


class OwnFiles:
    """The lock and PID file of one process. The lock is the kernel's, and goes with the process however it ends."""

    def __init__(self, folder: Path, name: str) -> None:
        self.lock, self.pid = folder / f"{name}.lock", folder / f"{name}.pid"
        self._lock: Any = None

    def take(self) -> str:
        """Take both; returns what was found left over, empty where nothing was. Raises :class:`AlreadyHeld`, :class:`OSError`."""
        self.lock.parent.mkdir(parents=True, exist_ok=True)
        try:
            lock = take(self.lock)
        except Taken:
            mark = self._mark()
            raise AlreadyHeld(f"process {mark.process} holds {self.lock}" if mark else f"{self.lock} is held") from None
        left = self._left_over()
        self._lock = lock
        own = Mark(os.getpid(), began(os.getpid()))
        self.pid.write_bytes(msgspec.json.encode(own) + b"\n")
        return left

    def _mark(self) -> Mark | None:
        try:
            return decoding.of_json(self.pid.read_bytes()[:4096], Mark)
        except (OSError, msgspec.MsgspecError):
            return None

    def _left_over(self) -> str:
        if not self.pid.exists():
            return ""
        mark = self._mark()
        if mark is None:
            return f"{self.pid} was left over and names no process"
        now = began(mark.process)
        how = "is gone" if not now else "is now another one" if now != mark.began else "has not got the lock"
        return f"{self.pid} was left over: process {mark.process}, which it names, {how}"

    def drop(self) -> None:
        """Give both back, at an orderly end."""
        for path in (self.pid, self.lock):
            with contextlib.suppress(PermissionError):  # a system that removes no open file: its name stays
                path.unlink(missing_ok=True)
        if self._lock is not None:
            self._lock.release()


def notify(text: str) -> None:
    """Tell the service manager (sd_notify(3)); nothing where none listens."""
    import socket

    place = os.environ.get("NOTIFY_SOCKET", "")
    if not place:
        return
    with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as channel:
        channel.connect("\0" + place[1:] if place.startswith("@") else place)
        channel.send(text.encode())

"""The message bus of a host over SSH: the conversation of this machine, carried over the connection.

By systemd-stdio-bridge(1), which every host has that systemd runs; where it is not there, through the bus's own socket
(``direct-streamlocal``, sshd_config(5) ``AllowStreamLocalForwarding``).
"""

from __future__ import annotations

import asyncio
import contextlib
import tempfile
from collections.abc import Awaitable, Callable
from concurrent.futures import Future
from typing import Any, TypeVar

import asyncssh

from hollow_chain.lacking import needs
from hollow_chain.reach.conversation import spoken
from hollow_chain.reach.interfaces import NotThere
from hollow_chain.reach.ssh.connection import LOOP, FarConnection

T = TypeVar("T")
BRIDGE = "systemd-stdio-bridge"
_START_SECONDS = 30.0
"""For a program to come up on the other side: a busy host takes seconds to run a shell."""
SOCKET = "/run/dbus/system_bus_socket"
_PIECE = 1 << 16
"""Bytes that are carried at once: as many as a pipe of the kernel's holds (pipe(7))."""


class FarBus:
    """The message bus of one host; *as_root* by way of sudo(8)."""

    def __init__(self, link: FarConnection, as_root: bool) -> None:
        self._link, self._as_root = link, as_root
        self.has_bridge = True
        """Whether the host has the bridge."""
        self._begun: Future[Any] | None = None

    def begin(self) -> None:
        """Have the bridge started before it is needed: that it comes up takes a way there and back, and its shell's own time."""
        if self._begun is None:
            self._begun = LOOP.begin(_bridge(self._link, self._as_root), _START_SECONDS)

    def converse(self, talk: Callable[[Any], Awaitable[T]], seconds: float) -> T:
        """See :meth:`hollow_chain.reach.interfaces.Reached.converse`."""
        with needs("remote", "a host over SSH"):
            from dbus_fast.aio import MessageBus
        # The library speaks to sockets only: one in a folder that nobody else may enter stands for the connection.
        with tempfile.TemporaryDirectory(prefix="hollow-chain-") as folder:
            path = f"{folder}/bus"
            begun, self._begun = self._begun, None
            carrier = LOOP.run(_Carrier(self._link, self._as_root, self.has_bridge, begun).open(path), _START_SECONDS)
            try:
                return spoken(lambda: MessageBus(bus_address=f"unix:path={path}"), talk, seconds)
            except (OSError, EOFError, AttributeError) as error:
                raise NotThere(carrier.why or str(error) or "the connection broke off") from None
            finally:
                with contextlib.suppress(Exception):
                    LOOP.run(carrier.close(), 5)


class _Carrier:
    """Carries what comes in at a socket to the bus of the host, and back."""

    def __init__(self, link: FarConnection, as_root: bool, has_bridge: bool, begun: Future[Any] | None) -> None:
        self._link, self._as_root, self._has_bridge = link, as_root, has_bridge
        self._begun = begun
        self._server: asyncio.Server | None = None
        self._work: set[asyncio.Task[None]] = set()
        self.why = ""

    async def open(self, path: str) -> _Carrier:
        self._server = await asyncio.start_unix_server(self._serve, path)
        return self

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            far_reader, far_writer = await self._far()
        except (asyncssh.Error, OSError) as error:
            self.why = str(getattr(error, "reason", "") or error)[:200].lower() or "no bus to talk to"
            writer.close()
            return
        there = asyncio.create_task(_pump(reader, far_writer))
        back = asyncio.create_task(_pump(far_reader, writer))
        self._work |= {there, back}
        await asyncio.wait({there, back})

    async def _far(self) -> tuple[Any, Any]:
        connection = self._link.connection
        if not self._has_bridge:
            reader, writer = await connection.open_unix_connection(SOCKET, encoding=None)
            return reader, writer
        begun = asyncio.wrap_future(self._begun) if self._begun is not None else _bridge(self._link, self._as_root)
        process = await begun
        return process.stdout, process.stdin

    async def close(self) -> None:
        for task in self._work:
            task.cancel()
        if self._server is not None:
            self._server.close()


async def _bridge(link: FarConnection, as_root: bool) -> Any:
    command = f"exec sudo -n -- {BRIDGE}" if as_root else f"exec {BRIDGE}"
    return await link.connection.create_process(command, encoding=None, stderr=asyncssh.DEVNULL)


async def _pump(source: Any, sink: Any) -> None:
    with contextlib.suppress(OSError, asyncssh.Error):
        while piece := await source.read(_PIECE):
            sink.write(piece)
            await sink.drain()
    with contextlib.suppress(OSError, asyncssh.Error):
        sink.close()

"""Contents of files, and room on disks, over SFTP (draft-ietf-secsh-filexfer-02)."""

from __future__ import annotations

import asyncio
import errno
from collections.abc import Coroutine
from typing import Any, NamedTuple, TypeVar, cast

import asyncssh

from hollow_chain.reach.ssh.answers import FileTold
from hollow_chain.reach.ssh.connection import LOOP, FarConnection

T = TypeVar("T")
_SERVERS = " ".join(
    f"{folder}/sftp-server" for folder in ("/usr/lib/openssh", "/usr/libexec/openssh", "/usr/lib/ssh", "/usr/libexec")
)
"""Where distributions keep the server of the protocol."""
_AS_ROOT = f"exec sh -c 'for server in {_SERVERS}; do [ -x $server ] && exec sudo -n -- $server; done; exit 127'"
_NUMBERS: dict[type[asyncssh.SFTPError], int] = {
    asyncssh.SFTPNoSuchFile: errno.ENOENT,
    asyncssh.SFTPPermissionDenied: errno.EACCES,
    asyncssh.SFTPOpUnsupported: errno.ENOTSUP,
}
_PIECE = 1 << 15
"""Bytes that every server of the protocol gives in one answer (its draft, 3, "maximum packet size")."""


class Read(NamedTuple):
    """What was read of a file, and what the server said of it when it was open."""

    data: bytes
    begins: int
    about: FileTold


class Transfer:
    """Files of one host; *as_root* by way of sudo(8)."""

    def __init__(self, link: FarConnection, as_root: bool) -> None:
        self._link, self.as_root = link, as_root
        self._client: asyncssh.SFTPClient | None = None
        self._starting = asyncio.Lock()
        self._closing: set[asyncio.Future[None]] = set()

    def begin(self) -> None:
        """Have the conversation begun before it is needed."""
        LOOP.begin(self.client(), 30.0)

    async def client(self) -> asyncssh.SFTPClient:
        """The conversation, begun at the first question."""
        async with self._starting:
            if self._client is None:
                self._client = await self._begun()
        return self._client

    async def _begun(self) -> asyncssh.SFTPClient:
        if not self.as_root:
            return await self._link.connection.start_sftp_client(path_encoding=None)
        connection = self._link.connection
        writer, reader, _ = await connection.open_session(_AS_ROOT, encoding=None)
        return await _speaking(connection, reader, writer)

    def read(self, path: str, most: int, size: int, from_end: bool = False) -> Read:
        """Up to *most* bytes of a file that has *size*, of its end where *from_end*. Raises :class:`OSError`."""
        return self._ask(self._read(path, most, size, from_end), path)

    async def _read(self, path: str, most: int, size: int, from_end: bool) -> Read:
        client = await self.client()
        begins = max(0, size - most) if from_end else 0
        wanted = min(most, size - begins + 1) if size else most
        file = await client.open(_bytes(path), "rb", block_size=None if wanted <= _PIECE else -1)
        try:
            about, data = await asyncio.gather(file.stat(), file.read(wanted, begins))
        finally:
            closing = asyncio.ensure_future(file.close())  # nobody waits for that
            self._closing.add(closing)
            closing.add_done_callback(self._closing.discard)
        told = FileTold(about.uid or 0, about.gid or 0, about.permissions or 0, about.size or 0, about.mtime or 0)
        return Read(bytes(cast(bytes, data)), begins, told)

    def rooms(self, places: list[str]) -> dict[str, asyncssh.SFTPVFSAttrs]:
        """How much room there is in the file systems mounted on *places*, of those that tell (statvfs(3))."""
        try:
            return self._link.ask(self._rooms(places))
        except asyncssh.Error:
            return {}  # a server without this protocol

    async def _rooms(self, places: list[str]) -> dict[str, asyncssh.SFTPVFSAttrs]:
        client = await self.client()
        answers = await asyncio.gather(*(client.statvfs(_bytes(place)) for place in places), return_exceptions=True)
        return {
            place: told for place, told in zip(places, answers, strict=True) if isinstance(told, asyncssh.SFTPVFSAttrs)
        }

    def _ask(self, work: Coroutine[Any, Any, T], path: str) -> T:
        try:
            return self._link.ask(work)
        except asyncssh.SFTPError as error:
            raise as_system_error(error, path) from None
        except asyncssh.Error as error:  # a server without this protocol
            raise OSError(errno.ENOTSUP, f"not to be had over SFTP: {error.reason[:100].lower()}", path) from None


def as_system_error(error: asyncssh.SFTPError, path: str) -> OSError:
    """An error of the protocol as one of the system."""
    return OSError(_NUMBERS.get(type(error), errno.EIO), error.reason[:200].lower(), path)


async def _speaking(connection: asyncssh.SSHClientConnection, reader: Any, writer: Any) -> asyncssh.SFTPClient:
    """The client's side of the protocol over a session that is open: the package itself only opens those of its subsystem."""
    from inspect import signature

    from asyncssh.sftp import start_sftp_client

    given = {
        "conn": connection, "loop": asyncio.get_running_loop(), "reader": reader, "writer": writer,
        "path_encoding": None, "path_errors": "strict", "sftp_version": 3, "utf8_decode_errors": "strict",
    }  # fmt: skip
    start: Any = start_sftp_client
    # Versions of the package differ in the last of these.
    client: asyncssh.SFTPClient = await start(**{name: given[name] for name in signature(start_sftp_client).parameters})
    return client


def _bytes(path: str) -> bytes:
    return path.encode("utf-8", "surrogateescape")

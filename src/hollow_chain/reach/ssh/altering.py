"""Changes to files of a host over SFTP (draft-ietf-secsh-filexfer-02, and the extensions of OpenSSH for a rename that replaces, and for
having a file on the disk).

The protocol holds no folder open: whoever calls has made sure that nobody but root can change what a path means.
"""

from __future__ import annotations

import contextlib
import errno
from collections.abc import Awaitable, Callable
from typing import Any, TypeVar

import asyncssh

from hollow_chain.reach.ssh.connection import FarConnection
from hollow_chain.reach.ssh.transfer import Transfer, as_system_error

T = TypeVar("T")


class Altering:
    """Changes to files of one host. All raise :class:`OSError`."""

    def __init__(self, connection: FarConnection, transfer: Transfer) -> None:
        self._connection, self._transfer = connection, transfer

    def set_mode(self, path: str, bits: int) -> None:
        """Set the permission bits."""
        self._do(path, lambda client, name: client.chmod(name, bits))

    def set_owner(self, path: str, user: int, group: int, bits: int) -> None:
        """Set owner and group; the permission bits, of which chown(2) takes some away, are set again."""

        async def give(client: asyncssh.SFTPClient, name: bytes) -> None:
            await client.chown(name, user, group)
            await client.chmod(name, bits)

        self._do(path, give)

    def set_times(self, path: str, accessed: float, changed: float) -> None:
        """Set when it was read and written last."""
        self._do(path, lambda client, name: client.utime(name, (accessed, changed)))

    def make_folder(self, path: str, bits: int) -> None:
        """Make a folder."""

        async def make(client: asyncssh.SFTPClient, name: bytes) -> None:
            await client.mkdir(name)
            await client.chmod(name, bits)

        self._do(path, make)

    def remove(self, path: str) -> None:
        """Take a file or a link away."""
        self._do(path, lambda client, name: client.unlink(name))

    def remove_folder(self, path: str) -> None:
        """Take an empty folder away."""
        self._do(path, lambda client, name: client.rmdir(name))

    def rename(self, path: str, to: str) -> None:
        """Give it another name, in the place of whatever bears that."""
        self._do(path, lambda client, name: client.posix_rename(name, _bytes(to)))

    def link(self, path: str, to: str) -> None:
        """Make a symbolic link that leads *to* somewhere."""
        self._do(path, lambda client, name: client.symlink(_bytes(to), name))

    def write(self, path: str, data: bytes, bits: int, owner: tuple[int, int] | None = None) -> None:
        """Write a file in the place of whatever bears its name: whole, or not at all."""
        folder, _, last = path.rpartition("/")
        scratch = f"{folder}/.{last[:60]}.hollow-chain"

        async def put(client: asyncssh.SFTPClient, name: bytes) -> None:
            aside = _bytes(scratch)
            if await client.lexists(aside):
                await client.unlink(aside)
            try:
                async with client.open(aside, "xb", asyncssh.SFTPAttrs(permissions=0o600)) as file:
                    await file.write(data)
                    await _on_disk(file)
                if owner is not None:
                    await client.chown(aside, *owner)
                await client.chmod(aside, bits)
                await client.posix_rename(aside, name)
            except (asyncssh.SFTPError, OSError):
                if await client.lexists(aside):
                    await client.unlink(aside)
                raise

        self._do(path, put)

    def _do(self, path: str, what: Callable[[asyncssh.SFTPClient, bytes], Awaitable[T]]) -> T:
        if not path.startswith("/") or "\0" in path:
            raise OSError(errno.EINVAL, "no absolute path", path)

        async def done() -> T:
            return await what(await self._transfer.client(), _bytes(path))

        try:
            return self._connection.ask(done())
        except asyncssh.SFTPError as error:
            raise as_system_error(error, path) from None


async def _on_disk(file: Any) -> None:
    """Have the file on the disk, where the server knows how to."""
    with contextlib.suppress(asyncssh.SFTPOpUnsupported):
        await file.fsync()


def _bytes(path: str) -> bytes:
    return path.encode("utf-8", "surrogateescape")

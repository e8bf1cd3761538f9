"""This machine, where it is of the POSIX kind: reached through the kernel's own files, psutil, and the system's message bus."""

from __future__ import annotations

import glob
import os
import platform
import socket
from collections.abc import Awaitable, Callable, Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, TypeVar

from hollow_chain.families import SYSTEMD
from hollow_chain.reach.handles import NETWORK, Walker
from hollow_chain.reach.interfaces import Volume, in_turn
from hollow_chain.reach.machine_id import ID_FILE, digest
from hollow_chain.reach.network import OwnNetwork
from hollow_chain.reach.posix import accounts
from hollow_chain.reach.posix.processes import LocalProcesses

T = TypeVar("T")
One = TypeVar("One")
_MOST_VOLUMES = 200
"""Mounts that are looked at: a host of containers has thousands, nearly all of them of the same few disks."""


class LocalFiles:
    """Files of this machine."""

    def walker(self, any_link: bool = False) -> Walker:
        """What finds and reads files by handle."""
        return Walker(any_link)

    def expect(self, paths: Iterable[str], folders: Iterable[str] = ()) -> None:
        """Nothing is asked for beforehand: an answer comes at once."""

    def text(self, path: str) -> str:
        """The text of a small file that the system makes."""
        return Path(path).read_text(errors="replace")

    def link(self, path: str) -> str:
        """Where a symbolic link points."""
        try:
            return str(Path(path).readlink())
        except OSError:
            return ""

    def names(self, folder: str) -> list[str]:
        """The names in a folder, sorted."""
        try:
            return sorted(os.listdir(folder))  # noqa: PTH208 - names, and no object for each
        except OSError:
            return []

    def exists(self, path: str) -> bool:
        """Whether anything is there."""
        return os.path.exists(path)  # noqa: PTH110 - also False where it may not be seen

    def is_folder(self, path: str) -> bool:
        """Whether a folder is there."""
        return os.path.isdir(path)  # noqa: PTH112

    def changed(self, path: str) -> float | None:
        """When what stands there was changed."""
        try:
            return Path(path).lstat().st_mtime
        except OSError:
            return None

    def literally(self, text: str) -> str:
        """*text* as a part of a pattern that fits nothing but it."""
        return glob.escape(text)

    def matching(self, pattern: str) -> list[str]:
        """The paths that fit a pattern of the shell."""
        return sorted(glob.glob(pattern))  # noqa: PTH207 - the pattern is absolute


class LocalNetwork(OwnNetwork):
    """Sockets and adapters of this machine."""

    def local_sockets(self, most: int) -> dict[str, int]:
        """Those of unix(7) that have a path."""
        import psutil

        try:
            connections = psutil.net_connections("unix")[:most]
        except psutil.Error as error:
            raise OSError(str(error)) from None
        return {str(one.laddr): one.pid or 0 for one in connections if str(one.laddr).startswith("/")}


class ThisMachine:
    """This machine."""

    def __init__(self) -> None:
        about = os.uname()
        self.name = socket.gethostname() or "this-host"
        self.architecture, self.cores, self.kernel = platform.machine(), os.cpu_count(), about.release
        self.family = (
            SYSTEMD.name
        )  # the only one of this kind of system; where it does not run, that is said when it is asked
        self.user = os.geteuid()
        self.all_rights = self.user == 0
        self.is_here = True
        self.machine = digest(self._machine_id(), self.name)
        self.asked_as = "root" if self.all_rights else f"user {self.user}, who is not root"
        self.files, self.processes, self.network = LocalFiles(), LocalProcesses(), LocalNetwork()
        self.accounts = accounts

    @staticmethod
    def _machine_id() -> str:
        try:
            return Path(ID_FILE).read_text()
        except (OSError, UnicodeDecodeError):
            return ""

    def each(self, work: Callable[[One], T], items: Iterable[One]) -> list[T]:
        """What *work* gives for each of *items*."""
        return in_turn(work, items)

    def now(self) -> datetime:
        """The time by its clock."""
        return datetime.now(UTC)

    def volumes(self) -> list[Volume]:
        """Its file systems: mounts that another machine or a program answers for are not touched."""
        import psutil

        try:
            parts = psutil.disk_partitions(all=True)
        except (psutil.Error, OSError):
            return []
        found = []
        for part in [p for p in parts if p.fstype not in NETWORK and not p.fstype.startswith("fuse.")][:_MOST_VOLUMES]:
            try:
                about = os.statvfs(part.mountpoint)
            except OSError:
                continue
            unit = about.f_frsize
            if about.f_blocks:  # else of the kernel's own making: nothing is stored there
                found.append(
                    Volume(
                        part.mountpoint,
                        part.fstype,
                        about.f_blocks * unit,
                        about.f_bavail * unit,
                        about.f_files,
                        about.f_favail,
                        "ro" in (options := part.opts.split(",")),
                        "noexec" in options,
                    )
                )
        return found

    def converse(self, talk: Callable[[Any], Awaitable[T]], seconds: float) -> T:
        """What *talk* gives, which gets the message bus to ask."""
        from hollow_chain.reach.posix.bus import converse

        return converse(talk, seconds)

    def journal(self) -> Any:
        """Its journal, opened."""
        from hollow_chain.reach.posix.journal import OpenJournal

        return OpenJournal()

"""A systemd host over SSH, as readers ask it."""

from __future__ import annotations

import asyncio
import fnmatch
import glob
import posixpath
import stat
import time
from collections.abc import Awaitable, Callable, Iterable
from contextlib import AbstractContextManager
from datetime import datetime, timedelta
from typing import Any, TypeVar

from hollow_chain.facts.host import CameTo
from hollow_chain.families import SYSTEMD
from hollow_chain.reach.address import Address
from hollow_chain.reach.handles import NETWORK, Walker
from hollow_chain.reach.interfaces import Records, Volume
from hollow_chain.reach.machine_id import ID_FILE, digest
from hollow_chain.reach.ssh import told
from hollow_chain.reach.ssh.accounts import FarAccounts
from hollow_chain.reach.ssh.altering import Altering
from hollow_chain.reach.ssh.answers import Answers, steps_of
from hollow_chain.reach.ssh.attendant import Attendant
from hollow_chain.reach.ssh.bus import FarBus
from hollow_chain.reach.ssh.connection import FarConnection
from hollow_chain.reach.ssh.journal import FarJournal
from hollow_chain.reach.ssh.mounts import Mounts
from hollow_chain.reach.ssh.processes import FarNetwork, FarProcesses
from hollow_chain.reach.ssh.side_by_side import SideBySide
from hollow_chain.reach.ssh.transfer import Transfer
from hollow_chain.reach.ssh.walker import FarWalker
from hollow_chain.reach.unreached import Unreached

T = TypeVar("T")
One = TypeVar("One")
UNIT_FOLDERS = (
        "/etc/systemd/system.control", "/run/systemd/system.control", "/run/systemd/transient", "/run/systemd/generator.early",
        "/etc/systemd/system", "/etc/systemd/system.attached", "/run/systemd/system", "/run/systemd/system.attached",
        "/run/systemd/generator", "/usr/local/lib/systemd/system", "/lib/systemd/system", "/usr/lib/systemd/system",
        "/run/systemd/generator.late",
)  # fmt: skip
"""Where definitions lie (systemd.unit(5), "Unit File Load Path")."""
_FORESEEN = (
    "/etc/shadow",
    "/run/reboot-required",
    "/lib/modules",
    "/proc/1/environ",
    "/var/log/dpkg.log",
    "/var/log/dpkg.log.1",
)
"""What every reading looks at beside them."""
_MOST_TEXT = 1 << 20
"""Bytes of a small file that the system makes."""
_MOST_VOLUMES = 200
"""Mounts that are looked at, as on this machine."""


class FarFiles:
    """Files of a host over SSH."""

    def __init__(self, known: dict[str, str], answers: Answers, mounts: Mounts, transfer: Transfer, user: int) -> None:
        self._known = known
        self._given = (answers, mounts, transfer, user)
        self._answers, self._transfer = answers, transfer
        self._walker = FarWalker(*self._given, any_link=True)

    def walker(self, any_link: bool = False) -> Walker:
        """What finds and reads files by their names."""
        return FarWalker(*self._given, any_link=any_link)

    def expect(self, paths: Iterable[str], folders: Iterable[str] = ()) -> None:
        """Ask for all of *paths* at once, with the folders on the way, and for the names in *folders*."""
        self._walker.expect(paths, folders)

    def text(self, path: str) -> str:
        """The text of a small file that the system makes."""
        if path in self._known:
            return self._known[path]
        return self._transfer.read(path, _MOST_TEXT, _MOST_TEXT).data.decode("utf-8", "replace")

    def link(self, path: str) -> str:
        """Where a symbolic link points."""
        try:
            found = self._answers.at(path)
        except OSError:
            return ""
        return found.target if found is not None else ""

    def names(self, folder: str) -> list[str]:
        """The names in a folder, sorted."""
        return self._answers.names(folder)

    def exists(self, path: str) -> bool:
        """Whether anything is there."""
        return self._kind(path) is not None

    def is_folder(self, path: str) -> bool:
        """Whether a folder is there."""
        kind = self._kind(path)
        return kind is not None and stat.S_ISDIR(kind)

    def _kind(self, path: str) -> int | None:
        try:
            about = self._walker.find(path).about
        except OSError:
            return None
        return about.st_mode if about is not None else None

    def changed(self, path: str) -> float | None:
        """When what stands there was changed."""
        try:
            found = self._answers.at(path)
        except OSError:
            return None
        return found.about.st_mtime if found is not None else None

    def literally(self, text: str) -> str:
        """*text* as a part of a pattern that fits nothing but it."""
        return glob.escape(text)

    def matching(self, pattern: str) -> list[str]:
        """The paths that fit a pattern of the shell."""
        found = ["/"]
        for part in (part for part in pattern.split("/") if part):
            if any(sign in part for sign in "*?["):
                self._answers.expect_names(found)
            found = [step for folder in found for step in self._below(folder, part)]
        return sorted(found)

    def _below(self, folder: str, part: str) -> list[str]:
        if not any(sign in part for sign in "*?["):
            path = posixpath.join(folder, part)
            return [path] if self.exists(path) else []
        names = (name for name in self.names(folder) if part.startswith(".") or not name.startswith("."))
        return [posixpath.join(folder, name) for name in names if fnmatch.fnmatchcase(name, part)]


class FarMachine:
    """A host over SSH. Use as a context manager. Raises :class:`Unreached` where it is not reached."""

    def __init__(self, address: Address, meanwhile: Callable[[], object] = lambda: None) -> None:
        """*meanwhile* is done while the host is waited for."""
        self.link = FarConnection(address, meanwhile=meanwhile)
        self.logged_in_as = self.link.connection.get_extra_info("username") or ""
        self.attendant = Attendant(self.link)
        self._transfer, self._bus = Transfer(self.link, False), FarBus(self.link, False)
        try:
            if self.logged_in_as == "root":  # else it is not known yet who will ask
                self._begin()
            self._first()
        except BaseException:
            self.close()
            raise

    def _begin(self) -> None:
        """Have begun what every reading needs, while the first questions are under way."""
        self._transfer.begin()
        self._bus.begin()

    def _first(self) -> None:
        answers = Answers(self.attendant)
        try:
            first = told.read(self.link.ask(self._first_answers(answers)))
        except (ValueError, IndexError):
            raise Unreached(
                "what its shell says is no answer: either it is none as every host of this kind has, or it prints words at each login"
            ) from None
        _check(first.files, answers)
        self._told, self._asked_at = first, time.monotonic()
        files = first.files
        self.name = files.get("/proc/sys/kernel/hostname", "").strip() or self.link.address.host
        self.kernel = files.get("/proc/sys/kernel/osrelease", "").strip()
        self.architecture, self.cores, self.user = first.architecture, first.cores, first.user
        self.all_rights = self.user == 0
        self.family = SYSTEMD.name
        self.is_here = False
        self._by_sudo = self.all_rights and self.logged_in_as != "root"
        by_way = f"root, by way of sudo as {self.logged_in_as}"
        self.asked_as = (
            by_way if self._by_sudo else "root" if self.all_rights else f"{self.logged_in_as}, who is not root"
        )
        self._mounts = Mounts(files.get("/proc/self/mountinfo", ""))
        if self._by_sudo and not self._transfer.as_root:
            self._transfer, self._bus = Transfer(self.link, True), FarBus(self.link, True)
            self._begin()
        self._bus.has_bridge = first.has_bridge
        answers.all_rights = self.all_rights
        self.machine = digest(files.get(ID_FILE, ""), self.name)
        self.altering = Altering(self.link, self._transfer)
        self._see(answers)
        self.processes = FarProcesses(files, self.attendant)
        self.network = FarNetwork(files, self.architecture, self.processes, self.attendant)
        self.accounts = FarAccounts(files, self.attendant)

    async def _first_answers(self, answers: Answers) -> bytes:
        """What the host says of itself; what stands where every reading looks is asked along with that."""
        steps = dict.fromkeys(step for path in (*_FORESEEN, *UNIT_FOLDERS) for step in ("/", *steps_of(path)))
        questions = [("stat", step) for step in steps] + [("names", folder) for folder in UNIT_FOLDERS]
        told_first, _ = await asyncio.gather(self.attendant.answer("host"), answers.fetch(questions))
        return told_first

    def _see(self, answers: Answers) -> None:
        self._side_by_side = SideBySide(answers.ask)
        self.link.wait, answers.wait_for = self._side_by_side.wait, self._side_by_side.wait_for_answers
        self.files = FarFiles(self._told.files, answers, self._mounts, self._transfer, self.user)

    @property
    def is_open(self) -> bool:
        """Whether the conversation goes on."""
        return not self.link.connection.is_closed()

    def forget(self) -> None:
        """Ask anew what stands where."""
        answers = Answers(self.attendant)
        answers.all_rights = self.all_rights
        self._see(answers)

    def again(self) -> None:
        """Ask all of it anew."""
        self._first()

    def __enter__(self) -> FarMachine:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """End the conversation with the host; nothing is left on it."""
        self.link.close()

    def each(self, work: Callable[[One], T], items: Iterable[One]) -> list[T]:
        """What *work* gives for each of *items*; what they wait for is waited for together."""
        return self._side_by_side.each(work, items)

    def now(self) -> datetime:
        """The time by its clock."""
        return self._told.now + timedelta(seconds=time.monotonic() - self._asked_at)

    def call(self, address: str, port: int, seconds: float) -> tuple[CameTo, str]:
        """What a call from this host to a port of another comes to (RFC 4254, 7.2), and why; nothing is sent."""
        return self.link.call(address, port, seconds)

    def volumes(self) -> list[Volume]:
        """Its file systems."""
        mounted = list(_mounted(self._mounts.lines))[:_MOST_VOLUMES]
        rooms = self._transfer.rooms([place for place, _, _ in mounted])
        found = []
        for place, kind, options in mounted:
            room = rooms.get(place)
            if room is not None and room.blocks:
                size, free = room.blocks * room.frsize, room.bavail * room.frsize
                found.append(
                    Volume(place, kind, size, free, room.files, room.favail, "ro" in options, "noexec" in options)
                )
        return found

    def converse(self, talk: Callable[[Any], Awaitable[T]], seconds: float) -> T:
        """What *talk* gives, which gets the message bus to ask."""
        return self._bus.converse(talk, seconds)

    def journal(self) -> AbstractContextManager[Records]:
        """Its journal, opened. Raises :class:`NotThere`."""
        return FarJournal(self.attendant)


def _check(files: dict[str, str], answers: Answers) -> None:
    """Raise :class:`Unreached` where the host lacks what looks at it: nothing that it does not tell may pass for absent."""
    lacking = [path for path in ("/proc/stat", "/proc/self/mountinfo", "/etc/passwd") if path not in files]
    if lacking or answers.at("/") is None or not any(answers.names(folder) for folder in UNIT_FOLDERS):
        raise Unreached(
            "it lacks the tools that look at a host (grep, stat, find and xargs as GNU has them), or is no systemd host"
        )


def _mounted(lines: Iterable[str]) -> Iterable[tuple[str, str, list[str]]]:
    """The place, kind and options of each mount of a disk."""
    for line in lines:
        words = line.split()
        dash = words.index("-")
        if dash > 5 and len(words) > dash + 3:
            kind = words[dash + 1]
            if kind not in NETWORK and not kind.startswith("fuse."):
                yield words[4], kind, [*words[5].split(","), *words[dash + 3].split(",")]

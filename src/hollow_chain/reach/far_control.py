"""A host of the control-manager family over the network, as readers ask it: what is the same whichever client asks, and what such hosts
do not tell over the network.
"""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from collections.abc import Awaitable, Callable, Iterable
from contextlib import AbstractContextManager, suppress
from datetime import UTC, datetime, timedelta
from typing import Any, TypeVar

from hollow_chain.families import CONTROL as FAMILY
from hollow_chain.reach.control import (
    CONTROL,
    Declined,
    EventLogs,
    ExactValues,
    FileRights,
    Key,
    KnownAccount,
    Registry,
    ServiceDatabase,
    ServiceOrders,
)
from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.interfaces import Interface, NotThere, Records, Running, Socket, Volume, in_turn
from hollow_chain.reach.machine_id import digest
from hollow_chain.reach.no_numbers import NoNumbers
from hollow_chain.reach.shares import Shares, SharesFiles
from hollow_chain.reach.unreached import Unreached

T = TypeVar("T")
One = TypeVar("One")
_SYSTEM = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion"
_ENVIRONMENT = rf"{CONTROL}\Session Manager\Environment"
_NO_SHARE = 67
"""``ERROR_BAD_NET_NAME``: there is no share of that name."""
_COUNTED_FOR = timedelta(days=49)
"""For how long a counter of milliseconds in 32 bits tells when a host was booted: then it begins anew."""
_CRYPTOGRAPHY = r"SOFTWARE\Microsoft\Cryptography"


class UntoldProcesses:
    """The processes of a host that does not tell them."""

    def numbers(self) -> list[int]:
        """None is told."""
        return []

    def group(self, process: int) -> str:
        """Not told."""
        return ""

    program = group

    def running(self, process: int) -> Running | None:
        """Not told."""
        return None

    def runs(self, process: int) -> bool:
        """What its manager says runs is taken to run."""
        return True

    def open_files(self, process: int) -> set[str]:
        """Not told."""
        raise PermissionError("the files of processes are not told over the network")

    def locks(self) -> FileLocks:
        """Not told."""
        return FileLocks()


class UntoldNetwork:
    """The sockets of a host that does not tell them."""

    def sockets(self, most: int) -> list[Socket]:
        """Not told."""
        raise PermissionError("such a host does not tell its sockets over the network")

    def interfaces(self) -> list[Interface]:
        """Not told."""
        return []

    def local_sockets(self, most: int) -> dict[str, int]:
        """Not told."""
        raise PermissionError("such a host does not tell its sockets over the network")


class UntoldAccounts:
    """The accounts of a host that does not tell them."""

    def look_up(self, name: str) -> KnownAccount | None:
        """Not told."""
        raise Declined(50, "accounts are not told over the network")


def text_at(key: Key, name: str) -> str:
    """A value that is a text, on one line; empty where there is none."""
    found = key.values.get(name, ("", 0))[0]
    return found[:400] if isinstance(found, str) and found.isprintable() else ""


def machine_of(registry: Registry, name: str, otherwise: str = "") -> str:
    """What tells the machine from all others; empty where it has no ID of its own, or does not tell it, and there is none *otherwise*."""
    found = ""
    with suppress(Declined):
        found = text_at(registry.key(_CRYPTOGRAPHY), "machineguid")
    return digest(found or otherwise, name)


class FarControlMachine(ABC):
    """A host over the network. Use as a context manager."""

    database: ServiceDatabase
    registry: Registry
    event_logs: EventLogs

    def begin(self, shares: Shares, me: str, called: str, server_id: str = "") -> None:
        """Ask what it says of itself. *me* asks; it is *called* so where it does not tell its name, and its server tells itself from all
        others by *server_id*."""
        self._shares = shares
        self.files, self.processes, self.network = SharesFiles(shares), UntoldProcesses(), UntoldNetwork()
        self.accounts, self.account_book = NoNumbers(), UntoldAccounts()
        self.family, self.is_here = FAMILY.name, False
        self.cores: int | None = None
        self.all_rights = self.database.has_all_rights
        self.user = 0 if self.all_rights else 1
        self.me = me
        self.asked_as = me if self.all_rights else f"{me}, who is no administrator there"
        names = self._key(rf"{CONTROL}\ComputerName\ActiveComputerName")
        self.name = text_at(names, "computername") or called
        system = self._key(_SYSTEM)
        self.build = ".".join(filter(None, (text_at(system, "currentversion"), text_at(system, "currentbuild"))))
        self.kernel = self.build
        self._root = text_at(system, "systemroot")
        architecture = text_at(self._key(_ENVIRONMENT), "processor_architecture").lower()
        self.architecture = {"amd64": "x86_64", "arm64": "aarch64"}.get(architecture, architecture)
        self.machine = machine_of(self.registry, self.name, server_id)
        self._clock()

    @property
    @abstractmethod
    def orders(self) -> ServiceOrders:
        """Its manager, as it takes orders."""

    @property
    @abstractmethod
    def exact_values(self) -> ExactValues:
        """Its registry, byte for byte."""

    @abstractmethod
    def told_time(self) -> tuple[int, int] | None:
        """The time there in seconds since 1970, and for how many milliseconds it is up; None where it does not tell."""

    @property
    @abstractmethod
    def is_open(self) -> bool:
        """Whether it can still be asked."""

    @abstractmethod
    def close(self) -> None:
        """End what is held open."""

    def __enter__(self) -> FarControlMachine:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _clock(self) -> None:
        self._asked_at, self._told_at, self._booted_at = time.monotonic(), datetime.now(UTC), None
        told = self.told_time()
        with suppress(OverflowError, ValueError, OSError):
            if told is not None:
                self._told_at = datetime.fromtimestamp(told[0], UTC)
                up = timedelta(milliseconds=told[1])
                self._booted_at = self._told_at - up if timedelta(0) < up < _COUNTED_FOR else None

    def _key(self, path: str) -> Key:
        try:
            return self.registry.key(path)
        except Declined:
            return Key({}, [], None)

    def again(self) -> None:
        """Nothing that was told before counts."""
        self.forget()
        self._clock()

    def forget(self) -> None:
        """What stands where may be otherwise by now."""
        self._shares.forget()

    def private_folder(self) -> str:
        """None is made over the network."""
        raise Unreached(f"nothing of this program is kept on {self.name}")

    def each(self, work: Callable[[One], T], items: Iterable[One]) -> list[T]:
        """What *work* gives for each of *items*."""
        return in_turn(work, items)

    def now(self) -> datetime:
        """The time by its clock."""
        return self._told_at + timedelta(seconds=time.monotonic() - self._asked_at)

    def booted_at(self) -> datetime | None:
        """When it was booted; None where it does not tell."""
        return self._booted_at

    def variables(self) -> dict[str, str]:
        """Where the system stands."""
        if not self._root:
            return {}
        drive = self._root[:2]
        folders = self._key(r"SOFTWARE\Microsoft\Windows\CurrentVersion")
        data = text_at(self._key(rf"{_SYSTEM}\ProfileList"), "programdata")
        given = {
            "SystemRoot": self._root,
            "windir": self._root,
            "SystemDrive": drive,
            "ProgramFiles": text_at(folders, "programfilesdir"),
            "ProgramFiles(x86)": text_at(folders, "programfilesdir (x86)"),
            "CommonProgramFiles": text_at(folders, "commonfilesdir"),
            "ProgramData": data.replace("%SystemDrive%", drive),
        }
        return {name: value for name, value in given.items() if value}

    def rights(self, path: str) -> FileRights:
        """Not told over this way."""
        raise Declined(50, "the rights of files are not told over the network")

    def drive_kind(self, root: str) -> str:
        """A drive with a share for administrators is a disk; where such shares may not be used, nobody can tell."""
        try:
            self._shares.drive(root[:1].upper())
        except Declined as declined:
            return "" if declined.number == _NO_SHARE and self._has_shares() else "other"
        return "disk"

    def _has_shares(self) -> bool:
        """Whether the drive of the system itself has its share: where it has none, none has, and the lack of one says nothing."""
        try:
            self._shares.drive((self._root or "C")[:1].upper())
        except Declined:
            return False
        return True

    def volumes(self) -> list[Volume]:
        """Not told over this way."""
        return []

    def converse(self, talk: Callable[[Any], Awaitable[T]], seconds: float) -> T:
        """There is no message bus."""
        raise NotThere("a host of this kind has no message bus")

    def journal(self) -> AbstractContextManager[Records]:
        """There is no journal."""
        raise NotThere("a host of this kind has event logs, and no journal")

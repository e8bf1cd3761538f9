"""This machine, where it is of the Win32 kind."""

from __future__ import annotations

import ctypes
import os
import platform
import shutil
from collections.abc import Awaitable, Callable, Iterable
from contextlib import AbstractContextManager
from datetime import UTC, datetime, timedelta
from functools import cached_property
from pathlib import Path
from typing import Any, TypeVar

import win32api
import win32con

from hollow_chain.families import CONTROL
from hollow_chain.reach.control import AccountBook, EventLogs, ExactValues, FileRights, ServiceOrders
from hollow_chain.reach.far_control import machine_of
from hollow_chain.reach.interfaces import NotThere, Records, Volume, in_turn
from hollow_chain.reach.no_numbers import NoNumbers
from hollow_chain.reach.win32.database import LocalDatabase
from hollow_chain.reach.win32.network import Win32Network
from hollow_chain.reach.win32.processes import Win32Processes
from hollow_chain.reach.win32.registry import LocalRegistry
from hollow_chain.reach.win32.walker import Win32Files

T = TypeVar("T")
One = TypeVar("One")
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
_TIME_OF_DAY = 3
"""``SystemTimeOfDayInformation`` (winternl.h)."""
_DRIVES = {2: "removable", 3: "disk", 4: "network", 5: "removable", 6: "disk"}
"""Kinds of drives (GetDriveTypeW)."""
_GIVEN = (
    "SystemRoot", "SystemDrive", "windir", "ProgramFiles", "ProgramFiles(x86)", "ProgramData", "CommonProgramFiles", "PUBLIC", "ALLUSERSPROFILE",
)  # fmt: skip
"""Variables that the system itself gives to every process."""


class Win32Machine:
    """This machine."""

    def __init__(self) -> None:
        self.name = platform.node() or "this-host"
        self.architecture = platform.machine().lower().replace("amd64", "x86_64").replace("arm64", "aarch64")
        self.cores, self.kernel = os.cpu_count(), platform.version()
        self.build = platform.version()
        self.family = CONTROL.name
        self.all_rights = bool(ctypes.windll.shell32.IsUserAnAdmin())
        self.user = 0 if self.all_rights else 1
        self.me = win32api.GetUserNameEx(win32con.NameSamCompatible)
        self.is_here = True
        self.asked_as = self.me if self.all_rights else f"{self.me}, who is no administrator"
        self.files, self.processes, self.network = Win32Files(), Win32Processes(), Win32Network()
        self.accounts, self.registry = NoNumbers(), LocalRegistry()
        self.machine = machine_of(self.registry, self.name)

    @cached_property
    def database(self) -> LocalDatabase:
        """Its service database."""
        return LocalDatabase()

    # What few calls need is loaded when it is needed: here, each module costs some milliseconds.

    @cached_property
    def account_book(self) -> AccountBook:
        """Its accounts."""
        from hollow_chain.reach.win32.accounts import LocalAccounts

        return LocalAccounts()

    @cached_property
    def event_logs(self) -> EventLogs:
        """Its event logs."""
        from hollow_chain.reach.win32.event_logs import LocalEventLogs

        return LocalEventLogs()

    @cached_property
    def orders(self) -> ServiceOrders:
        """Its manager, as it takes orders."""
        from hollow_chain.reach.win32.manager import LocalManager

        return LocalManager()

    @cached_property
    def exact_values(self) -> ExactValues:
        """Its registry, byte for byte."""
        from hollow_chain.reach.win32.raw_values import LocalValues

        return LocalValues()

    def private_folder(self) -> str:
        """The folder of this program among the data of all programs."""
        import platformdirs

        from hollow_chain.reach.win32.security import keep_private

        place = Path(platformdirs.site_data_dir("hollow-chain", appauthor=False))
        keep_private(place)
        return str(place)

    def each(self, work: Callable[[One], T], items: Iterable[One]) -> list[T]:
        """What *work* gives for each of *items*."""
        return in_turn(work, items)

    def now(self) -> datetime:
        """The time by its clock."""
        return datetime.now(UTC)

    def booted_at(self) -> datetime | None:
        """When it was booted: as its kernel has noted it, else by the time that it counts since then."""
        told = (ctypes.c_longlong * 6)()
        if (
            ctypes.windll.ntdll.NtQuerySystemInformation(_TIME_OF_DAY, told, ctypes.sizeof(told), None) == 0
            and told[0] > 0
        ):
            return _EPOCH + timedelta(microseconds=told[0] // 10)
        count = ctypes.windll.kernel32.GetTickCount64
        count.restype = ctypes.c_ulonglong
        return datetime.now(UTC) - timedelta(milliseconds=count())

    def variables(self) -> dict[str, str]:
        """Where the system stands."""
        return {name: os.environ[name] for name in _GIVEN if os.environ.get(name)}

    def rights(self, path: str) -> FileRights:
        """Whose a file or folder is."""
        from hollow_chain.reach.win32.security import rights_of

        return rights_of(path)

    def drive_kind(self, root: str) -> str:
        """What kind of drive it is."""
        kind = ctypes.windll.kernel32.GetDriveTypeW(root)
        return "" if kind == 1 else _DRIVES.get(kind, "other")

    def volumes(self) -> list[Volume]:
        """Its disks."""
        import psutil

        try:
            parts = psutil.disk_partitions()
        except (psutil.Error, OSError):
            return []
        found = []
        for part in parts:
            if "fixed" not in (options := part.opts.split(",")):
                continue
            try:
                about = shutil.disk_usage(part.mountpoint)
            except OSError:
                continue
            found.append(Volume(part.mountpoint, part.fstype, about.total, about.free, 0, 0, "ro" in options))
        return found

    def converse(self, talk: Callable[[Any], Awaitable[T]], seconds: float) -> T:
        """There is no message bus."""
        raise NotThere("a machine of this kind has no message bus")

    def journal(self) -> AbstractContextManager[Records]:
        """There is no journal."""
        raise NotThere("a machine of this kind has event logs, and no journal")

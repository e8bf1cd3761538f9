"""A host made of plain things: a folder that stands for its root, processes, sockets, accounts, the manager's answers and a journal.
It fits :class:`hollow_chain.reach.interfaces.Reached`, so that the readers read it as they read a live one."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Awaitable, Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, TypeVar

from dbus_fast import Message, MessageType

from hollow_chain.facts.host import Host
from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.flags import flags
from hollow_chain.reach.handles import Folder, Walker
from hollow_chain.reach.interfaces import Entry, Interface, Match, NotThere, Running, Socket, Volume
from hollow_chain.reach.posix.accounts import User
from hollow_chain.reach.posix.machine import LocalFiles
from hollow_chain.sources.asked import Asked
from hollow_chain.sources.readers import readers_of
from hollow_chain.sources.reading import read
from hollow_chain.sources.systemd.bus import MANAGER_PATH, escape

T = TypeVar("T")
NOW = datetime(2026, 3, 4, 6, 0, tzinfo=UTC)
BOOT = "0123456789abcdef0123456789abcdef"
FOREVER = (1 << 64) - 1


def ago(seconds: float) -> int:
    """So many seconds before the reading, as the manager gives moments (microseconds)."""
    return int((NOW - timedelta(seconds=seconds)).timestamp() * 1e6)


class Rooted(Walker):
    """Finds files below a folder that stands for the root."""

    def __init__(self, root: Path, any_link: bool) -> None:
        super().__init__(any_link)
        self.root = root

    def _root(self) -> Folder:
        known = self._folders.get("/")
        if known is None:
            handle = os.open(self.root, flags("PATH", "DIRECTORY", "NOFOLLOW", "CLOEXEC"))
            known = self._folders["/"] = Folder(handle, "/", alone=True)
        return known

    def is_made_up(self, about: os.stat_result) -> bool:
        return False


class MadeFiles(LocalFiles):
    """Files below a folder that stands for the root."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def at(self, path: str) -> str:
        return f"{self.root}{path}"

    def walker(self, any_link: bool = False) -> Walker:
        return Rooted(self.root, any_link)

    def text(self, path: str) -> str:
        return super().text(self.at(path))

    def link(self, path: str) -> str:
        return super().link(self.at(path))

    def names(self, folder: str) -> list[str]:
        return super().names(self.at(folder))

    def exists(self, path: str) -> bool:
        return super().exists(self.at(path))

    def is_folder(self, path: str) -> bool:
        return super().is_folder(self.at(path))

    def changed(self, path: str) -> float | None:
        return super().changed(self.at(path))

    def matching(self, pattern: str) -> list[str]:
        return [path.removeprefix(str(self.root)) for path in super().matching(self.at(pattern))]


class Value:
    """A value as the bus hands it over."""

    def __init__(self, value: Any) -> None:
        self.value = value


class Answer:
    """An answer of the bus."""

    def __init__(self, body: list[Any], kind: MessageType = MessageType.METHOD_RETURN) -> None:
        self.body, self.message_type = body, kind


class MadeAccounts:
    """Accounts, each with a group of its own name."""

    def __init__(self, numbers: dict[str, int]) -> None:
        self.numbers = numbers

    def user(self, name: str) -> User:
        number = int(name) if name.isdigit() else self.numbers[name]
        return User(self.user_name(number), number, number, f"/home/{name}")

    def user_name(self, number: int) -> str:
        return {number: name for name, number in self.numbers.items()}[number]

    group_name = user_name

    def user_number(self, name: str) -> int:
        return self.user(name).number

    known_group = user_number

    def groups_of(self, user: User) -> list[int]:
        return [user.group]


class MadeHost:
    """A host of the systemd family. All of it may be changed before it is read."""

    family, architecture, cores, kernel = "systemd", "x86_64", 2, "6.1.0-made"
    name, user, all_rights = "quay", os.geteuid(), True

    def __init__(self, root: Path) -> None:
        self.files = MadeFiles(root)
        self.processes = self.network = self
        self.accounts = MadeAccounts({"root": 0, "mate": 501})
        self.units: dict[str, dict[str, Any]] = {}
        self.records: list[tuple[float, dict[str, str]]] = []
        """Seconds before the reading, and fields."""
        self.runs_now: dict[int, tuple[str, str]] = {}
        """Processes: program and unit."""
        self.held = FileLocks()
        self.opened: dict[int, set[str]] = {}
        self.listens: list[Socket] | OSError = []
        self.journal_is: str = ""
        """Why the journal is not to be had."""
        self.activatable: list[str] = []
        self.refuses: dict[str, str] = {}
        self.manager = {
            "Version": "252",
            "UserspaceTimestamp": ago(3600),
            "UnitPath": ["/etc/systemd/system", "/lib/systemd/system"],
        }
        for folder in (
            "/run/systemd/system",
            "/etc/systemd/system",
            "/lib/systemd/system",
            "/proc/sys/kernel/random",
            "/proc/sys/net/ipv4",
        ):
            (root / folder[1:]).mkdir(parents=True)
        self.put("/proc/sys/kernel/random/boot_id", "01234567-89ab-cdef-0123-456789abcdef\n")
        self.put("/proc/sys/net/ipv4/ip_unprivileged_port_start", "1024\n")

    # What it is made of.

    def put(self, path: str, text: str | bytes = "", mode: int = 0o644, age: float = 7200) -> None:
        """A file, with the folders that lead to it."""
        place = Path(self.files.at(path))
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(text if isinstance(text, bytes) else text.encode())
        place.chmod(mode)
        os.utime(place, (NOW.timestamp() - age,) * 2)

    def unit(self, name: str, definition: str = "[Service]\nExecStart=/usr/bin/true\n", **facts: Any) -> None:
        """A unit that the manager has loaded; *facts* are what it says beyond the usual."""
        file = f"/etc/systemd/system/{name}"
        self.put(file, definition)
        usual = {
            "Id": name, "Names": [name], "Description": f"Ferry desk {name}", "LoadState": "loaded", "ActiveState": "inactive",
            "SubState": "dead", "FragmentPath": file, "UnitFileState": "enabled", "WantedBy": ["multi-user.target"], "LoadError": ["", ""],
            "Type": "simple", "Result": "success", "TimeoutStartUSec": 90_000_000, "MainPID": 0, "NRestarts": 0, "Restart": "no",
        }  # fmt: skip
        self.units[name] = usual | facts

    def failed(self, name: str, status: int = 1, command: tuple[str, ...] = ("/usr/bin/true",), **facts: Any) -> None:
        """A service that was tried a minute ago, and ended."""
        told = {
            "ActiveState": "failed", "SubState": "failed", "Result": "exit-code", "ExecMainCode": 1, "ExecMainStatus": status,
            "ExecMainStartTimestamp": ago(60), "ExecMainExitTimestamp": ago(59), "InactiveExitTimestamp": ago(60),
            "ActiveEnterTimestamp": ago(60), "InactiveEnterTimestamp": ago(59), "ExecStart": [[command[0], list(command), False]],
        }  # fmt: skip
        self.unit(name, f"[Service]\nExecStart={' '.join(command)}\n", **(told | facts))

    def says(self, unit: str, text: str, before: float = 59.5, **fields: str) -> None:
        """A record of the service itself."""
        own = {
            "MESSAGE": text,
            "_SYSTEMD_UNIT": unit,
            "_PID": "4711",
            "_UID": "501",
            "_COMM": "desk",
            "_BOOT_ID": BOOT,
            "PRIORITY": "6",
        }
        self.records.append((before, own | fields))

    # How it is reached.

    is_here, asked_as, machine = True, "root", ""

    def expect(self, fits: Any) -> None:
        """Nothing is asked for beforehand."""

    def each(self, work: Any, items: Any) -> list[Any]:
        return [work(item) for item in items]

    def now(self) -> datetime:
        return NOW

    def volumes(self) -> list[Volume]:
        return [Volume("/", "ext4", 1 << 30, 1 << 29, 1000, 500, False)]

    def numbers(self) -> list[int]:
        return sorted(self.runs_now)

    def group(self, process: int) -> str:
        return f"0::/system.slice/{self.runs_now[process][1]}\n" if process in self.runs_now else ""

    def program(self, process: int) -> str:
        return self.runs_now.get(process, ("", ""))[0]

    def running(self, process: int) -> Running | None:
        return Running(NOW - timedelta(hours=1), [self.program(process)]) if process in self.runs_now else None

    def runs(self, process: int) -> bool:
        return process in self.runs_now

    def open_files(self, process: int) -> set[str]:
        return self.opened.get(process, set())

    def locks(self) -> FileLocks:
        return self.held

    def sockets(self, most: int) -> list[Socket]:
        if isinstance(self.listens, OSError):
            raise self.listens
        return self.listens[:most]

    def interfaces(self) -> list[Interface]:
        return [Interface("lan0", "02:00:00:00:00:07", ["10.0.0.7"], True)]

    def converse(self, talk: Callable[[Any], Awaitable[T]], seconds: float) -> T:
        return asyncio.run(talk(self))  # type: ignore[arg-type]

    async def call(self, message: Message) -> Answer:
        """The message bus."""
        if message.member == "ListUnits":
            paths = {name: f"{MANAGER_PATH}/unit/{escape(name)}" for name in [*self.units, *self.refuses]}
            return Answer([[[name, "", "", "", "", "", path] for name, path in paths.items()]])
        if message.member == "ListActivatableNames":
            return Answer([self.activatable])
        at = {f"{MANAGER_PATH}/unit/{escape(name)}": name for name in [*self.units, *self.refuses]}
        name = at.get(message.path, "")
        if name in self.refuses:
            return Answer([self.refuses[name]], MessageType.ERROR)
        facts = self.manager if message.path == MANAGER_PATH else self.units.get(name)
        if facts is None:
            return Answer(["no such unit"], MessageType.ERROR)
        return Answer([{key: Value(value) for key, value in facts.items()}])

    def journal(self) -> AbstractContextManager[MadeHost]:
        if self.journal_is:
            raise NotThere(self.journal_is)
        return nullcontext(self)

    def entries(self, fits: Sequence[Match], fields: Sequence[str], most: int, from_head: bool = False) -> list[Entry]:
        found = [
            Entry(NOW - timedelta(seconds=before), {name: known.get(name, "") for name in fields})
            for before, known in sorted(self.records, key=lambda one: -one[0])
            if any(all(known.get(field, "") in values for field, values in match.items()) for match in fits)
        ]
        return found[:most] if from_head else found[-most:]

    def read(self, **asked: Any) -> Host:
        """The facts of the host, as the readers of its family find them."""
        document = read(self, readers_of("systemd"), Asked(**asked))  # type: ignore[arg-type]
        for file in document.hosts[0].files:
            file.altered_at = file.changed_at  # the files were made in this minute, and are to be as old as they say
        return document.hosts[0]

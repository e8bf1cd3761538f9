"""A host of the control-manager family that is made up of recorded answers: what the readers may call, and nothing else."""

from __future__ import annotations

import os
from collections.abc import Callable, Collection, Iterable
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import yaml

from hollow_chain.facts.host import Snapshot
from hollow_chain.reach.control import (
    Declined,
    FileRights,
    Key,
    KnownAccount,
    LogEntry,
    Raw,
    ServiceConfig,
    ServiceStatus,
)
from hollow_chain.reach.handles import Content, Found, NotOpened, Walker
from hollow_chain.reach.interfaces import Interface, Running, Socket, Volume
from hollow_chain.sources.asked import Asked
from hollow_chain.sources.readers import readers_of
from hollow_chain.sources.reading import read

RECORDED = Path(__file__).parent / "recorded/control_host.yaml"
PE = b"MZ" + bytes(58) + (64).to_bytes(4, "little") + b"PE\0\0" + (0x8664).to_bytes(2, "little") + bytes(200)
NOW = datetime(2026, 3, 4, 5, 1, tzinfo=UTC)


def recorded() -> dict[str, Any]:
    """The recorded answers."""
    found: dict[str, Any] = yaml.safe_load(RECORDED.read_text(encoding="utf-8"))
    return found


def _key_form(path: str) -> str:
    return path.casefold()


class MadeControlHost:
    """The host. Every call goes through :attr:`before`, which may decline it."""

    def __init__(self, answers: dict[str, Any], before: Callable[[str], None] = lambda call: None) -> None:
        self.answers, self.before = answers, before
        self.name, self.family, self.architecture, self.cores, self.kernel = (
            "quay",
            "control-manager",
            "x86_64",
            4,
            "10",
        )
        self.build, self.me, self.user, self.all_rights = "10.0.1", "QUAY\\admin", 0, True
        self.files = self.processes = self.network = self.accounts = self.database = self.registry = self
        self.event_logs = self.account_book = self
        self.orders: Any = self
        self.done: list[str] = []
        """Orders that were given."""

    # The machine itself.

    is_here, asked_as, machine = True, "root", ""

    def each(self, work: Any, items: Any) -> list[Any]:
        return [work(item) for item in items]

    def now(self) -> datetime:
        return NOW

    def booted_at(self) -> datetime:
        self.before("booted_at")
        return datetime(2026, 3, 4, 4, 58, tzinfo=UTC)

    def variables(self) -> dict[str, str]:
        return {"SystemRoot": r"C:\windows", "ProgramFiles": r"C:\Program Files"}

    def volumes(self) -> list[Volume]:
        return [Volume("C:\\", "NTFS", 10**11, 10**10, 0, 0, False)]

    def rights(self, path: str) -> FileRights:
        self.before("rights")
        return FileRights("Administrators", ["user:LocalSystem:rwx", "user:Administrators:rwx", "user:Users:r-x"])

    # The service database.

    def statuses(self) -> list[ServiceStatus]:
        self.before("statuses")
        shown = {name: config[-1] for name, config in self.answers["configs"].items()}
        return [
            ServiceStatus(name, shown.get(name, name), *numbers[:3], *numbers[3:])
            for name, numbers in self.answers["statuses"].items()
        ]

    def status(self, name: str) -> ServiceStatus:
        self.before("status")
        return next(one for one in self.statuses() if one.name == name)

    def config(self, name: str) -> ServiceConfig:
        self.before("config")
        if name not in self.answers["configs"]:
            raise Declined(1060, "no such service")
        return ServiceConfig(*self.answers["configs"][name])

    def description(self, name: str) -> str:
        self.before("description")
        return str(self.answers["descriptions"].get(name, ""))

    # The registry.

    def expect(self, paths: Iterable[str]) -> None:
        """Nothing is asked for beforehand."""

    def key(self, path: str) -> Key:
        self.before("key")
        keys = {_key_form(one): (one, values) for one, values in self.answers["registry"].items()}
        form = _key_form(path)
        below = [one[len(path) + 1 :].split("\\")[0] for low, (one, _) in keys.items() if low.startswith(f"{form}\\")]
        if form not in keys and not below:
            raise Declined(2, "not found")
        values = keys[form][1] if form in keys else {}
        return Key(
            {name.lower(): (_data(data), kind) for name, (data, kind) in values.items()},
            list(dict.fromkeys(below)),
            NOW,
        )

    # Event logs, accounts, sockets, processes.

    def entries(self, log: str, since: datetime, sources: Collection[str] | None, most: int) -> list[LogEntry]:
        self.before("entries")
        found = [
            LogEntry(datetime.fromisoformat(at.replace("Z", "+00:00")), source, number, level, text, inserted)
            for at, source, number, level, text, inserted in self.answers["logs"].get(log, ())
        ]
        kept = [e for e in found if e.at >= since and (sources is None or e.source in sources)]
        return sorted(kept, key=lambda entry: entry.at)[-most:]

    def look_up(self, name: str) -> KnownAccount | None:
        self.before("look_up")
        told = self.answers["accounts"].get(name)
        return KnownAccount(**told) if told else None

    def sockets(self, most: int) -> list[Socket]:
        self.before("sockets")
        return [Socket(*one) for one in self.answers["sockets"]][:most]

    def interfaces(self) -> list[Interface]:
        self.before("interfaces")
        return [Interface("Ethernet", "02:00:00:00:00:01", ["10.0.0.1"], True)]

    def local_sockets(self, most: int) -> dict[str, int]:
        raise OSError("none")

    def program(self, process: int) -> str:
        self.before("program")
        return self.answers["processes"].get(process, ["", ""])[0] if process != 4 else "System"

    def running(self, process: int) -> Running | None:
        self.before("running")
        found = self.answers["processes"].get(process)
        return Running(datetime.fromisoformat(found[1].replace("Z", "+00:00")), [found[0]]) if found else None

    def runs(self, process: int) -> bool:
        self.before("runs")
        return process in self.answers["processes"]

    def numbers(self) -> list[int]:
        return list(self.answers["processes"])

    # Files.

    def walker(self, any_link: bool = False) -> Walker:
        return _MadeWalker(self.answers["files"])

    def exists(self, path: str) -> bool:
        return _form(path) in {_form(one) for one in self.answers["files"]}

    def is_folder(self, path: str) -> bool:
        return False

    def link(self, path: str) -> str:
        return ""


def _form(path: str) -> str:
    return path.replace("/", "\\").casefold()


def _data(data: Any) -> Any:
    return bytes.fromhex(data[4:]) if isinstance(data, str) and data.startswith("hex:") else data


class _MadeWalker(Walker):
    def __init__(self, files: dict[str, str]) -> None:
        super().__init__()
        self._files = {_form(path): (PE if text == "pe" else text.encode()) for path, text in files.items()}

    def find(self, path: str, follow_last: bool = True) -> Found:
        if not path[1:3] == ":\\":
            raise NotOpened(22, "not a path of a drive", path)
        data = self._files.get(_form(path))
        folder = any(one.startswith(f"{_form(path).rstrip(chr(92))}\\") for one in self._files)
        if data is None and not folder:
            return Found(None, path, None)  # type: ignore[arg-type]
        kind = 0o040755 if data is None else 0o100644
        about = os.stat_result(
            (kind, 1, 1, 1, 0, 0, len(data or b""), NOW.timestamp(), NOW.timestamp(), NOW.timestamp())
        )
        return Found(None, path, about)  # type: ignore[arg-type]

    def read(self, path: str, most: int, from_end: bool = False) -> Content:
        found = self.find(path)
        data = self._files.get(_form(path))
        if data is None or found.about is None:
            raise FileNotFoundError(2, "no such file", path)
        return Content(path, found.about, data[:most], None, False)  # type: ignore[arg-type]

    def names(self, path: str, most: int = 1000) -> list[str]:
        head = f"{_form(path)}\\"
        return [one[len(head) :] for one in self._files if one.startswith(head) and "\\" not in one[len(head) :]][:most]


def facts(host: MadeControlHost, with_claims: bool = True) -> Snapshot:
    """The facts that the readers make of a host."""
    return read(host, readers_of("control-manager"), Asked((), with_claims))  # type: ignore[arg-type]


__all__ = ["MadeControlHost", "Raw", "facts", "recorded"]

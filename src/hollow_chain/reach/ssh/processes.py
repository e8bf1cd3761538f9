"""Processes of a host over SSH, and the sockets that they hold."""

from __future__ import annotations

import errno
import json
from functools import cached_property
from typing import Any

from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.interfaces import Interface, Running, Socket
from hollow_chain.reach.ssh import told
from hollow_chain.reach.ssh.attendant import Attendant

_BIG_ENDIAN = ("s390", "ppc64", "ppc", "mips", "mips64", "sparc64")
"""Machines that write their greatest byte first, by the names that uname(1) has for them."""


def pairs(answer: bytes) -> list[tuple[str, str]]:
    """Links and where they lead, of an answer that lists them in turn."""
    words = answer.decode("utf-8", "surrogateescape").split("\0")
    return list(zip(words[::2], words[1::2], strict=False))


class FarProcesses:
    """Processes of a host, as they were at its first answer."""

    def __init__(self, files: dict[str, str], attendant: Attendant) -> None:
        self._files, self._attendant = files, attendant
        self._known = told.processes_of(files)

    @cached_property
    def links(self) -> dict[str, str]:
        """Where the links of processes lead: to their programs, and to sockets."""
        return dict(pairs(self._attendant.ask("links")))

    @cached_property
    def holders(self) -> dict[str, int]:
        """The process that holds each socket, by the kernel's number of it."""
        found: dict[str, int] = {}
        for path, target in self.links.items():
            if target.startswith("socket:[") and (number := path.split("/")[2]).isdigit():
                inode = target[8:-1]
                found[inode] = max(found.get(inode, 0), int(number))
        return found

    @cached_property
    def _open(self) -> dict[int, set[str]]:
        found: dict[int, set[str]] = {}
        for path, target in pairs(self._attendant.ask("open")):
            if (number := path.split("/")[2]).isdigit():
                found.setdefault(int(number), set()).add(target)
        return found

    def numbers(self) -> list[int]:
        """All that ran."""
        return sorted(self._known)

    def group(self, process: int) -> str:
        """The text of its ``cgroup`` file."""
        return self._files.get(f"/proc/{process}/cgroup", "")

    def program(self, process: int) -> str:
        """The path of its program, or its own name."""
        return told.program(self._files, process, self.links.get(f"/proc/{process}/exe", ""))

    def running(self, process: int) -> Running | None:
        """When it began, and with which arguments."""
        at = told.began(self._files, process)
        return Running(at, told.arguments(self._files, process)) if at is not None else None

    def runs(self, process: int) -> bool:
        """Whether it runs."""
        return process in self._known

    def open_files(self, process: int) -> set[str]:
        """The paths of the files that it has open."""
        if process in self._known and process not in self._open:
            raise PermissionError(errno.EACCES, "not told", f"/proc/{process}/fd")
        return self._open.get(process, set())

    def locks(self) -> FileLocks:
        """Who has which file locked."""
        return FileLocks(self._files.get("/proc/locks", ""), self._files.get("/proc/self/mountinfo", ""))


class FarNetwork:
    """Sockets and adapters of a host."""

    def __init__(self, files: dict[str, str], architecture: str, processes: FarProcesses, attendant: Attendant) -> None:
        self._files, self._processes, self._attendant = files, processes, attendant
        self._big = architecture.startswith(_BIG_ENDIAN) and not architecture.endswith("le")

    def sockets(self, most: int) -> list[Socket]:
        """Those that wait for others."""
        if "/proc/net/tcp" not in self._files:
            raise OSError(errno.EACCES, "the table of sockets is not told")
        return told.sockets(self._files, self._big, self._processes.holders, most)

    def local_sockets(self, most: int) -> dict[str, int]:
        """Those that stand in the file system."""
        return told.local_sockets(self._files, self._processes.holders, most)

    def interfaces(self) -> list[Interface]:
        """Its adapters, as ip(8) tells them; where that is not there, their names and hardware addresses alone."""
        try:
            listed = json.loads(self._attendant.ask("network") or b"null")
            return [_interface(one) for one in listed]
        except (ValueError, TypeError, KeyError, AttributeError):
            return self._bare()

    def _bare(self) -> list[Interface]:
        folder = "/sys/class/net/"
        found = []
        for path, text in self._files.items():
            if path.startswith(folder) and path.endswith("/address"):
                name = path[len(folder) :].partition("/")[0]
                up = self._files.get(f"{folder}{name}/operstate", "").strip()
                found.append(Interface(name, text.strip().lower(), [], {"up": True, "down": False}.get(up)))
        return found


def _interface(one: dict[str, Any]) -> Interface:
    name = str(one["ifname"])[:64]
    addresses = []
    for entry in one.get("addr_info", ()):
        address = str(entry["local"])[:64]
        addresses.append(f"{address}%{name}" if entry.get("scope") == "link" and ":" in address else address)
    flags = one.get("flags", ())
    return Interface(name, str(one.get("address", ""))[:64].lower(), addresses, "UP" in flags and "LOWER_UP" in flags)

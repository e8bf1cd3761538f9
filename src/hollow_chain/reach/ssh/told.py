"""The first answer of a host: what its kernel tells of itself, of its processes and sockets, in one piece.

A line of a file stands behind the file's name, so that no process can write what passes for a line of another file. Sources: proc(5),
proc_pid_stat(5), proc_net(5), passwd(5), group(5).
"""

from __future__ import annotations

from datetime import UTC, datetime
from ipaddress import IPv4Address, IPv6Address
from typing import NamedTuple

from hollow_chain.reach.interfaces import Socket

_TICKS = 100
"""Ticks of the clock in a second, as programs are told (time(7), "USER_HZ")."""
_LISTENS, _UNCONNECTED = "0A", "07"
"""States of sockets (``include/net/tcp_states.h``)."""
_SHORT_NAME = 15
"""Characters of a process's name that the kernel keeps (``TASK_COMM_LEN``)."""


class FirstAnswer(NamedTuple):
    """What the first answer says."""

    now: datetime
    architecture: str
    user: int
    cores: int | None
    has_bridge: bool
    """Whether there is a bridge to its message bus."""
    files: dict[str, str]
    """Text by path."""


def read(answer: bytes) -> FirstAnswer:
    """What *answer* says. Raises :class:`ValueError` where it is none."""
    head, _, rest = answer.decode("utf-8", "surrogateescape").partition("\n\n")
    words = head.split("\n")
    moment = float(words[0])
    lines: dict[str, list[str]] = {}
    for line in rest.split("\n"):
        path, colon, text = line.partition(":")
        if colon:
            lines.setdefault(path, []).append(text)
    cores = int(words[3]) if len(words) > 3 and words[3].isdigit() else None
    files = {path: "\n".join(texts) + "\n" for path, texts in lines.items()}
    return FirstAnswer(
        datetime.fromtimestamp(moment, UTC), words[1][:40], int(words[2]), cores or None, words[4:5] != ["-"], files
    )


def processes_of(files: dict[str, str]) -> dict[int, str]:
    """The numbers of the processes, each with the folder of its files."""
    names = (path.split("/") for path in files if path.startswith("/proc/") and path.endswith("/stat"))
    return {int(parts[2]): f"/proc/{parts[2]}" for parts in names if len(parts) == 4 and parts[2].isdigit()}


def booted_at(files: dict[str, str]) -> float:
    """When the host was booted, in seconds since 1970; 0 where it does not tell."""
    for line in files.get("/proc/stat", "").split("\n"):
        if line.startswith("btime "):
            return float(line.split()[1])
    return 0.0


def began(files: dict[str, str], process: int) -> datetime | None:
    """When a process began."""
    fields = files.get(f"/proc/{process}/stat", "").rpartition(")")[2].split()
    try:
        return datetime.fromtimestamp(booted_at(files) + int(fields[19]) / _TICKS, UTC)
    except (IndexError, ValueError, OverflowError):
        return None


def arguments(files: dict[str, str], process: int) -> list[str]:
    """The words a process was started with, as it shows them now."""
    text = files.get(f"/proc/{process}/cmdline", "").removesuffix("\n")
    text = text.removesuffix("\0")
    if not text:
        return []
    # A process that writes over its words leaves one, parted by spaces.
    return text.split("\0" if "\0" in text else " ") if " " in text or "\0" in text else [text]


def program(files: dict[str, str], process: int, exe: str) -> str:
    """The path of a process's program *exe*; its own name where it was started through a link of another name."""
    name = files.get(f"/proc/{process}/comm", "").strip()
    last = exe.rpartition("/")[2]
    if not exe or not name:
        return name
    return exe if last.startswith(name[:_SHORT_NAME]) or name.startswith(last[:_SHORT_NAME]) else name


def sockets(files: dict[str, str], big: bool, holders: dict[str, int], most: int) -> list[Socket]:
    """Up to *most* sockets that wait for others; *holders* are processes by the kernel's number of the socket, *big* says that the
    host writes numbers with their greatest byte first."""
    found: list[Socket] = []
    for protocol in ("tcp", "tcp6", "udp", "udp6"):
        state = _LISTENS if protocol.startswith("tcp") else _UNCONNECTED
        for line in files.get(f"/proc/net/{protocol}", "").split("\n")[1:]:
            words = line.split()
            if len(words) > 9 and words[3] == state and len(found) < most:
                address, _, port = words[1].rpartition(":")
                found.append(Socket(int(port, 16), address_of(address, big), protocol, holders.get(words[9], 0)))
    return found


def address_of(told: str, big: bool) -> str:
    """An address as the kernel writes it: words of four bytes, each as a number of the host's own order."""
    data = bytes.fromhex(told)
    if not big:
        data = b"".join(data[at : at + 4][::-1] for at in range(0, len(data), 4))
    return str(IPv4Address(data) if len(data) == 4 else IPv6Address(data))


def local_sockets(files: dict[str, str], holders: dict[str, int], most: int) -> dict[str, int]:
    """Up to *most* sockets that stand in the file system, each with its process (0: not known)."""
    found: dict[str, int] = {}
    for line in files.get("/proc/net/unix", "").split("\n")[1:]:
        words = line.split(None, 7)
        if len(words) == 8 and words[7].startswith("/") and len(found) < most:
            found[words[7].rstrip("\n")] = holders.get(words[6], 0)
    return found

"""Processes, the services they belong to, and the sockets they hold."""

from __future__ import annotations

import socket
from datetime import UTC, datetime
from pathlib import Path

from hollow_chain.facts.host import OF_SOCKETS, Adapter, Listener, Process, Unread
from hollow_chain.wording.secrets import mask_arguments

_SUFFIXES = (".service", ".socket", ".scope", ".mount", ".swap")
MAX_LISTENERS = 20_000


def unit_of(process: int) -> str:
    """The systemd unit that owns *process*, from its control group; empty where it has none or is gone."""
    try:
        text = Path(f"/proc/{process}/cgroup").read_text()
    except OSError:
        return ""
    return unit_in_cgroup(text)


def unit_in_cgroup(text: str) -> str:
    """The unit that the text of a ``cgroup`` file in ``/proc`` names (cgroups(7)).

    The outermost unit counts: what a service makes below its own group is still the service.
    """
    for line in text.splitlines():
        _, controllers, path = (*line.split(":", 2), "", "")[:3]
        if controllers not in ("", "name=systemd"):
            continue
        for part in path.split("/"):
            if part.endswith(_SUFFIXES):
                return part
    return ""


def listeners() -> tuple[list[Listener], list[Unread]]:
    """Every listening TCP socket and every bound UDP socket, with its process and service where they can be told."""
    import psutil

    try:
        connections = psutil.net_connections("inet")
    except (psutil.Error, OSError) as error:
        return [], [Unread(what="listening sockets", why=str(error), part=OF_SOCKETS)]
    found: list[Listener] = []
    units: dict[int, tuple[str, str]] = {}
    unknown = 0
    for connection in connections[:MAX_LISTENERS]:
        is_tcp = connection.type == socket.SOCK_STREAM
        if not connection.laddr or (connection.status != psutil.CONN_LISTEN if is_tcp else bool(connection.raddr)):
            continue
        process = connection.pid or 0
        unknown += not process
        if process not in units:
            units[process] = (_program(process), unit_of(process)) if process else ("", "")
        program, unit = units[process]
        found.append(
            Listener(
                port=connection.laddr.port,
                protocol=("tcp" if is_tcp else "udp") + ("6" if connection.family == socket.AF_INET6 else ""),
                address=connection.laddr.ip,
                process=process,
                program=program,
                service=unit if process != 1 else "",
            )
        )
    unread = []
    if unknown:
        what = f"the processes behind {unknown} listening sockets"
        unread.append(Unread(what=what, why="not permitted", part=OF_SOCKETS))
    return found, unread


def _program(process: int) -> str:
    """The path of the running program; its own name where it was started through a link of another name."""
    try:
        name = Path(f"/proc/{process}/comm").read_text().strip()
    except OSError:
        return ""
    try:
        path = Path(f"/proc/{process}/exe").readlink()
    except OSError:
        return name
    return str(path) if path.name.startswith(name[:15]) or name.startswith(path.name[:15]) else name


def described(process: int, unit: str) -> Process | None:
    """What is known of one running process; None where it is gone."""
    import psutil

    try:
        seen = psutil.Process(process)
        started = datetime.fromtimestamp(seen.create_time(), UTC)
        arguments = mask_arguments([word[:300] for word in seen.cmdline()[:50]])
    except (psutil.Error, OSError):
        return None
    return Process(process=process, program=_program(process), service=unit, started_at=started, arguments=arguments)


def adapters() -> list[Adapter]:
    """The network adapters with their addresses."""
    import psutil

    try:
        addresses, states = psutil.net_if_addrs(), psutil.net_if_stats()
    except (psutil.Error, OSError):
        return []
    return [
        Adapter(
            name=name,
            hardware_address=next((a.address for a in entries if a.family == psutil.AF_LINK), ""),
            addresses=[a.address for a in entries if a.family in (socket.AF_INET, socket.AF_INET6)],
            up=states[name].isup if name in states else None,
        )
        for name, entries in addresses.items()
    ]

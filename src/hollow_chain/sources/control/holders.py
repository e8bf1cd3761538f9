"""Sockets and processes, and the services behind them: the manager tells which process each service has."""

from __future__ import annotations

from hollow_chain.facts.host import Host, Unread
from hollow_chain.sources import sockets
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.reading import HostReading
from hollow_chain.sources.sockets import described

_MOST_PROCESSES = 200
"""Processes that are described: those of services, of which a host runs some hundred."""


def add_sockets(reading: HostReading) -> None:
    """The sockets that wait for others. The table is whole even where the system does not tell whose they are."""
    host = reading.host
    host.listeners, unread = sockets.listeners(reading.reached, reading.service_of)
    host.sockets_read = not unread or bool(host.listeners)
    if not host.sockets_read:
        host.unread += unread
    elif unread:
        told = sum(1 for one in host.listeners if one.process)
        what = f"the processes behind {len(host.listeners) - told} of {len(host.listeners)} listening sockets"
        host.unread.append(Unread(what=what, why="the system does not tell them"))


def by_process(host: Host) -> dict[int, list[str]]:
    """The services of each process."""
    found: dict[int, list[str]] = {}
    for service in host.services:
        if service.program is not None and service.program.process:
            found.setdefault(service.program.process, []).append(service.name)
    return found


def name_holders(reading: HostReading) -> None:
    """The services behind the sockets, and their processes."""
    host, processes = reading.host, control(reading).processes
    known = by_process(host)
    for listener in host.listeners:
        names = known.get(listener.process, [])
        if names:
            listener.service = names[0]
            listener.shared_with = names if len(names) > 1 else []
    wanted = {one.process: one.service for one in host.listeners if one.process > 4}
    wanted |= {process: names[0] for process, names in known.items()}
    for number, name in list(wanted.items())[:_MOST_PROCESSES]:
        seen = described(number, name, processes)
        if seen is not None:
            host.processes.append(seen)
    _date_starts(host)


def _date_starts(host: Host) -> None:
    """A service in a process of its own was started when that process began."""
    began = {one.process: one.started_at for one in host.processes}
    for service in host.services:
        program = service.program
        if program is None or program.style != "own-process" or service.last is None or not program.process:
            continue
        service.last.started_at = began.get(program.process)
        if service.state == "running":
            service.last.up_at = service.last.started_at

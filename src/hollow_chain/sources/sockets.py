"""Processes and the sockets that they hold."""

from __future__ import annotations

from collections.abc import Callable

from hollow_chain.facts.host import OF_SOCKETS, Adapter, Listener, Process, Unread
from hollow_chain.reach.interfaces import Network, Processes, Reached
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording.secrets import mask_arguments

ServiceOf = Callable[[int], str]
MAX_LISTENERS = 20_000
"""Sockets that are looked at: a server of many connections has hundreds of thousands, of which few listen."""
_MOST_WORDS, _LONGEST_WORD = 50, 300
"""Words of a command line, and characters of each, that are kept: enough to tell two instances of a program apart."""


def listeners(reached: Reached, service_of: ServiceOf) -> tuple[list[Listener], list[Unread]]:
    """Every listening TCP socket and every bound UDP socket, with its process and service where they can be told.

    *service_of* gives the service that a process belongs to, empty where it is none's.
    """
    try:
        sockets = reached.network.sockets(MAX_LISTENERS)
    except OSError as error:
        return [], [Unread(what="listening sockets", why=str(error), part=OF_SOCKETS)]
    found: list[Listener] = []
    units: dict[int, tuple[str, str]] = {0: ("", "")}
    processes = reached.processes
    for one in sockets:
        if one.process not in units:
            units[one.process] = processes.program(one.process), service_of(one.process)
        program, unit = units[one.process]
        found.append(
            Listener(
                port=one.port,
                protocol=one.protocol,
                address=one.address,
                process=one.process,
                program=program,
                service=unit if one.process != 1 else "",
            )
        )
    unknown = sum(not one.process for one in sockets)
    what = f"the processes behind {unknown} listening sockets"
    return found, [Unread(what=what, why="not permitted", part=OF_SOCKETS)] if unknown else []


def described(process: int, unit: str, processes: Processes) -> Process | None:
    """What is known of one running process; None where it is gone."""
    seen = processes.running(process)
    if seen is None:
        return None
    arguments = mask_arguments([word[:_LONGEST_WORD] for word in seen.arguments[:_MOST_WORDS]])
    program = processes.program(process)
    return Process(process=process, program=program, service=unit, started_at=seen.started_at, arguments=arguments)


def adapters(network: Network) -> list[Adapter]:
    """The network adapters with their addresses."""
    return [
        Adapter(name=one.name, hardware_address=one.hardware_address, addresses=one.addresses, up=one.up)
        for one in network.interfaces()
    ]


def add(reading: HostReading) -> None:
    """The sockets of the host that wait for others."""
    host = reading.host
    host.listeners, unread = listeners(reading.reached, reading.service_of)
    host.sockets_read = not unread
    host.unread += unread


def add_adapters(reading: HostReading) -> None:
    """The network adapters of the host, and so its addresses."""
    reading.host.adapters = adapters(reading.reached.network)
    reading.host.addresses = [address for one in reading.host.adapters for address in one.addresses]

"""Calls between hosts, tried: from this machine, and over its SSH connection from the host that needs an answer. Bounded in time and
number; nothing is sent."""

from __future__ import annotations

import errno
import socket
import time
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from functools import partial
from typing import NamedTuple

from hollow_chain.facts.endpoints import is_loopback
from hollow_chain.facts.host import CameTo, Host, Probe
from hollow_chain.reach.address import SSH
from hollow_chain.reach.far import FarWay, far

SECONDS = 3.0
"""How long one call may take: longer than any network that people work over takes for a connection."""
MOST = 200
"""Calls that are tried at once: needs between the hosts of a site."""


class Called(NamedTuple):
    """A port of a host that is to be called, and by whom it is needed."""

    client: str
    server: Host
    port: int


def address_of(host: Host, way: FarWay | None) -> str:
    """The address by which a host is called: the one by which it was reached, else the first of its own that is no loopback."""
    if way is not None and _is_plain(way.address.host):
        return way.address.host
    return next(
        (
            one.partition("%")[0]
            for one in host.addresses
            if one and not is_loopback(one) and not one.startswith("fe80")
        ),
        "",
    )


def _is_plain(text: str) -> bool:
    try:
        socket.inet_pton(socket.AF_INET6 if ":" in text else socket.AF_INET, text)
    except OSError:
        return False
    return True


def from_here(address: str, port: int) -> tuple[CameTo, str]:
    """What a call from this machine comes to, and why."""
    try:
        with socket.create_connection((address, port), SECONDS):
            return "answered", ""
    except TimeoutError:
        return "no answer", f"nothing came within {SECONDS:g} s"
    except OSError as error:
        refused = error.errno in (errno.ECONNREFUSED, errno.ECONNRESET)
        return ("refused" if refused else "no answer"), (error.strerror or str(error)).lower()


def tried(wanted: Iterable[Called], ways: dict[str, FarWay]) -> list[Probe]:
    """Try all of *wanted*; *ways* are those by which hosts are reached over the network."""
    found: list[Probe] = []
    for one in list(dict.fromkeys((c.client, c.server.name, c.port) for c in wanted))[:MOST]:
        client, name, port = one
        server = next(c.server for c in wanted if c.server.name == name)
        address = address_of(server, ways.get(name))
        found.append(_probe("", name, port, address, from_here))
        if client in ways and ways[client].address.scheme == SSH:
            found.append(_probe(client, name, port, address, partial(_from_far, ways[client])))
    return found


def _from_far(way: FarWay, address: str, port: int) -> tuple[CameTo, str]:
    """What a call from a host over the network comes to."""
    from hollow_chain.trouble import Trouble

    try:
        with far(way) as reached:
            return reached.call(address, port, SECONDS)  # type: ignore[attr-defined,no-any-return]
    except (Trouble, AttributeError) as problem:
        return "not tried", str(problem)


def _probe(source: str, to: str, port: int, address: str, call: Callable[[str, int], tuple[CameTo, str]]) -> Probe:
    begun, at = time.monotonic(), datetime.now(UTC)
    came_to, why = call(address, port) if address else ("not tried", "no address of it is known")
    return Probe(
        to=to,
        port=port,
        address=address,
        source=source,
        came_to=came_to,
        why=why,
        seconds=round(time.monotonic() - begun, 3),
        at=at,
    )

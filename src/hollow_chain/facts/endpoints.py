"""Endpoints: protocol, address and port; when two of them cannot both be held, and which ports are not to be had."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from ipaddress import IPv6Address, ip_address
from typing import NamedTuple

from hollow_chain.facts.host import Host, HostLimits, Listener
from hollow_chain.facts.service import Claim
from hollow_chain.lazy import pattern

UNPRIVILEGED = 1024
"""First port that any account may take, where the host does not say otherwise (ip(7))."""
LAST_PORT = 65535
"""The highest port (RFC 9293, 3.1: sixteen bits)."""
ANY = frozenset({"", "*", "0.0.0.0", "::", "[::]"})
_RANGE = pattern(r"^\s*(\d{1,5})\s*(?:-\s*(\d{1,5})\s*)?$")


class Endpoint(NamedTuple):
    """An endpoint that is claimed or held."""

    port: int
    protocol: str = "tcp"
    """``tcp`` or ``udp``; a trailing 6 says that the socket is one of IPv6."""
    address: str = ""
    reuse: bool = False
    v6_only: bool = False

    def __str__(self) -> str:
        return said(self.address, self.port, self.protocol)


def of_claim(claim: Claim) -> Endpoint:
    """The endpoint of a claim."""
    return Endpoint(claim.port, claim.protocol, claim.address, claim.reuse, claim.v6_only)


def of_listener(listener: Listener) -> Endpoint:
    """The endpoint that a socket holds."""
    return Endpoint(
        listener.port, listener.protocol, listener.address, bool(listener.reuse), bool(listener.v6_only)
    )  # fmt: skip


def said(address: str, port: int, protocol: str = "tcp") -> str:
    """An endpoint as it is said in a sentence."""
    where = "all addresses" if address in ANY else address
    return f"{protocol[:3]} port {port} on {where}"


def overlap(one: Endpoint, other: Endpoint) -> bool:
    """Whether two endpoints cannot both be held: same protocol and port, and addresses that meet.

    A socket on all addresses meets every single one of its family. One on all IPv6 addresses meets those of IPv4 too,
    unless it is held to IPv6 (ipv6(7), ``IPV6_V6ONLY``). Two that both share the endpoint do not clash (socket(7),
    ``SO_REUSEPORT``).
    """
    if one.port != other.port or one.protocol[:3] != other.protocol[:3] or (one.reuse and other.reuse):
        return False
    if is_any(one.address) and is_any(other.address):
        return bool(_families(one) & _families(other))
    if is_any(one.address) or is_any(other.address):
        every, single = (one, other) if is_any(one.address) else (other, one)
        return bool(_families(every) & _families(single))
    return plain(one.address) == plain(other.address)


def is_any(address: str) -> bool:
    """Whether *address* stands for all addresses."""
    return address in ANY


@lru_cache(maxsize=1024)
def is_loopback(address: str) -> bool:
    """Whether only programs of the same machine reach *address*."""
    try:
        return ip_address(plain(address)).is_loopback
    except ValueError:
        return False


@lru_cache(maxsize=1024)  # a host has few addresses, and asks about them for each of its services
def plain(address: str) -> str:
    """An address in one form: no brackets, no scope; the IPv4 one of a mapped one (RFC 4291, 2.5.5.2)."""
    bare = address.strip("[]").partition("%")[0]
    if bare == "localhost":
        return "127.0.0.1"
    try:
        found = ip_address(bare)
    except ValueError:
        return bare.casefold()
    mapped = found.ipv4_mapped if isinstance(found, IPv6Address) else None
    return str(mapped or found)


def _families(endpoint: Endpoint) -> frozenset[int]:
    """The families of addresses that the endpoint takes in."""
    address = endpoint.address.strip("[]")
    if address == "0.0.0.0":
        return frozenset({4})
    if address == "::" or (address in ("", "*") and endpoint.protocol.endswith("6")):
        return frozenset({6} if endpoint.v6_only else {4, 6})
    if address in ("", "*"):
        return frozenset({4, 6})
    try:
        return frozenset({ip_address(plain(address)).version})
    except ValueError:
        return frozenset({4, 6})


def in_ranges(port: int, ranges: Iterable[str]) -> str:
    """The first of *ranges* (``5000`` or ``5000-5010``) that holds *port*; empty where none does."""
    for text in ranges:
        found = _RANGE.match(text)
        if found and int(found[1]) <= port <= int(found[2] or found[1]):
            return text.strip()
    return ""


def first_for_all(limits: HostLimits | None) -> int:
    """The first port that any account of the host may take."""
    return limits.unprivileged_port if limits and limits.unprivileged_port is not None else UNPRIVILEGED


def free_neighbor(host: Host, wanted: Endpoint) -> int:
    """The next port after the wanted one that nobody holds or claims and that the system does not keep; 0 if none is."""
    protocol = wanted.protocol[:3]
    taken = {held.port for held in host.listeners if held.protocol[:3] == protocol}
    taken |= {c.port for s in host.services for c in s.claims if c.protocol[:3] == protocol and not c.switched_off}
    kept = host.limits.reserved_ports if host.limits else []
    floor = first_for_all(host.limits)
    start = max(wanted.port + 1, floor if wanted.port >= floor else 1)
    candidates = (*range(start, LAST_PORT + 1), *range(max(floor, 1), start))
    return next((port for port in candidates if port not in taken and not in_ranges(port, kept)), 0)

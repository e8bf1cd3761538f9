"""Socket units: the endpoints that the manager itself holds for services (systemd.socket(5))."""

from __future__ import annotations

from hollow_chain.facts.service import Claim, Service
from hollow_chain.reach.handles import Walker
from hollow_chain.sources.reading import HostReading
from hollow_chain.sources.systemd import unit_file
from hollow_chain.wording import lines

_PROTOCOLS = {"ListenStream": "tcp", "ListenDatagram": "udp"}
_LOCAL = ("ListenStream", "ListenDatagram", "ListenSequentialPacket")
_TRUE = ("1", "yes", "true", "on")
"""What counts as yes in a definition (systemd.syntax(7))."""
_MANAGER = 1
"""The process of the manager."""


def of_socket_unit(unit: Service, walker: Walker) -> list[Claim]:
    """The endpoints of a socket unit (systemd.socket(5))."""
    if unit.kind != "socket" or unit.definition is None:
        return []
    found: list[Claim] = []
    given = unit_file.read([unit.definition.file, *unit.definition.drop_ins], walker)
    words = {setting.name: setting.value for setting in given}
    for setting in given:
        protocol = _PROTOCOLS.get(setting.name)
        address, _, port = setting.value.rpartition(":")
        if protocol and not setting.value:
            found = [claim for claim in found if claim.protocol != protocol]
        elif protocol and port.isascii() and port.isdigit() and len(port) < 6 and int(port) < 65536:
            claim = Claim(
                port=int(port), protocol=protocol, address=address.strip("[]"), source=f"definition {setting.file}"
            )
            claim.reuse = words.get("ReusePort", "").lower() in _TRUE
            claim.v6_only = words.get("BindIPv6Only", "") == "ipv6-only"
            found.append(claim)
    return found


def add_paths(reading: HostReading) -> None:
    """Give every socket unit the sockets in the file system that it holds, where a service says that it called one in vain: each costs
    a file to read."""
    if not any(True for _ in lines.called_sockets(reading.host.events)):
        return

    def add_to(unit: Service) -> None:
        if unit.kind == "socket" and unit.definition is not None:
            given = unit_file.read([unit.definition.file, *unit.definition.drop_ins], reading.walker)
            unit.listens_at = _paths(given)

    reading.reached.each(add_to, reading.host.services)


def _paths(given: list[unit_file.Setting]) -> list[str]:
    paths: list[str] = []
    for setting in given:
        if setting.name in _LOCAL and not setting.value:
            paths = []
        elif setting.name in _LOCAL and setting.value.startswith("/"):
            paths.append(setting.value)
    return paths


def add_claims(reading: HostReading) -> None:
    """Give every socket unit the endpoints of its definition."""

    def add_to(unit: Service) -> None:
        unit.claims = unit.claims or of_socket_unit(unit, reading.walker)

    reading.reached.each(add_to, reading.host.services)


def name_holders(reading: HostReading) -> None:
    """The manager itself holds the sockets of socket units: name the unit, not process 1."""
    host = reading.host
    if not any(listener.process == _MANAGER for listener in host.listeners):
        return
    claims = reading.reached.each(lambda unit: of_socket_unit(unit, reading.walker), host.services)
    # Of two that name one endpoint, the one that is up has it.
    units = sorted(zip(host.services, claims, strict=True), key=lambda pair: pair[0].state == "running")
    holders = {(claim.protocol, claim.port): unit.name for unit, own in units for claim in own}
    for listener in host.listeners:
        if listener.process == _MANAGER or not listener.service:
            listener.service = holders.get((listener.protocol[:3], listener.port), listener.service)

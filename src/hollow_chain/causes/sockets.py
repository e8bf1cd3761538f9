"""Who listens where on one host, and who is set to: look-ups, each built when it is first used, in time linear in the host."""

from __future__ import annotations

from functools import cached_property

from hollow_chain.facts.endpoints import of_claim, of_listener, overlap
from hollow_chain.facts.host import OF_SOCKETS, Host, Listener
from hollow_chain.facts.service import Claim, Service
from hollow_chain.lazy import pattern
from hollow_chain.wording.lines import CONFIGURATION

_UDP = pattern(r"(?i)\budp[46]?\b")
_TCP = pattern(r"(?i)\b(?:tcp[46]?|https?)\b")


def claims_tcp(service: Service) -> list[Claim]:
    """The fixed TCP endpoints that a service is set to listen on."""
    return [c for c in service.claims if c.protocol[:3] == "tcp" and c.counts]


def _is_of(service: Service, claim: Claim) -> bool:
    """Whether a claim can be that of the service: where its definition names its settings, what else lies in their folder may be
    another program's."""
    named = [path for path in (service.program.paths if service.program else ()) if path.startswith("/etc/")]
    return not named or not claim.source.startswith(CONFIGURATION) or any(path in claim.source for path in named)


class Sockets:
    """The listening sockets of a host, by service and by port. All lists are in the order of the facts."""

    def __init__(self, host: Host) -> None:
        self._host = host

    @property
    def known(self) -> bool:
        """Whether a socket that the facts do not show can be taken for not being there."""
        host = self._host
        return host.sockets_read or (bool(host.listeners) and not any(u.part == OF_SOCKETS for u in host.unread))

    @cached_property
    def _places(self) -> tuple[dict[str, list[int]], dict[str, list[int]]]:
        """Where in the list the sockets of each service stand: its own, and those of a process that it shares."""
        own: dict[str, list[int]] = {}
        shared: dict[str, list[int]] = {}
        for place, listener in enumerate(self._host.listeners):
            own.setdefault(listener.service, []).append(place)
            for name in listener.shared_with:
                shared.setdefault(name, []).append(place)
            if not (listener.service or listener.process or listener.program):
                holder = self.likely_holder(listener)
                if holder is not None:
                    shared.setdefault(holder.name, []).append(place)
        return own, shared

    def likely_holder(self, listener: Listener) -> Service | None:
        """The one service that runs and is set to an endpoint, where the system does not tell whose the socket is."""
        place = of_listener(listener)
        for unsure in (False, True):
            found = [
                one
                for one in self._set_to.get(listener.port, ())
                if any(overlap(of_claim(c), place) for c in one.claims if not c.switched_off and c.unsure <= unsure)
            ]
            if found:
                return found[0] if len(found) == 1 else None
        return None

    @cached_property
    def _set_to(self) -> dict[int, list[Service]]:
        """The services that run, by the ports that they are set to."""
        found: dict[int, list[Service]] = {}
        for service in self._host.services:
            if service.state == "running":
                for port in dict.fromkeys(claim.port for claim in service.claims):
                    found.setdefault(port, []).append(service)
        return found

    def of(self, service: Service) -> list[Listener]:
        """The sockets that would answer for *service*: its own, those of a process that it shares, and of what triggers it."""
        own, shared = self._places
        places = {*own.get(service.name, ()), *shared.get(service.name, ())}
        for trigger in service.triggers:
            if trigger.kind == "socket":
                places.update(own.get(trigger.name, ()))
        return [self._host.listeners[place] for place in sorted(places)]

    @cached_property
    def _by_port(self) -> dict[int, list[Listener]]:
        found: dict[int, list[Listener]] = {}
        for listener in self._host.listeners:
            found.setdefault(listener.port, []).append(listener)
        return found

    def at(self, port: int) -> list[Listener]:
        """All sockets on a port, of any protocol and address."""
        return self._by_port.get(port, [])

    @cached_property
    def _claimants(self) -> dict[int, list[Service]]:
        found: dict[int, list[Service]] = {}
        for service in self._host.services:
            claims = [c for c in service.claims if c.unsure and c.protocol[:3] == "tcp"]
            for port in dict.fromkeys(claim.port for claim in (*claims_tcp(service), *claims)):
                found.setdefault(port, []).append(service)
        return found

    def claimants(self, port: int) -> list[Service]:
        """The services that are set to listen on a TCP port, or that name it so that this may be."""
        return self._claimants.get(port, [])

    @cached_property
    def _holders(self) -> dict[int, list[Service]]:
        found: dict[int, list[Service]] = {}
        for service in self._host.services:
            for port in dict.fromkeys(socket.port for socket in self.of(service) if socket.protocol[:3] == "tcp"):
                found.setdefault(port, []).append(service)
        return found

    def holders(self, port: int) -> list[Service]:
        """The services whose sockets answer on a TCP port."""
        return self._holders.get(port, [])

    def unheld_claims(self, service: Service) -> list[Claim]:
        """Claims of a running service that no socket of the host is behind; empty where the sockets are not known."""
        if not self.known:
            return []
        # A setting seldom says which protocol it is about: a socket of its own on that port will be what is meant.
        own = {socket.port for socket in self.of(service)}
        claimed = [c for c in claims_tcp(service) if (c.address or c.port not in own) and _is_of(service, c)]
        return [c for c in claimed if not any(overlap(of_claim(c), of_listener(s)) for s in self.at(c.port))]


def among_arguments(service: Service) -> list[int]:
    """The one number among the arguments that may be its port; empty where there is none, or more than one."""
    words = service.program.arguments[1:] if service.program is not None else []
    numbers = {int(word) for word in words if word.isascii() and word.isdigit() and len(word) <= 5}
    ports = [number for number in numbers if 0 < number < _PORTS]
    return ports if len(ports) == 1 else []


_PORTS = 1 << 16
"""Ports are numbers of 16 bits (RFC 9293, section 3.1)."""


def protocol_in(text: str) -> str:
    """The protocol that a line speaks of; TCP where it speaks of none."""
    return "udp" if _UDP.search(text) else "tcp"


def protocol_is_said(text: str) -> bool:
    """Whether a line says which protocol it is about."""
    return _UDP.search(text) is not None or _TCP.search(text) is not None

"""Needs that lead to another host: whether somebody listens there, on which addresses, through which firewalls, and whether a call was
answered."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.causes import Facts
from hollow_chain.causes.port.path import blocked_by, on_the_way
from hollow_chain.causes.sockets import claims_tcp
from hollow_chain.chain.graph import Node
from hollow_chain.facts.endpoints import is_loopback
from hollow_chain.facts.host import Listener, Probe


class WayToPort(NamedTuple):
    """A port of a server, as its client sees it."""

    port: int
    listens: tuple[Listener, ...]
    """The sockets of the server on that port; none: nobody listens."""
    walls: tuple[str, ...]
    """The firewalls on the way that are known."""
    blocked_by: str
    """The one of them that does not let it through; empty: none does not."""
    probes: tuple[Probe, ...]

    @property
    def open_to_others(self) -> bool:
        """Whether it listens on more than its own host's loopback."""
        return any(not is_loopback(one.address) for one in self.listens)


class Crossing(NamedTuple):
    """A need that leads from a service of one host to one of another."""

    client: Node
    server: Node
    is_read: bool
    """Whether facts of the other host are here."""
    ports: tuple[WayToPort, ...]

    @property
    def well(self) -> bool:
        """Whether, as far as can be seen, the client gets through to all that the server offers to others."""
        return self.is_read and all(
            one.open_to_others and not one.blocked_by and _answered(one.probes) for one in self.ports
        )


def _answered(probes: tuple[Probe, ...]) -> bool:
    return all(one.came_to in ("answered", "not tried") for one in probes)


def crossings(facts: Facts) -> list[Crossing]:
    """All needs that lead to another host, in the order of the hosts."""
    return list(_crossings(facts))


def _crossings(facts: Facts) -> Iterator[Crossing]:
    graph = facts.graph
    for host in graph.hosts.values():
        for service in host.services:
            if not any(link.host and link.host != host.name for link in service.links):
                continue
            for edge in graph.needs(graph.node(host.name, service.name)):
                if edge.crosses:
                    ports = tuple(_ways(facts, edge.tail, edge.head)) if edge.head.host in graph.hosts else ()
                    yield Crossing(edge.tail, edge.head, edge.head.host in graph.hosts, ports)


def _ways(facts: Facts, client: Node, server: Node) -> Iterator[WayToPort]:
    """The TCP ports that the server listens on, or that it is set to."""
    if server.service is None:
        return
    own = [s for s in facts.index(server.host).sockets.of(server.service) if s.protocol[:3] == "tcp"]
    ports = [s.port for s in own] or [claim.port for claim in claims_tcp(server.service)]
    graph = facts.graph
    for port in sorted(set(ports)):
        stops = blocked_by(graph, client.host, server.host, port)
        yield WayToPort(
            port,
            tuple(one for one in own if one.port == port),
            tuple(wall.name for wall in on_the_way(graph, client.host, server.host)),
            stops[0].name if stops is not None else "",
            tuple(
                one
                for one in graph.document.probes
                if (one.to, one.port) == (server.host, port) and one.source in ("", client.host)
            ),
        )

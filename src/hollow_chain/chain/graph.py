"""The dependency graph over the facts of one or several hosts.

Direction is spoken in two words only: a service *needs* what its links point at, and is *needed by* whatever
points at it. Nothing is copied: the graph indexes the facts and works out each neighborhood when it is asked.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from hollow_chain.facts.host import Host, Snapshot
from hollow_chain.facts.service import Link, LinkKind, SeatWant, Service
from hollow_chain.families import family_of

ALL_KINDS: frozenset[LinkKind] = frozenset(("hard", "soft", "order", "clash"))
NEEDS: frozenset[LinkKind] = frozenset(("hard", "soft"))
HARD: frozenset[LinkKind] = frozenset(("hard",))


SEATS = "seats of"
"""The word of a link to a license server."""
Key = tuple[str, str]
"""Host and name: what tells a node from all others."""


class Node(NamedTuple):
    """A name on a host. ``service`` is None where nothing of that name is registered there."""

    host: str
    name: str
    service: Service | None

    @property
    def key(self) -> tuple[str, str]:
        """What tells this node from all others."""
        return self.host, self.name


class Edge(NamedTuple):
    """A link with the nodes at both of its ends: ``tail`` needs ``head``."""

    tail: Node
    link: Link
    head: Node

    @property
    def crosses(self) -> bool:
        """Whether it leads to another host."""
        return self.tail.host != self.head.host


class Graph:
    """All hosts of a snapshot in one graph."""

    def __init__(self, document: Snapshot) -> None:
        self.document = document
        self.hosts: dict[str, Host] = {host.name: host for host in document.hosts}
        self._names: dict[str, dict[str, Service]] = {}
        self._folded: dict[str, dict[str, Service]] = {}
        self._back: dict[LinkKind, dict[Key, list[tuple[str, Service, Link]]]] = {}
        self._needs: dict[tuple[Key, frozenset[LinkKind]], list[Edge]] = {}
        self._tangled: dict[tuple[str, LinkKind], frozenset[str]] = {}

    def host_named(self, name: str) -> Host | None:
        """The host of that name, in any case of letters; a name without its domain finds the one host it fits."""
        if name in self.hosts:
            return self.hosts[name]
        folded = name.casefold()
        close = [h for n, h in self.hosts.items() if n.casefold() == folded]
        close = close or [
            h for n, h in self.hosts.items() if n.casefold().partition(".")[0] == folded.partition(".")[0]
        ]
        return close[0] if len(close) == 1 else None

    def names(self, host: str) -> dict[str, Service]:
        """Every registered name and alias of *host*."""
        known = self._names.get(host)
        if known is None:
            owner = self.hosts.get(host)
            known = {s.name: s for s in owner.services} if owner else {}
            for service in owner.services if owner else ():
                for alias in service.aliases:
                    known.setdefault(alias, service)
            self._names[host] = known
        return known

    def find(self, host: str, name: str) -> Service | None:
        """The service registered on *host* under that name or alias.

        Names of the control-manager family do not tell upper from lower case; systemd's do.
        """
        found = self.names(host).get(name)
        if found is not None:
            return found
        owner = self.hosts.get(host)
        if owner is None or not family_of(owner).letters_alike:
            return None
        folded = self._folded.get(host)
        if folded is None:
            folded = self._folded[host] = {n.casefold(): s for n, s in self.names(host).items()}
        return folded.get(name.casefold())

    def node(self, host: str, name: str) -> Node:
        """The node of that name; it exists even where the service does not."""
        found = self.find(host, name)
        return Node(host, found.name if found else name, found)

    def head(self, tail_host: str, link: Link) -> Node:
        """The node that *link*, carried by a service of *tail_host*, points at."""
        if not link.host or link.host == tail_host:
            return self.node(tail_host, link.to)
        owner = self.host_named(link.host)
        return self.node(owner.name if owner else link.host, link.to)

    def links_of(self, host: str, service: Service) -> list[Link]:
        """The links that a service carries, and one to each license server that it wants seats of."""
        if not service.seats:
            return service.links
        return [*service.links, *(link for want in service.seats if (link := self._seat_link(host, want)) is not None)]

    def _seat_link(self, host: str, want: SeatWant) -> Link | None:
        owner = self.host_named(want.host) if want.host else self.hosts.get(host)
        server = want.server
        if not server and owner is not None:
            servers = [s.service for s in owner.license_servers if not want.port or s.port == want.port]
            server = servers[0] if servers else ""
        if not server:
            return None
        return Link(to=server, host=owner.name if owner is not None else want.host, word=SEATS, pulls=False)

    def needs(self, node: Node, kinds: Iterable[LinkKind] = NEEDS) -> list[Edge]:
        """The edges to what *node* needs, one for each pair of head and kind."""
        if node.service is None:
            return []
        wanted = kinds if isinstance(kinds, frozenset) else frozenset(kinds)
        known = self._needs.get((node.key, wanted))
        if known is None:
            seen: dict[tuple[str, str, str], Edge] = {}
            for link in self.links_of(node.host, node.service):
                if link.kind in wanted:
                    head = self.head(node.host, link)
                    seen.setdefault((head.host, head.name, link.kind), Edge(node, link, head))
            known = self._needs[node.key, wanted] = list(seen.values())
        return known

    def needed_by(self, node: Node, kinds: Iterable[LinkKind] = NEEDS) -> list[Edge]:
        """The edges from what needs *node*."""
        found: dict[tuple[str, str, str], Edge] = {}
        for kind in sorted(kinds):
            for host, service, link in self._backward(kind).get(node.key, ()):
                found.setdefault((host, service.name, kind), Edge(Node(host, service.name, service), link, node))
        return list(found.values())

    def _backward(self, kind: LinkKind) -> dict[Key, list[tuple[str, Service, Link]]]:
        """All links of one kind by what they point at; built once for each kind that is asked for."""
        back = self._back.get(kind)
        if back is None:
            back = self._back[kind] = {}
            for name, host in self.hosts.items():
                for service in host.services:
                    for link in self.links_of(name, service):
                        if link.kind == kind:
                            back.setdefault(self.head(name, link).key, []).append((name, service, link))
        return back

    def tangled(self, host: str, kind: LinkKind) -> frozenset[str]:
        """Names on *host* that may stand in a loop of links of one kind: all that do, and what lies between loops.

        What nothing leads to, or what leads nowhere, stands in no loop; it is peeled off, layer by layer (Kahn,
        "Topological sorting of large networks", 1962), in time linear in the links.
        """
        found = self._tangled.get((host, kind))
        if found is None:
            ahead = {
                service.name: [
                    head.name
                    for link in service.links
                    if link.kind == kind
                    and not (link.host and link.host != host)
                    and (head := self.find(host, link.to)) is not None
                ]
                for service in self.hosts[host].services
            }
            found = self._tangled[host, kind] = frozenset(_peeled(_turned(_peeled(ahead))))
        return found

    def nodes(self) -> Iterator[Node]:
        """Every registered service of every host."""
        for name, host in self.hosts.items():
            for service in host.services:
                yield Node(name, service.name, service)


def _peeled(ahead: dict[str, list[str]]) -> dict[str, list[str]]:
    """*ahead* without the names that nothing leads to, again and again until none is left."""
    count = dict.fromkeys(ahead, 0)
    for heads in ahead.values():
        for head in heads:
            count[head] += 1
    loose = [name for name, number in count.items() if not number]
    while loose:
        for head in ahead[loose.pop()]:
            count[head] -= 1
            if not count[head]:
                loose.append(head)
    return {name: [h for h in ahead[name] if count[h]] for name, number in count.items() if number}


def _turned(ahead: dict[str, list[str]]) -> dict[str, list[str]]:
    """The same links, each turned around."""
    back: dict[str, list[str]] = {name: [] for name in ahead}
    for name, heads in ahead.items():
        for head in heads:
            back[head].append(name)
    return back


def reach(start: Node, step: Callable[[Node], Iterable[Node]], depth: int | None = None) -> Iterator[tuple[Node, int]]:
    """Every node that repeated *step* leads to from *start*, nearest first, with its distance; each once."""
    seen = {start.key}
    level, distance = [start], 0
    while level and (depth is None or distance < depth):
        distance += 1
        below: list[Node] = []
        for node in level:
            for found in step(node):
                if found.key not in seen:
                    seen.add(found.key)
                    below.append(found)
                    yield found, distance
        level = below

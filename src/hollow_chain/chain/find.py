"""Finding services by what people remember of them: part of a name, first letters, program, port, description."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import msgspec

from hollow_chain.chain.graph import Graph, Node
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.lazy import pattern

# How good a match is: the lower the better. A near miss is an offer, not an answer.
EXACT, STEM, DISPLAY, START, INITIALS, PART, PROGRAM, PORT, DESCRIBED, NEAR = range(10)
REASONS = {
    EXACT: "name",
    STEM: "name",
    DISPLAY: "display name",
    START: "name begins so",
    INITIALS: "first letters",
    PART: "part of a name",
    PROGRAM: "program",
    PORT: "port",
    DESCRIBED: "description",
    NEAR: "near miss",
}
_WORD = pattern(r"[A-Z]?[a-z]+|[A-Z]+(?![a-z])|\d+")


class Match(msgspec.Struct, frozen=True):
    """A service that fits the words, how well, and by what."""

    node: Node
    rank: int
    score: float = 0.0

    @property
    def reason(self) -> str:
        """By what the service was found."""
        return REASONS[self.rank]

    @property
    def is_full(self) -> bool:
        """Whether the words are its whole name."""
        return self.rank <= DISPLAY


def search(graph: Graph, words: str, hosts: Iterable[str] | None = None) -> list[Match]:
    """All services that fit *words*, best first; where none does, the near misses."""
    wanted = " ".join(words.split()).casefold()
    places = [graph.hosts[name] for name in hosts] if hosts is not None else list(graph.hosts.values())
    if not wanted:
        return [Match(Node(h.name, s.name, s), EXACT) for h in places for s in h.services]
    found = [match for host in places for match in _on_host(host, wanted)]
    found.sort(
        key=lambda m: (
            m.rank,
            m.node.service is not None and m.node.service.kind != "service",
            len(m.node.name),
            m.node,
        )
    )
    return found or _near(places, wanted)


def best(matches: list[Match]) -> list[Match]:
    """The matches of the best rank; of several kinds of one name, the service."""
    if not matches or matches[0].rank == NEAR:
        return []
    top = [m for m in matches if m.rank == matches[0].rank]
    services = [m for m in top if m.node.service is not None and m.node.service.kind == "service"]
    plain = [m for m in services if m.node.service is not None and not m.node.service.template]
    return plain or services or top


def _on_host(host: Host, wanted: str) -> Iterator[Match]:
    by_port = _holders(host, wanted)
    for service in host.services:
        rank = rank_of(service, wanted)
        if rank is None and service.name in by_port:
            rank = PORT
        if rank is not None:
            yield Match(Node(host.name, service.name, service), rank)


def rank_of(service: Service, wanted: str) -> int | None:
    """How well a service fits what is *wanted*, in lower case; None where it does not."""
    name = service.name.casefold()
    names = [name, *(alias.casefold() for alias in service.aliases)]
    if wanted in names:
        return EXACT
    stems = [n.rpartition(".")[0] or n if n.endswith(_suffix(service)) else n for n in names]
    if wanted in stems:
        return STEM
    display = service.display_name.casefold()
    if display and wanted == display:
        return DISPLAY
    if any(stem.startswith(wanted) for stem in stems) or (display and display.startswith(wanted)):
        return START
    if 2 <= len(wanted) <= 8 and wanted in _initials(service):
        return INITIALS
    if any(wanted in n for n in names) or wanted in display:
        return PART
    program = service.program.path.replace("\\", "/").rpartition("/")[2].casefold() if service.program else ""
    if program and wanted in program:
        return PROGRAM
    if wanted in service.description.casefold() or _all_words(service, wanted):
        return DESCRIBED
    return None


def _suffix(service: Service) -> str:
    return f".{service.kind}"


def _initials(service: Service) -> set[str]:
    stem = service.name.removesuffix(_suffix(service))
    return {
        "".join(word[0] for word in _WORD.findall(text)).casefold()
        for text in (stem, service.display_name or service.description)
        if text
    }


def _all_words(service: Service, wanted: str) -> bool:
    text = " ".join((service.name, service.display_name, service.description, service.instance)).casefold()
    words = wanted.split()
    return len(words) > 1 and all(word in text for word in words)


def _holders(host: Host, wanted: str) -> set[str]:
    """Services that hold or claim the port, where *wanted* is one."""
    if not (wanted.isascii() and wanted.isdigit() and len(wanted) <= 5):
        return set()
    port = int(wanted)
    held = {listener.service for listener in host.listeners if listener.port == port and listener.service}
    return held | {s.name for s in host.services if any(c.port == port and not c.unsure for c in s.claims)}


def _near(places: list[Host], wanted: str) -> list[Match]:
    from hollow_chain.wording.near import nearest

    nodes = [Node(h.name, s.name, s) for h in places for s in h.services if s.kind in ("service", "socket", "timer")]
    names = [node.name.removesuffix(".service").casefold() for node in nodes]
    return [Match(nodes[one.place], NEAR, one.likeness) for one in nearest(wanted, names, 8, 68)]

"""What a service tried to reach, by its own words or those that the user saw, and which sockets would answer."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise
from typing import NamedTuple

from hollow_chain.causes.called import called_sockets
from hollow_chain.causes.case import SOCKETS, Case, Facts
from hollow_chain.causes.finding import FITS, HINT, SAID, Evidence
from hollow_chain.causes.sockets import Sockets
from hollow_chain.causes.standing import Standing
from hollow_chain.causes.words import came_to_nothing
from hollow_chain.chain.graph import Edge, Node
from hollow_chain.facts.endpoints import Endpoint, is_any, is_loopback, of_listener, overlap, plain
from hollow_chain.facts.host import Event, Host, Listener
from hollow_chain.facts.service import Link, LinkKind, Service
from hollow_chain.wording import lines
from hollow_chain.wording.closing import may_be_about
from hollow_chain.wording.complaints import is_source
from hollow_chain.wording.forms import says
from hollow_chain.wording.last_words import telling
from hollow_chain.wording.things import named_endpoints

USER = "what the user saw"
_LOCAL_WORDS = ("", "localhost")
_NEEDS: frozenset[LinkKind] = frozenset(("hard", "soft", "order"))


class Sought(NamedTuple):
    """An endpoint that did not answer."""

    host: str
    """The host of the facts that has the address."""
    address: str
    port: int
    event: Event
    by_setting: str = ""
    """The setting that sends it there, where the words do not say where."""

    def evidence(self, case: Case) -> Evidence:
        """The words that say so."""
        return case.quoted(self.event, HINT if self.event.source == USER else FITS if self.by_setting else SAID)


def sought(case: Case) -> list[Sought]:
    """Endpoints that the last failed try (or what the user saw) calls unreachable, on hosts that facts are here of."""
    known = case.facts.memory.get(("sought", case.node.key))
    if known is None:
        known = case.facts.memory["sought", case.node.key] = list(_sought(case))
    return known  # type: ignore[return-value]


def _sought(case: Case) -> Iterator[Sought]:
    if not case.registered:
        return
    events = _words(case)
    said = lines.saying(events, "unreached")
    named = list(lines.endpoints_in(said, events))
    for event, address, port in named:
        host = _owner(case, address)
        if host:
            yield Sought(host, address, port, event)
    if said and not named and not any(named_endpoints(event.text) for event in said):
        yield from _by_setting(case, said[-1])
    for event in said:
        for name, port in named_endpoints(event.text):
            owner = case.graph.host_named(name)
            own = case.host.local_names.get(name)
            if own is not None:
                yield Sought(case.node.host, own, port, event)
            elif owner is not None:
                yield Sought(owner.name, name, port, event)


def _by_setting(case: Case, event: Event) -> Iterator[Sought]:
    """Where its settings send it, of a complaint that does not say where: the one place of them at which nobody listens, or the one of
    these whose setting speaks of the same."""
    program = case.service.program
    found: dict[tuple[str, int], Sought] = {}
    for called in (program.calls if program is not None else None) or ():
        host = _owner(case, called.address)
        address = case.host.local_names.get(called.address, called.address)
        one = Sought(host, address, called.port, event, called.source)
        sockets = case.facts.index(host).sockets if host else None
        if (
            sockets is not None
            and sockets.known
            and not any(answers(s, one, case.node.host) for s in sockets.at(one.port))
        ):
            found.setdefault((host, one.port), one)
    meant = [one for one in found.values() if may_be_about(event.text, one.by_setting.partition(" in ")[0])]
    yield from next((chosen for chosen in (meant, list(found.values())) if len(chosen) == 1), ())


class Unanswered(NamedTuple):
    """A call that nobody took, and that leads to no service that is known here."""

    says: str
    evidence: Evidence
    does: str


def unanswered(case: Case) -> Unanswered | None:
    """What the last failed try called, by the words that it ended with, where the socket table shows that nobody listens there, and no
    service of the facts is set to it."""
    calls, sockets_called = sought(case), called_sockets(case)
    if any(_is_told_there(case, led) for led in leads_to(case.facts, case.node)):
        return None
    last_words = telling(case.told_events())
    for called in sockets_called:
        file = case.file(called.path)
        if called.event in last_words and file is not None and file.exists:
            return Unanswered(
                f"could not reach {called.path}: nobody listens behind it",
                case.seen(f"{called.path} is a socket, and no process has it", SOCKETS, bears=FITS),
                f"Start, or put right, what is to listen at {called.path}, or correct the path where {case.service.name} names it; "
                f"then start {case.service.name}.",
            )
    for one in calls:
        sockets = case.facts.index(one.host).sockets
        if one.event not in last_words or not sockets.known:
            continue
        if any(answers(s, one, case.node.host) for s in sockets.at(one.port)):
            continue
        others = [service for service in sockets.claimants(one.port) if service.name != case.node.name]
        if not all(_listens_elsewhere(sockets, service, one.port) for service in others):
            continue
        place = f"{one.address or one.host}:{one.port}"
        instead = "".join(
            f"; {s.name} listens on {', '.join(str(of_listener(x)) for x in sockets.of(s)[:3])}" for s in others[:2]
        )
        sent = f", to which it is sent by {one.by_setting}" if one.by_setting else ""
        return Unanswered(
            f"could not reach {place}{sent}: nothing listens there{instead}",
            case.seen(f"no socket on tcp port {one.port} of {one.host} that would answer, and no service known that is set to it",
                      SOCKETS, bears=HINT if one.by_setting else FITS),
            f"Start, or put right, what is to listen on {place}, or correct the address where {case.service.name} names it; "
            f"then start {case.service.name}.",
        )  # fmt: skip
    return _of_unknown_host(case, last_words)


def _is_told_there(case: Case, led: Led) -> bool:
    """Whether a call leads on to a service that is the reason: one that is not well, or lacks the listener that it is set to."""
    head = led.edge.head
    if not led.by_port:
        return not case.facts.standing(head).well
    host = case.graph.hosts.get(head.host)
    if (
        head.service is None
        or host is None
        or case.facts.standing(head) is not Standing.UP
        or deaf_for(case.facts, led.edge)
    ):
        return True
    return not _listens_elsewhere(case.facts.index(host.name).sockets, head.service, None)


def _listens_elsewhere(sockets: Sockets, service: Service, port: int | None) -> bool:
    """Whether a service runs and listens, but not on a port."""
    own = sockets.of(service)
    return service.state == "running" and bool(own) and port not in {one.port for one in own}


def _of_unknown_host(case: Case, last_words: list[Event]) -> Unanswered | None:
    """The same where what did not answer is of a host that no facts are here of."""
    said = [event for event in lines.saying(last_words, "unreached") if not says(event.text, "host away")]
    called = [(address, port) for _, address, port in lines.endpoints_in(said, case.own_events())]
    for event in said:
        # A place in the source of a program looks like a name with a port.
        called += [(name, port) for name, port in named_endpoints(event.text) if not is_source(name)]
    for address, port in called:
        name = address or next((name for event in said if (name := lines.host_in(event.text))), "")
        if not name or _owner(case, name) or case.graph.host_named(name) is not None:
            continue
        return Unanswered(
            f"could not reach {name}:{port}, which is on a host that no facts are here of",
            case.seen(f"no facts of {name} are here", "snapshot"),
            f"See on {name} whether what is to listen on port {port} is up, and whether a call from {case.node.host} gets through; or "
            f"correct the address where {case.service.name} names it; then start {case.service.name}.",
        )
    return None


def _words(case: Case) -> list[Event]:
    is_down = came_to_nothing(case) and not case.standing.well
    events = case.own_events() if is_down or (case.node.key == case.facts.asked and waits_in_vain(case)) else []
    at = case.host.read_at
    if case.facts.says and case.node.key == case.facts.asked and at is not None:
        events = [*events, Event(at=at, text=case.facts.says, service=case.node.name, source=USER)]
    return events


def waits_in_vain(case: Case) -> bool:
    """Whether it is up and has no socket at all, and what it says last, again and again until now, is that it could not reach another: so
    speaks who does not get on before that answers."""
    read_at = case.host.read_at
    is_asked = case.node.key == case.facts.asked and case.registered
    if not is_asked or case.state != "running" or case.service.kind != "service" or read_at is None:
        return False
    if not case.index.sockets.known or case.index.sockets.of(case.service):
        return False
    said = [event for event in case.own_events() if not event.by_manager][-_AGAIN:]
    if len(said) < _AGAIN or not all(says(event.text, "unreached") for event in said):
        return False
    pause = max((after.at - before.at).total_seconds() for before, after in pairwise(said))
    return (read_at - said[-1].at).total_seconds() <= _GONE_QUIET * pause + 1


_AGAIN = 3
"""How often it has to say so: once, and even twice, is what any start may meet."""
_GONE_QUIET = 3.0
"""Pauses between its last words after which it has not said it again: it may have got on."""


def _owner(case: Case, address: str) -> str:
    """The host of the facts that *address* belongs to; empty where none has it."""
    if address in _LOCAL_WORDS or is_loopback(address) or is_any(address):
        return case.node.host
    if address in case.host.local_names:
        return case.node.host
    wanted = plain(address)
    near = (case.host, *(h for h in case.graph.hosts.values() if h is not case.host))
    return next((host.name for host in near if any(plain(a) == wanted for a in host.addresses)), "")


def answers(listener: Listener, one: Sought, from_host: str) -> bool:
    """Whether *listener* would take a call to the sought endpoint, made on the host *from_host*."""
    if listener.port != one.port or listener.protocol[:3] != "tcp":
        return False
    if from_host != one.host and is_loopback(listener.address):
        return False
    if one.address in _LOCAL_WORDS or is_any(one.address) or one.address == one.host:
        return True
    try_at = Endpoint(one.port, "tcp", one.address)
    return overlap(try_at, of_listener(listener)) or not plain(one.address)[:1].isdigit()


def deaf_for(facts: Facts, edge: Edge) -> bool:
    """Whether the head of a need runs, but by the facts has no socket that its neighbor on this edge could reach."""
    head, host = edge.head.service, facts.graph.hosts.get(edge.head.host)
    if head is None or host is None or head.kind != "service":
        return False
    sockets = facts.index(host.name).sockets
    if sockets.unheld_claims(head) or any(c.switched_off for c in head.claims):
        return True
    own = [s for s in sockets.of(head) if s.protocol[:3] == "tcp"]
    return edge.crosses and bool(own) and all(is_loopback(s.address) for s in own)


class Led(NamedTuple):
    """An edge that a service's own words lead along."""

    edge: Edge
    by_port: bool
    """Whether the head is what has, or is set to have, the very port or socket."""
    event: Event
    """The words."""


def _servers(host: Host, claimant: Service) -> list[Service]:
    """Who is to answer where *claimant* is set to: of a socket unit that is down while its service runs, that service, which has to
    listen by itself."""
    if claimant.kind != "socket" or claimant.state == "running":
        return [claimant]
    named = f"{claimant.name.removesuffix('.socket')}.service"  # systemd.socket(5), "Service="
    runs = [s for s in host.services if s.state == "running"]
    behind = [s for s in runs if s.name == named or any(t.name == claimant.name for t in s.triggers)]
    return behind or [claimant]


def _named_as_down(case: Case) -> Iterator[Led]:
    """Services of its host of which its last words say that they do not run, and which do not. Worked out once."""
    about = "named as down", case.node.key
    known = case.facts.memory.get(about)
    if known is None:
        known = case.facts.memory[about] = list(_down_by_words(case)) if case.registered else []
    yield from known  # type: ignore[misc]


def _down_by_words(case: Case) -> Iterator[Led]:
    told = list(lines.told_down(_words(case)))
    last = telling(_words(case)) if told else []
    for event, name in told:
        if not any(event is one for one in last):
            continue
        service = case.graph.find(case.node.host, f"{name}.service") or case.graph.find(case.node.host, name)
        down = service is not None and service.kind == "service" and service.state in ("stopped", "failed")
        if service is not None and down and service.name != case.node.name:
            head = case.facts.graph.node(case.node.host, service.name)
            yield Led(
                Edge(case.node, Link(to=service.name, word="will not go without", pulls=False), head), True, event
            )


def leads_to(facts: Facts, node: Node) -> Iterator[Led]:
    """Edges from *node* to what its own words say that it could not reach, declared or not.

    A service that claims the endpoint; else what it is linked to on that host, as far as that does not run, or runs
    without such a socket.
    """
    case = Case(facts, node)
    for called in called_sockets(case):
        if called.server is not None:
            link = Link(to=called.server.name, word="calls a socket of", pulls=False)
            yield Led(Edge(node, link, called.server), True, called.event)
    yield from _named_as_down(case)
    for one in sought(case):
        sockets = facts.index(one.host).sockets
        if any(answers(listener, one, node.host) for listener in sockets.at(one.port)):
            continue
        claimants = [server for s in sockets.claimants(one.port) for server in _servers(facts.graph.hosts[one.host], s)]
        others = [s.name for s in (*sockets.holders(one.port), *claimants) if s.name != node.name]
        if others:
            for service in dict.fromkeys(others):
                head = facts.graph.node(one.host, service)
                yield Led(
                    Edge(node, Link(to=service, word=f"uses port {one.port} of", pulls=False), head), True, one.event
                )
            continue
        for edge in facts.graph.needs(node, _NEEDS):
            head_service = edge.head.service
            if edge.head.host == one.host and head_service is not None and head_service.kind in ("service", "socket"):
                yield Led(edge, False, one.event)

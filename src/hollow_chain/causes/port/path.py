"""The way from client to server: every declared firewall on it has to let the port through."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network

from hollow_chain.causes.case import SOCKETS, Case, Facts
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, PROOF, SAID, TELLS, Finding, Mend
from hollow_chain.causes.nature import Boot
from hollow_chain.causes.reached import sought
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.sockets import claims_tcp
from hollow_chain.causes.words import came_to_nothing
from hollow_chain.chain.graph import Edge, Graph, Node
from hollow_chain.facts.endpoints import is_loopback
from hollow_chain.facts.host import Firewall, FirewallRule, Listener
from hollow_chain.facts.service import Confinement
from hollow_chain.wording import lines
from hollow_chain.wording.things import addresses_in

_Address = IPv4Address | IPv6Address
_Network = IPv4Network | IPv6Network


def on_the_way(graph: Graph, client: str, server: str) -> Iterator[Firewall]:
    """The declared firewalls that stand between two hosts: those that name both, and the server's own."""
    for wall in graph.document.firewalls:
        if client in wall.between and server in wall.between:
            yield wall
    host = graph.hosts.get(server)
    yield from (wall for wall in (host.firewalls if host else ()) if not wall.between or client in wall.between)


def stops(
    wall: Firewall, port: int, client: str, server: str, addresses: tuple[str, ...] = (), program: str = ""
) -> FirewallRule | bool:
    """The rule of *wall* that stops a call, or True where nothing passes it by default; False where it passes."""
    for rule in wall.rules:
        if rule.program and rule.program.replace("/", "\\").casefold() != program.replace("/", "\\").casefold():
            continue
        fits = rule.first_port <= port <= rule.last_port and rule.protocol[:3] in ("", "any", "tcp")
        from_here = rule.source in ("", "any", client, *addresses)
        if fits and from_here and rule.to in ("", "any", server):
            return False if rule.passes else rule
    return not wall.passes_by_default


def blocked_by(
    graph: Graph, client: str, server: str, port: int, program: str = ""
) -> tuple[Firewall, FirewallRule | None] | None:
    """The first firewall on the way that stops calls to *port*, with its rule where one does."""
    host = graph.hosts.get(client)
    for wall in on_the_way(graph, client, server):
        stopped = stops(wall, port, client, server, tuple(host.addresses) if host else (), program)
        if stopped:
            return wall, stopped if isinstance(stopped, FirewallRule) else None
    return None


def is_blocked(facts: Facts, edge: Edge) -> bool:
    """Whether some declared firewall stops calls over *edge*, which leads to another host, or calls that were tried came to nothing."""
    graph, head = facts.graph, edge.head
    if not graph.document.firewalls and not graph.hosts[head.host].firewalls and not graph.document.probes:
        return False
    return head.service is not None and any(True for _ in path_blocked(Case(facts, head, needed_from=edge.tail)))


def _network_of_its_own(case: Case) -> Iterator[Finding]:
    """Its definition gives it a network in which nobody else is, and it could not reach somebody (systemd.exec(5), "PrivateNetwork=")."""
    confinement = case.service.confinement
    said = lines.saying(case.own_events(), "unreached", "host away") if came_to_nothing(case) else []
    if confinement is None:
        return
    if not confinement.private_network:
        yield from _calls_forbidden(case, confinement)
        return
    if not said:
        return
    name = case.node.name
    yield Finding(
        says=f"{name} cannot reach anybody: its definition gives it a network of its own.",
        evidence=(
            case.quoted(said[-1], FITS),
            case.seen(
                f"PrivateNetwork= is set for {name}: in its network there is nothing but its own loopback",
                "definition",
                bears=SAID,
            ),
        ),
        mends=(
            Mend(
                f"Take PrivateNetwork= out of the definition of {name}, or have the manager hand it the sockets.",
                AFTER_RELOAD,
            ),
        ),
        explains=("exits-with-error", "exits-at-once", "crash-loop", "host-unreachable", "start-race"),
    )


def _calls_forbidden(case: Case, confinement: Confinement) -> Iterator[Finding]:
    """Its definition lets it call only some addresses, and it got no answer: from one that is not among them, or from nobody
    (systemd.resource-control(5), "IPAddressDeny="). What is dropped there is not refused: it ends in silence."""
    closed, opened = _networks(confinement.no_calls_to), _networks(confinement.calls_to)
    said = lines.saying(case.own_events(), "unreached", "host away", "silent") if came_to_nothing(case) else []
    if not closed or not said:
        return
    called = {ip_address(text) for one in said for text in addresses_in(one.text)}
    barred = [one for one in called if _lies_in(one, closed) and not _lies_in(one, opened)]
    if called and not barred:
        return
    name, whom = case.node.name, str(min(barred, key=str)) if barred else ""
    allowed = ", ".join(map(str, opened[:6])) or "none"
    told = f"IPAddressDeny= of {name}: {', '.join(map(str, closed[:6]))}; let through (IPAddressAllow=): {allowed}"
    yield Finding(
        says=f"{name} may not call {whom or 'whom it calls'}: its definition lets it call only some addresses.",
        evidence=(
            case.quoted(said[-1], FITS),
            # Whom it called is not told: it may be one that is let through.
            case.seen(told, "definition", bears=SAID if barred or (not opened and set(map(str, closed)) >= _ALL) else TELLS),
        ),
        mends=(Mend(f"Let {name} call that one address (IPAddressAllow= of its definition), and nothing more.", AFTER_RELOAD),),
        explains=("exits-with-error", "exits-at-once", "crash-loop", "host-unreachable", "start-race", "start-timeout"),
    )  # fmt: skip


_ALL = {"0.0.0.0/0", "::/0"}


_MOST_NETWORKS = 200
"""Networks of a list that are read: a snapshot may hold any number of them."""


def _networks(texts: list[str] | None) -> list[_Network]:
    """The networks that a list of the facts names; what is none is left out."""
    found = []
    for text in (texts or [])[:_MOST_NETWORKS]:
        with suppress(ValueError):
            found.append(ip_network(text, strict=False))
    return found


def _lies_in(address: _Address, networks: list[_Network]) -> bool:
    return any(address in one for one in networks if one.version == address.version)


def _dropped(case: Case, above: Node, own: list[Listener]) -> Iterator[Finding]:
    """It listens for others, and calls that were tried from the host that needs it come to nothing: something on the way drops them,
    whether or not anybody has declared it."""
    ports = {one.port for one in own}
    calls = [
        one
        for one in case.graph.document.probes
        if one.to == case.node.host and one.port in ports and one.source == above.host
    ]
    dropped = [one for one in calls if one.came_to == "no answer"]
    if not dropped or len(dropped) < len(calls):
        return
    one = dropped[0]
    yield Finding(
        says=f"{case.node.name} runs and listens on port {one.port}, but a call from {above.host} to {case.node.host} gets no answer: "
        "something on the way drops it.",
        evidence=(
            case.seen(f"a call from {above.host} to {one.address}:{one.port} came to nothing: {one.why}", "probe", bears=PROOF),
            case.seen(f"sockets of {case.node.name}: {', '.join(f'port {s.port}' for s in own)}",
                      SOCKETS, bears=FITS),
        ),
        mends=(Mend(f"Look for what drops calls to port {one.port} from {above.host}: the packet filter of {case.node.host}, then what "
                    "stands between; let that one port through, and nothing more.", seeks=True),),
        explains=("exits-with-error", "exits-at-once", "crash-loop", "start-timeout", "host-unreachable"),
    )  # fmt: skip


@cause("path-blocked", Boot.STAYS, states=("running", *NOT_UP))
def path_blocked(case: Case) -> Iterator[Finding]:
    """It runs and listens, but a firewall between client and server does not let its port through.

    Looks at: the declared firewalls between the host that needs it and its own, their rules in order; its sockets; calls that were tried
    (``--probe``).
    Convinced by: a rule (or the default) of a firewall on the way that stops the port; a call from the host that needs it that nothing
    answers.
    Against: a port that passes; a service that does not listen.
    Mend: let that one port through, at the firewall that is named.
    """
    above = case.needed_from
    if case.standing.well is False:
        yield from _network_of_its_own(case)
    if above is None or above.host == case.node.host or not case.standing.well:
        return
    own = [s for s in case.index.sockets.of(case.service) if s.protocol[:3] == "tcp" and not is_loopback(s.address)]
    ports = list(dict.fromkeys([s.port for s in own] or [c.port for c in claims_tcp(case.service)]))
    called = [one for one in sought(Case(case.facts, above)) if one.host == case.node.host]
    ports = [one.port for one in called if one.port in ports] or ports
    program = case.service.program.path if case.service.program is not None else ""
    found = [(port, blocked_by(case.graph, above.host, case.node.host, port, program)) for port in ports]
    blocked = [(port, by) for port, by in found if by is not None]
    if not blocked or len(blocked) < len(found):
        yield from _dropped(case, above, own)
        return
    port, (wall, rule) = blocked[0]
    why = "a rule of its own" if rule else "its default: no rule lets it through"
    yield Finding(
        says=f"{case.node.name} runs and listens on port {port}, but {wall.name} between {above.host} and {case.node.host} "
        "does not let it through.",
        evidence=(
            *(one.evidence(case) for one in called[:1]),
            case.seen(f"{wall.name} stops port {port} by {why}", "firewall", bears=PROOF if called else SAID),
            case.seen(f"sockets of {case.node.name}: {', '.join(f'port {s.port}' for s in own) or 'not known'}", SOCKETS, bears=FITS),
        ),
        mends=(Mend(f"Let port {port} from {above.host} to {case.node.host} through at {wall.name}, and nothing more."),),
        holder=wall.name,
    )  # fmt: skip

"""After a mend: the whole list of what has to hold, looked at one by one."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import msgspec

from hollow_chain.boot.making import UP
from hollow_chain.causes import Facts, Standing
from hollow_chain.causes.words import span
from hollow_chain.chain import Graph, Node
from hollow_chain.chain.graph import SEATS
from hollow_chain.facts.endpoints import of_claim, of_listener, overlap
from hollow_chain.facts.host import Host, Snapshot
from hollow_chain.facts.service import Service
from hollow_chain.mend.proving import BOOTS_ITSELF, ENOUGH
from hollow_chain.mend.supposing import Copy, Expectations, Runs
from hollow_chain.verdict import Verdict, diagnose

if TYPE_CHECKING:
    from hollow_chain.mend.hands import Hands
    from hollow_chain.mend.journal import Record


@dataclass(frozen=True)
class Check:
    """One thing that has to hold, and what was seen."""

    name: str
    well: bool
    says: str


def checks_of(hands: Hands, head: Record, watch: float, tell: Callable[[str], None]) -> list[Check]:
    """All checks of the target of a mend on its host; *watch* seconds lie between the first look and the last."""
    if head.does in ("unregister", "edit"):
        return [_defined_so(hands, head)]
    if head.does == "register" and not any(s.act and s.act.verb == "start" for one in head.tries for s in one):
        return [_defined_so(hands, head)]  # it is to be started by hand
    first = Facts(Graph(hands.facts())).graph.find(hands.host, head.target)
    tell(f"watching for {watch:g} s whether it stays")
    hands.let_pass(watch)
    facts = Facts(Graph(hands.facts(with_claims=True)))
    node = facts.graph.node(hands.host, head.target)
    verdict = diagnose(facts, node)
    found = [_running(facts, node)]
    if node.service is not None and first is not None:
        if (
            first.state in UP or node.service.startup != "event"
        ):  # what an event starts may come up between the two looks
            found.append(_stays(first, node.service, watch))
        if not head.ports:
            found += _ports(facts.graph.hosts[hands.host], node.service)
        found += _wished_ports(facts.graph.hosts[hands.host], node.service, head.ports)
    found += _dependents(facts, hands.host, head.dependents)
    for host in dict.fromkeys(host for host, _ in head.dependents_at):
        found += _dependents(facts, host, [name for at, name in head.dependents_at if at == host])
    found.append(_no_cause(verdict))
    found += _licenses(facts, verdict, node)
    if not head.now_only:
        found += _after_reboot(Facts(Graph(_without_old_failures(facts, head))), node)
    return found


def _defined_so(hands: Hands, head: Record) -> Check:
    """Whether the manager knows of what was asked for."""
    service = Facts(Graph(hands.facts())).graph.find(hands.host, head.target)
    gone = service is None or (service.definition is not None and service.definition.load == "missing")
    if service is not None and service.template_of:  # its template stays, and so does its name
        gone = service.state not in UP and service.startup not in ("automatic", "delayed")
    if head.does == "unregister":
        says = f"the service manager {'no longer knows' if gone else 'still knows'} {head.target}"
        return Check("registered", gone, says)
    stale = gone or (service is not None and service.definition is not None and service.definition.needs_reload)
    return Check(
        "registered",
        not stale,
        f"the service manager has {'an older definition' if stale else 'the new definition'} of {head.target}",
    )


def _without_old_failures(facts: Facts, head: Record) -> Snapshot:
    """The facts without the starts that failed before the mend: they were of what is mended."""
    document = facts.graph.document

    def since(service: Service) -> Service:
        kept = [one for one in service.starts if one.outcome == "up" or head.read_at is None or one.at > head.read_at]
        return service if len(kept) == len(service.starts) else msgspec.structs.replace(service, starts=kept)

    hosts = [msgspec.structs.replace(host, services=[since(one) for one in host.services]) for host in document.hosts]
    return msgspec.structs.replace(document, hosts=hosts)


def _is_up(facts: Facts, node: Node) -> bool:
    service = node.service
    if service is None:
        return False
    if service.state in UP:
        return facts.standing(node) is not Standing.UNSTABLE
    return _has_done_its_work(service) or (service.startup == "event" and facts.standing(node).well)


def _has_done_its_work(service: Service) -> bool:
    """Whether it is meant to end and ended well (systemd.service(5), "oneshot")."""
    program, last = service.program, service.last
    once = program is not None and program.style == "oneshot" and not program.stays
    return once and service.state == "stopped" and last is not None and last.result == "success"


def _running(facts: Facts, node: Node) -> Check:
    state = node.service.state if node.service is not None else "not registered"
    more = "" if node.service is None or node.service.state in UP else f" (startup type {node.service.startup})"
    return Check("running", _is_up(facts, node), f"{node.name} is {state}{more}")


def _stays(first: Service, then: Service, watch: float) -> Check:
    """No restart, no new run, since the first look."""
    one, other = first.last, then.last
    same = first.state == then.state and (one is None or other is None or one.started_at == other.started_at)
    same = same and (other.restarts if other else 0) <= (one.restarts if one else 0)
    return Check(
        "stays",
        same,
        f"{then.name} {'is still in the same run' if same else 'ended or began anew'} after {span(watch)}",
    )


def _ports(host: Host, service: Service) -> Iterator[Check]:
    own = {service.name, *(trigger.name for trigger in service.triggers)}
    if not host.sockets_read or service.state not in UP:
        return
    claims = [of_claim(c) for c in service.claims if c.counts]
    any_held = any(s.service in own and overlap(claim, of_listener(s)) for claim in claims for s in host.listeners)
    for claim in dict.fromkeys(claims):
        holders = {s.service or s.program for s in host.listeners if overlap(claim, of_listener(s))}
        if holders & own:
            yield Check("port", True, f"{claim} is held by it")
        elif "" in holders:  # it runs, so that it is its own as far as can be seen
            yield Check("port", True, f"{claim} is held; this system does not tell by whom")
        elif holders:
            yield Check("port", False, f"{claim} is held by {', '.join(sorted(holders))}")
        else:  # a configuration may name more than it uses; what is not known to be wanted is not called missing
            yield Check("port", any_held, f"{claim} is held by nobody")


def _wished_ports(host: Host, service: Service, ports: list[int]) -> Iterator[Check]:
    """Whether it holds the ports that it was said to listen on."""
    own = {service.name, *(trigger.name for trigger in service.triggers)}
    for port in ports if host.sockets_read else ():
        holders = {s.service or s.program for s in host.listeners if s.port == port}
        if holders & own:
            yield Check("port", True, f"port {port} is held by it")
        elif "" in holders:  # nobody held it before: the plan was made for that
            yield Check("port", True, f"port {port} is held; this system does not tell by whom")
        else:
            yield Check("port", False, f"port {port} is held by {', '.join(sorted(holders)) or 'nobody'}")


def _dependents(facts: Facts, host: str, names: list[str]) -> Iterator[Check]:
    nodes = [facts.graph.node(host, name) for name in names]
    down = [node.name for node in nodes if not _is_up(facts, node)]
    if nodes:
        yield Check("dependents", not down, f"down: {', '.join(down)}" if down else f"back: {', '.join(names)}")


def _no_cause(verdict: Verdict) -> Check:
    left = [c for c in verdict.causes if c.confidence >= 0.5]
    words = f"{left[0].finding.cause}: {left[0].finding.says}" if left else "no cause is left"
    return Check("cause", not left, words)


def _licenses(facts: Facts, verdict: Verdict, node: Node) -> Iterator[Check]:
    """The license servers on this host that the target takes seats from, or that it is."""
    graph = facts.graph
    wanted = {edge.head.key for edge in graph.needs(node) if edge.link.word == SEATS} | {node.key}
    for host in graph.hosts.values():
        for server in host.license_servers:
            if (host.name, server.service) in wanted and server.answers is not None:
                yield Check(
                    "license", server.answers, f"{server.service} {'answers' if server.answers else 'does not answer'}"
                )


def _after_reboot(facts: Facts, node: Node) -> Iterator[Check]:
    service = node.service
    if service is None or service.startup not in BOOTS_ITSELF or service.kind in ("device",):
        return
    known = Expectations(facts, [node.host])
    share, _, many = known.together(Copy(known).boot_plan(node.host), [service.name], ENOUGH, Runs())
    yield Check("reboot", share >= ENOUGH, f"after a reboot {service.name} is up in {share:.1%} of {many} rehearsals")

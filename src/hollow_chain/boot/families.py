"""The next boot of a host, by the rules of its family."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import msgspec
from msgspec.structs import replace

from hollow_chain.boot import control_rules, systemd_rules
from hollow_chain.boot.expectations import expected_of
from hollow_chain.boot.making import UP, Expected
from hollow_chain.boot.plan import BootPlan
from hollow_chain.causes import Facts, Standing
from hollow_chain.chain import Graph, Node
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.families import CONTROL, SYSTEMD

RULES: dict[str, Callable[[Graph, Host, Expected], BootPlan]] = {
    SYSTEMD.name: systemd_rules.plan_of,
    CONTROL.name: control_rules.plan_of,
}

RULES_OF_A_START: dict[str, Callable[[Graph, Host, Expected, Service], BootPlan]] = {
    SYSTEMD.name: systemd_rules.plan_of_start,
    CONTROL.name: control_rules.plan_of_start,
}


def foreseen(facts: Facts, host: Host) -> Expected:
    """What is to be expected of the next boot of *host* as it is: its faults, and how long its starts take alone."""
    from hollow_chain.boot.calibrate import calibrate

    expected = expected_of(facts, host)
    calibrate(plan_of(facts.graph, host, expected), host, expected)
    return expected


def as_it_stands(facts: Facts, hosts: Iterable[str]) -> Graph:
    """A copy of the facts, in which *hosts* can be changed: what keeps ending is not up there, whatever state it is in at this moment.

    All that rehearses begins with it, so that one question has one answer.
    """
    wanted = frozenset(hosts)

    def settled(host: str, service: Service) -> Service:
        keeps_ending = facts.standing(Node(host, service.name, service)) is Standing.UNSTABLE
        return msgspec.structs.replace(service, state="failed") if keeps_ending else service

    document = facts.graph.document
    copies = [
        msgspec.structs.replace(host, services=[settled(host.name, one) for one in host.services])
        if host.name in wanted
        else host
        for host in document.hosts
    ]
    return Graph(msgspec.structs.replace(document, hosts=copies))


def plan_of(graph: Graph, host: Host, expected: Expected) -> BootPlan:
    """The next boot of *host*, with what is expected of it."""
    return RULES[host.manager](graph, host, expected)


def plan_of_start(graph: Graph, host: Host, expected: Expected, service: Service) -> BootPlan:
    """A start of *service* on the running *host*, with all that it pulls in. What it uses and what is up by now is not raced for."""
    up = {one.name for one in host.services if one.state in UP}
    uses = {name: [used for used in many if used not in up] for name, many in expected.uses.items()}
    return RULES_OF_A_START[host.manager](graph, host, replace(expected, uses=uses), service)

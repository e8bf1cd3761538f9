"""The services that a unit starts on its event, where it is they that come to nothing."""

from __future__ import annotations

from hollow_chain.causes import Facts
from hollow_chain.causes.standing import GAVE_UP_OVER
from hollow_chain.causes.words import run_seconds
from hollow_chain.chain import Edge, Node
from hollow_chain.facts.service import Link
from hollow_chain.families.times import ENDED_AT_ONCE


def gave_up_over(facts: Facts, node: Node) -> list[Edge]:
    """The services that a unit starts on its event, and that failed so often that it gave up."""
    last = node.service.last if node.service is not None else None
    if last is None or last.result not in GAVE_UP_OVER:
        return []
    host = facts.graph.hosts[node.host]
    failed = [
        s for s in host.services if s.state in ("failed", "starting") and any(t.name == node.name for t in s.triggers)
    ]
    heads = [facts.graph.node(node.host, s.name) for s in failed]
    return [Edge(node, Link(to=head.name, word="starts on its event", pulls=False), head) for head in heads]


_IN_A_ROW = 2
"""Connections in vain from which on not a client is to blame, but what is to serve them."""


def fails_each_connection(facts: Facts, node: Node) -> list[Edge]:
    """Of a socket that was asked about and starts an instance for each connection (systemd.socket(5), "Accept="): the last of these, where
    several ended badly right after their start, and none runs."""
    service = node.service
    if service is None or service.kind != "socket" or node.key != facts.asked:
        return []
    started = [
        s
        for s in facts.graph.hosts[node.host].services
        if s.instance and s.last is not None and any(t.name == node.name for t in s.triggers)
    ]
    in_vain = [s for s in started if s.state == "failed" and (run_seconds(s) or 0.0) < ENDED_AT_ONCE]
    if len(in_vain) < _IN_A_ROW or any(s.state in ("running", "starting") for s in started):
        return []
    last = max(in_vain, key=lambda s: (s.last.ended_at.timestamp() if s.last and s.last.ended_at else 0.0, s.name))
    head = facts.graph.node(node.host, last.name)
    return [Edge(node, Link(to=head.name, word="starts for each connection", pulls=False), head)]

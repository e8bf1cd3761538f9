"""The walk down the chain: which needs are hollow for whom, and what the rules find on the way."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import timedelta
from functools import cached_property
from typing import NamedTuple, cast

import msgspec

from hollow_chain.causes import Case, Facts, Finding, Standing, by_number, rules_for
from hollow_chain.causes.case import UNIT_TRIGGERS
from hollow_chain.causes.finding import Evidence
from hollow_chain.causes.order.queue import behind, holds_up
from hollow_chain.causes.port.path import is_blocked
from hollow_chain.causes.reached import deaf_for, leads_to
from hollow_chain.causes.standing import failed_last, skipped
from hollow_chain.causes.words import started_since_boot
from hollow_chain.chain import HARD, NEEDS, Edge, Node, knots, reach
from hollow_chain.chain.graph import SEATS
from hollow_chain.facts.service import Link, Service
from hollow_chain.families.base_system import is_base
from hollow_chain.verdict.on_event import fails_each_connection, gave_up_over
from hollow_chain.wording import lines

Key = tuple[str, str]
_ALWAYS_THERE = (".slice", ".scope")
_MUST_BE_UP = ("Requisite", "BindsTo")
"""Links that a skipped start condition below does not satisfy (systemd.unit(5))."""


class Walked(msgspec.Struct, dict=True):
    """What was found below one target: findings by node, in deepest-first order, and the way to each node."""

    target: Node
    order: list[Node] = msgspec.field(default_factory=list)
    findings: dict[Key, list[Finding]] = msgspec.field(default_factory=dict)
    came_from: dict[Key, Node] = msgspec.field(default_factory=dict)
    below: dict[Key, list[Key]] = msgspec.field(default_factory=dict)
    hollow: set[Key] = msgspec.field(default_factory=set)
    """Nodes that are an obstacle themselves; the others were only passed on the way."""
    unknown_hosts: dict[str, Edge] = msgspec.field(default_factory=dict)

    @cached_property
    def nodes(self) -> dict[Key, Node]:
        """The nodes by key."""
        return {node.key: node for node in self.order}

    def chain_to(self, node_key: Key) -> list[Node]:
        """The way from the target down to a node, both included."""
        way: list[Node] = []
        node = self.nodes[node_key]
        while True:
            way.append(node)
            if node.key == self.target.key:
                return way[::-1]
            node = self.came_from[node.key]


def walk(facts: Facts, target: Node) -> Walked:
    """Follow hollow needs from *target* to the ground and run the rules on every node on the way."""
    walked = Walked(target, hollow={target.key})
    below: dict[Key, list[Node]] = {}

    def step(node: Node) -> list[Node]:
        found = below.get(node.key)
        if found is None:
            needs, unknown = needs_of(facts, node)
            for host, edge in unknown.items():
                walked.unknown_hosts.setdefault(host, edge)
            found = [need.edge.head for need in needs]
            below[node.key] = found
            walked.hollow.update(need.edge.head.key for need in needs if not need.passed)
            for head in found:
                if head.key != target.key:
                    walked.came_from.setdefault(head.key, node)
        return found

    # Nearest first, so that the way to each node is a shortest one; then deepest first, for the weighing.
    for _ in reach(target, step):
        pass
    walked.order = [node for part in knots([target], step) for node in part]
    walked.below = {key: [node.key for node in found] for key, found in below.items()}
    for node in walked.order:
        above = walked.came_from.get(node.key)
        walked.findings[node.key] = examine(Case(facts, node, node.key == target.key, above))
    return walked


def examine(case: Case) -> list[Finding]:
    """What all rules that have anything to say find on one node."""
    about = ("findings", case.node.key, case.asked, case.needed_from.key if case.needed_from else None)
    known = case.facts.memory.get(about)
    if known is None:
        known = [finding for rule in rules_for(case.state, case.true) for finding in rule.findings(case)]
        if case.family.numbers_failures:
            known += by_number.findings(case, known)
        words = _words_that_lead_here(case)
        known = [msgspec.structs.replace(one, evidence=(*one.evidence, *words)) for one in known] if words else known
        case.facts.memory[about] = known
    return cast("list[Finding]", known)


def _words_that_lead_here(case: Case) -> tuple[Evidence, ...]:
    """What the service above says that it called in vain, where nothing but its words ties it to this one: told, and no proof."""
    above = case.needed_from
    if above is None:
        return ()
    caller = Case(case.facts, above)
    led = (one for one in leads_to(case.facts, above) if one.by_port and one.edge.head.key == case.node.key)
    first = next(led, None)
    return (caller.quoted(first.event),) if first is not None else ()


def _leaned_on(facts: Facts, node: Node) -> list[Edge]:
    """Soft needs and mere orders that a failed service turns out to need after all: its own words say that it could
    not reach something, and one of these is down, or runs without a socket that would have answered."""
    service = node.service
    called = [
        edge
        for edge, by_port, _ in leads_to(facts, node)
        if by_port
        or (
            facts.standing(edge.head) is Standing.UP
            and edge.head.service is not None
            and edge.head.service.kind == "service"
        )
    ]
    if service is None or not failed_last(service) or facts.standing(node).well:
        return called
    if not lines.saying(Case(facts, node).last_events(), "unreached"):
        return called
    known = {edge.head.key for edge in called}
    return called + [
        edge
        for edge in facts.graph.needs(node, frozenset(("soft", "order")))
        if edge.head.service is not None
        and edge.head.key not in known
        and edge.head.service.kind in ("service", "socket")
        and edge.head.service.state in ("stopped", "failed")
        and (not facts.standing(edge.head).well or edge.head.service.startup in ("disabled", "manual"))
    ]


_DOES_NOTHING = ("true", ":")
"""Programs that do nothing: what runs one of them is there for what it wants."""


def is_wrapper(node: Node) -> bool:
    """Whether a service only starts others: it is up without a process, and its own program does nothing."""
    program = node.service.program if node.service is not None else None
    return (
        program is not None
        and program.style == "oneshot"
        and program.stays
        and program.path.rpartition("/")[2] in _DOES_NOTHING
    )


def _wanted_by_wrapper(facts: Facts, node: Node) -> list[Edge]:
    """What a service that only starts others wants, and is not well: it is as well as these. So is a target that was asked about."""
    asked_target = node.service is not None and node.service.kind == "target" and node.key == facts.asked
    return _unwell_members(facts, node) if asked_target or is_wrapper(node) else []


_IN_ONE_GO = timedelta(seconds=5)
"""Within so long two ends may be one, whichever was recorded first."""
_FAR = 3
"""Links over which services take one another down that need each other: a member, what groups them, another member."""


def _went_down_with(facts: Facts, tail: Node, head: Node) -> bool:
    """Whether *head*, which *tail* needs, needs *tail* in its turn, and is down because that failed: each of both has the other for
    its need, and only one has a last run that failed."""
    if tail.service is None or head.service is None or tail.host != head.host:
        return False
    if not failed_last(tail.service) or failed_last(head.service):
        return False
    level, seen = [head], {head.key}
    for _ in range(_FAR):
        below = [edge.head for node in level for edge in facts.graph.needs(node, HARD) if not edge.crosses]
        if any(node.key == tail.key for node in below):
            return True
        level = [node for key, node in {node.key: node for node in below}.items() if key not in seen]
        seen.update(node.key for node in level)
    return False


def _is_member(node: Node, wrapper: Node) -> bool:
    """Whether *wrapper* only starts others, and *node* is one of them."""
    service = wrapper.service
    return (
        service is not None
        and is_wrapper(wrapper)
        and any(link.to == node.name and link.pulls for link in service.links if link.kind in NEEDS)
    )


def _unwell_members(facts: Facts, node: Node) -> list[Edge]:
    if facts.standing(node) is not Standing.UP:
        return []
    wants = facts.graph.needs(node, frozenset(("soft",)))
    return [
        edge
        for edge in wants
        if edge.link.pulls and not edge.crosses and not facts.standing(edge.head).well and edge.head.service
    ]


def let_down(facts: Facts) -> Iterator[Node]:
    """All services that only start others, and targets that group some, that count as up while members that they want are not."""
    for host in facts.graph.hosts.values():
        for service in host.services:
            groups = service.kind == "target" and not is_base(service)
            if not groups and (service.program is None or service.program.style != "oneshot"):
                continue
            node = Node(host.name, service.name, service)
            if (groups or is_wrapper(node)) and _unwell_members(facts, node):
                yield node


class Need(NamedTuple):
    """An edge to follow. ``passed`` is true where the head is no obstacle itself: a start of the upper service
    starts it too, so that only what lies below it counts."""

    edge: Edge
    passed: bool


def hollow_needs(facts: Facts, node: Node, unknown_hosts: dict[str, Edge] | None = None) -> list[Need]:
    """The needs of *node* that may be why it does not run: hard ones that are not up, and triggers that are not."""
    found: list[Need] = []
    for edge in facts.graph.needs(node, HARD):
        if edge.head.host not in facts.graph.hosts:
            if unknown_hosts is not None:
                unknown_hosts.setdefault(edge.head.host, edge)
            continue
        passed = _passed(facts, edge)
        if passed is not None:
            found.append(Need(edge, passed))
    found += [Need(edge, False) for edge in _leaned_on(facts, node)]
    found += [
        Need(
            Edge(node, Link(to=ahead.name, word="waits in the queue for", pulls=False), ahead),
            not holds_up(facts, ahead),
        )
        for ahead in behind(facts, node)
    ]
    found += [
        Need(edge, False)
        for edge in (
            *_wanted_by_wrapper(facts, node),
            *gave_up_over(facts, node),
            *fails_each_connection(facts, node),
        )
    ]
    for unit in facts.silent_triggers(node):
        found.append(Need(Edge(node, Link(to=unit.name, word="triggered by", pulls=False), unit), False))
    return found


def needs_of(facts: Facts, node: Node) -> tuple[list[Need], dict[str, Edge]]:
    """The needs of *node* to follow, and those on hosts of which there are no facts."""
    about = ("needs", node.key, node.key == facts.asked)
    known = facts.memory.get(about)
    if known is None:
        unknown: dict[str, Edge] = {}
        known = facts.memory[about] = (hollow_needs(facts, node, unknown), unknown)
    return cast("tuple[list[Need], dict[str, Edge]]", known)


def is_hollow(facts: Facts, edge: Edge) -> bool:
    """Whether what *edge* points at is hard-needed and is itself the obstacle."""
    return edge.link.kind == "hard" and edge.head.host in facts.graph.hosts and _passed(facts, edge) is False


def is_looked_for(facts: Facts, node: Node) -> bool:
    """Whether a service is meant to be up, or to come up on an event that can happen: what only lies ready is nobody's trouble."""
    standing = facts.standing(node)
    if standing is not Standing.NOT_YET or node.service is None or node.service.state != "stopped":
        return standing is not Standing.IDLE
    units = [facts.graph.node(node.host, t.name) for t in node.service.triggers if t.kind in UNIT_TRIGGERS]
    others = len(units) < len(node.service.triggers) or not node.service.triggers
    return others or any(facts.standing(unit) is not Standing.IDLE for unit in units)


def is_missed(facts: Facts, node: Node) -> bool:
    """Whether something that is up, or should be, hard-needs *node*, and *node* is the obstacle."""
    return any(is_hollow(facts, edge) and is_looked_for(facts, edge.tail) for edge in facts.graph.needed_by(node, HARD))


def _passed(facts: Facts, edge: Edge) -> bool | None:
    """None: nothing to follow. True: follow, the head is no obstacle itself. False: the head is hollow."""
    head, tail = edge.head, edge.tail
    if head.name.endswith(_ALWAYS_THERE):
        return None
    standing = facts.standing(head)
    if standing is Standing.UP and (deaf_for(facts, edge) or (edge.crosses and is_blocked(facts, edge))):
        return False
    if standing is Standing.UP and edge.link.word == SEATS and _denies_seats(Case(facts, head, needed_from=tail)):
        return False
    if standing is Standing.UP and _is_member(tail, head):
        return None  # what only starts others is as well as they are: none of them stands on the rest by that
    if standing is Standing.UP:
        # What runs may itself stand on something that does not.
        if facts.troubled is not None:
            return True if head.key in facts.troubled else None
        leads_on = head.service is not None and any(link.kind == "hard" for link in head.service.links)
        return True if leads_on else None
    tail_up = facts.standing(tail) is Standing.UP
    if head.service is None:
        return False if edge.crosses or not tail_up else None
    if _went_down_with(facts, tail, head):
        return None
    if not standing.well or edge.crosses:
        return False
    if skipped(head.service):
        if any(c.kind.startswith("Assert") and c.outcome == "unmet" for c in head.service.conditions):
            return None if tail_up else False  # an assertion fails the start, unlike a condition
        return False if edge.link.word in _MUST_BE_UP and not tail_up else None
    if tail_up:
        return None
    return head.service.startup != "disabled" and _comes_along(facts, edge, head.service)


def _denies_seats(case: Case) -> bool:
    """Whether a license server that runs is the obstacle for the service above: some rule of that family finds a cause."""
    rules = (rule for rule in rules_for(case.state, case.true) if rule.family == "license")
    return any(not finding.note for rule in rules for finding in rule.findings(case))


def _comes_along(facts: Facts, edge: Edge, head: Service) -> bool:
    """Whether a start of the upper service simply starts this one too, so that it is no obstacle.

    Not so where the link does not pull, and where this one was up and its end took the upper one along.
    """
    if not edge.link.pulls:
        return False
    host = facts.graph.hosts[edge.head.host]
    upper = edge.tail.service.last if edge.tail.service else None
    if not started_since_boot(head, host.boot_at):
        # Where the manager says that a need was not up, the start has brought none along.
        refused = upper is not None and upper.result == "dependency"
        return head.startup not in ("automatic", "delayed") and not refused
    ended = head.last.left_up_at or head.last.ended_at if head.last else None
    upper_ended = upper.left_up_at or upper.ended_at if upper else None
    if ended is None or upper_ended is None:
        return head.startup not in ("automatic", "delayed")
    # One that failed while this one was still up was not taken along by its end: it took this one along, which nobody needed any more.
    outlived = ended >= upper_ended and edge.tail.service is not None and failed_last(edge.tail.service)
    return outlived or ended > upper_ended + _IN_ONE_GO


def affected(facts: Facts, hollow: Iterable[Node]) -> dict[Key, Node]:
    """All of *hollow* and everything that hard-needs any of them, at whatever distance."""
    found = {node.key: node for node in hollow}
    level = list(found.values())
    while level:
        above: list[Node] = []
        for node in level:
            for edge in facts.graph.needed_by(node, HARD):
                if edge.tail.key not in found:
                    found[edge.tail.key] = edge.tail
                    above.append(edge.tail)
        level = above
    return found

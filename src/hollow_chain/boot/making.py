"""From facts to a plan: what both families share. Their own rules are in ``systemd_rules`` and ``control_rules``."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import combinations
from typing import Any

import msgspec
from msgspec.structs import replace

from hollow_chain.boot.durations import work_apart, work_of
from hollow_chain.boot.plan import BootPlan, Fault, Held, Presumed, Unit, Work
from hollow_chain.causes import named
from hollow_chain.causes.sockets import Sockets
from hollow_chain.chain import Graph
from hollow_chain.facts.endpoints import Endpoint, of_claim, of_listener, overlap, said
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Claim, Service

UP = ("running", "done")


class Expected(msgspec.Struct):
    """What is known beforehand of how the starts of a host will go; see ``expectations``."""

    faults: dict[str, Fault] = msgspec.field(default_factory=dict)
    rivals: list[tuple[str, str, str]] = msgspec.field(default_factory=list)
    """Two services and the cause, where only one of the two can have something."""
    uses: dict[str, list[str]] = msgspec.field(default_factory=dict)
    """What a service uses without saying so."""
    works: dict[str, Work] = msgspec.field(default_factory=dict)
    """Durations that are supposed, or calibrated, in place of the fitted ones."""
    moments: dict[str, tuple[float, float]] = msgspec.field(default_factory=dict)
    """Moments before which a service is not started, and their spread, as supposed."""
    taken: dict[str, Presumed] = msgspec.field(default_factory=dict)
    """What is taken to be wrong with a service, where that is no more than likely; see :class:`Presumed`."""
    cores: float | None = None
    notes: list[str] = msgspec.field(default_factory=list)


class Draft:
    """A plan in the making: units by name, with links by name, until all are known."""

    def __init__(self, graph: Graph, host: Host, expected: Expected) -> None:
        self.graph, self.host, self.expected = graph, host, expected
        self.jobs: dict[str, float] = {}
        """What is started, and not before which moment."""
        self.refused: dict[str, tuple[str, str]] = {}
        """What cannot be started although something asks for it: the cause, and whose fault it is."""
        self.running: frozenset[str] = frozenset()
        """What runs already and goes on running, where the host is not booted but something on it is started."""

    def find(self, name: str) -> Service | None:
        """The service of that name or alias."""
        return self.graph.find(self.host.name, name)

    def known(self, name: str) -> str:
        """The name that it is registered under; as given where it is not."""
        found = self.find(name)
        return found.name if found else name

    def elsewhere(self, service: Service) -> Iterator[tuple[str, bool]]:
        """What it hard-needs on other hosts: a name to show, and whether that is up there now."""
        for link in self.graph.links_of(self.host.name, service):
            head = self.graph.head(self.host.name, link)
            if link.kind == "hard" and head.host != self.host.name and head.host in self.graph.hosts:
                yield f"{head.name} on {head.host}", head.service is not None and head.service.state in UP

    def made(self, of: Callable[[Service], Unit], names: Callable[[Service], dict[str, list[str]]]) -> BootPlan:
        """The plan: *of* gives a unit without its links, *names* those links by the name of their field."""
        plan = BootPlan(
            self.host.name, cores=self._cores(), notes=list(self.expected.notes), taken=dict(self.expected.taken)
        )
        place: dict[str, int] = {}
        for service in self.host.services:
            place.setdefault(service.name, len(place))
        services = list({service.name: service for service in self.host.services}.values())
        units = [self._with_facts(of(service), service) for service in services]
        linked = [names(service) for service in services]
        for at, service in enumerate(services):
            far = list(self.elsewhere(service)) if units[at].starts else []
            if service.state in UP:  # it runs, so what is down elsewhere does not keep it from coming up
                far = [(shown, up) for shown, up in far if up]
            for shown, up in far:
                if shown not in place:
                    place[shown] = len(units)
                    units.append(Unit(shown, kind="remote", starts=up, why_not="" if up else named.HOST_UNREACHABLE))
            linked[at].setdefault("uses", []).extend(shown for shown, _ in far)
            linked[at]["uses"] += [n for n in self.expected.uses.get(service.name, ()) if n in place]
        for lists in linked:
            for missing in (n for many in lists.values() for n in many if n not in place):
                place[missing] = len(units)
                units.append(Unit(missing, kind="absent", why_not=named.NOT_REGISTERED))
        for at, lists in enumerate(linked):
            fields: dict[str, Any] = {k: tuple(dict.fromkeys(place[n] for n in v)) for k, v in lists.items()}
            units[at] = replace(units[at], **fields)
        for name, (_, culprit) in self.refused.items():
            if name in place and culprit in place and culprit != name:
                units[place[name]] = replace(units[place[name]], blame=place[culprit])
        plan.units = units
        self._hold(plan, place)
        return plan

    def _cores(self) -> float:
        return float(self.expected.cores or self.host.cores or 2)

    def _with_facts(self, unit: Unit, service: Service) -> Unit:
        known_up = None if service.state == "unknown" else service.state in UP
        # What starts when the boot is over, starts alone.
        alone = work_apart(service, self.host) if unit.at > 0 else None
        work = self.expected.works.get(service.name) or alone or work_of(service, self.host)
        fault = self.expected.faults.get(service.name) or unit.fault
        at, spread = self.expected.moments.get(service.name, (unit.at, unit.spread))
        work = unit.work if unit.work.seconds else work
        return replace(unit, kind=service.kind, work=work, fault=fault, now_up=known_up, at=at, spread=spread)

    def _hold(self, plan: BootPlan, place: dict[str, int]) -> None:
        takes: dict[int, list[int]] = {}

        def hold(one: str, other: str, what: Held) -> None:
            for name in (one, other):
                takes.setdefault(place[name], []).append(len(plan.held))
            taken = one in self.running or other in self.running
            plan.held.append(replace(what, amount=0) if taken else what)

        starts = {unit.name for unit in plan.units if unit.starts} | self.running
        pairs = list(_rivals(self.host, starts))
        for one, other, where in pairs:
            hold(one, other, Held(said(where.address, where.port, where.protocol), named.PORT_HELD))
        for one, other, path in _lockers(self.host, starts):
            hold(one, other, Held(path, named.LOCK_HELD))
        for one, other, cause in self.expected.rivals:
            known = cause == named.PORT_HELD and any({one, other} == {a, b} for a, b, _ in pairs)
            known |= cause == named.LOCK_HELD and any({one, other} == {a, b} for a, b, _ in _lockers(self.host, starts))
            if one in starts and other in starts and not known:
                hold(one, other, Held(f"what {one} and {other} both want for themselves", cause))
        _seats(self.host, self.graph, starts, plan, takes, place)
        for at, things in takes.items():
            plan.units[at] = replace(plan.units[at], takes=tuple(things))


def _rivals(host: Host, starts: set[str]) -> Iterator[tuple[str, str, Endpoint]]:
    """Pairs of services that start and want endpoints of which only one of them can have its own."""
    by_port: dict[tuple[int, str], list[tuple[Service, Endpoint, Claim | None]]] = {}
    sockets = Sockets(host)
    for service in host.services:
        if service.name in starts:
            for endpoint, claim in _endpoints(host, sockets, service):
                by_port.setdefault((endpoint.port, endpoint.protocol[:3]), []).append((service, endpoint, claim))
    for claimants in by_port.values():
        seen: set[frozenset[str]] = set()
        for (one, at, claim), (other, there, rival) in combinations(claimants[:64], 2):
            pair = frozenset((one.name, other.name))
            of_one_setting = claim is not None and rival is not None and claim.source == rival.source != ""
            if len(pair) < 2 or pair in seen or _hands_over(one, other) or of_one_setting or not overlap(at, there):
                continue
            seen.add(pair)
            yield one.name, other.name, at


def _lockers(host: Host, starts: set[str]) -> Iterator[tuple[str, str, str]]:
    """Pairs of services that start, where one holds a lock on a file that the other is set to lock: only one can have it."""
    held = {file.path: file.held_by for file in host.files if file.held_by and file.kind == "file"}
    if not held:
        return
    owners = {one.process: one.service for one in host.processes if one.service}
    owners |= {s.program.process: s.name for s in host.services if s.program is not None and s.program.process}
    for service in host.services:
        program = service.program
        for path in (
            (program.pid_file, *program.settings_paths) if program is not None and service.name in starts else ()
        ):
            holder = owners.get(held.get(path, 0), "")
            if holder in starts and holder != service.name:
                yield holder, service.name, path


def _endpoints(host: Host, sockets: Sockets, service: Service) -> Iterator[tuple[Endpoint, Claim | None]]:
    """Where a service will listen: where it does so now, else what it claims."""
    own = [s for s in sockets.of(service) if s.port and (s.service == service.name or service.kind == "socket")]
    for listener in own:
        yield of_listener(listener), None
    if own or (service.state == "running" and host.sockets_read):
        return
    for claim in service.claims:
        if claim.counts:
            yield of_claim(claim), claim


def _hands_over(one: Service, other: Service) -> bool:
    """Whether one of the two is started by the other's socket, and takes it over."""
    return any(t.name == other.name for t in one.triggers) or any(t.name == one.name for t in other.triggers)


def _seats(
    host: Host, graph: Graph, starts: set[str], plan: BootPlan, takes: dict[int, list[int]], place: dict[str, int]
) -> None:
    """Seats that services of this host want, where the server says how many there are."""
    things: dict[tuple[str, str, str], int] = {}
    for service in host.services:
        for want in service.seats if service.name in starts else ():
            owner = graph.host_named(want.host) if want.host else host
            rights = [
                (server.service, right)
                for server in (owner.license_servers if owner else ())
                if not want.server or server.service == want.server
                for right in server.entitlements
                if right.product == want.product and (not want.feature or right.feature in ("", want.feature))
            ]
            if owner is None or not rights or rights[0][1].seats is None:
                continue
            server, right = rights[0]
            key = owner.name, server, f"{right.product}/{right.feature}"
            if key not in things:
                things[key] = len(plan.held)
                own = sum(w.seats for s in host.services if s.state == "running" for w in s.seats
                          if w.product == want.product and w.feature == want.feature)  # fmt: skip
                others = max(0, (right.used or 0) - own)
                free = max(0, (right.seats or 0) - others)
                plan.held.append(Held(f"seats of {key[2].strip('/')}", named.SEATS_TAKEN, free))
            takes.setdefault(place[service.name], []).extend([things[key]] * min(want.seats, 1000))

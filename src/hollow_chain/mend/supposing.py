"""A copy of the facts on which a plan is carried out, so that it can be judged before anything is touched."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterable
from typing import NamedTuple

import msgspec
import numpy as np
from msgspec.structs import replace

from hollow_chain import decoding
from hollow_chain.boot.certain import decided, looks
from hollow_chain.boot.changes import VERBS as CHANGES
from hollow_chain.boot.changes import World
from hollow_chain.boot.durations import work_apart, work_of
from hollow_chain.boot.engine import Progress, joined, simulate
from hollow_chain.boot.expectations import expected_of
from hollow_chain.boot.families import as_it_stands, foreseen, plan_of, plan_of_start
from hollow_chain.boot.making import UP, Expected
from hollow_chain.boot.outcome import NEED, Outcome, State
from hollow_chain.boot.part import part_of, started_part
from hollow_chain.boot.plan import BootPlan, Fault
from hollow_chain.causes import Facts, Finding, named, rule_of
from hollow_chain.causes.acts import Act
from hollow_chain.causes.nature import CLAIMS, CLASHES, RUNNING, SEATS, TIMES
from hollow_chain.chain import Graph, stop_takes
from hollow_chain.facts.service import Definition, Service, Startup
from hollow_chain.families import family_of
from hollow_chain.families.entries import ManagerEntry, service_of_entry
from hollow_chain.mend.plan import Step
from hollow_chain.verdict import Cause


class Runs(NamedTuple):
    """How many rehearsals a proof may take."""

    exactly: int | None = None
    """So many, however early the answer is certain."""
    most: int = 1000
    """Where nobody asked for a number: until it is certain, and never more than so many."""
    seed: int = 1

    @property
    def first(self) -> int:
        """How many rehearsals a start takes that is only one of many questions on the way."""
        return self.exactly or next(looks(self.most))


class Expectations:
    """What is to be expected of starts on some hosts, now and at the next boot; worked out once, then copied."""

    def __init__(self, facts: Facts, hosts: Iterable[str], progress: Progress | None = None) -> None:
        self.facts, self.progress = facts, progress
        self.hosts = [name for name in dict.fromkeys(hosts) if name in facts.graph.hosts]
        self.now: dict[str, Expected] = {}
        self.boot: dict[str, Expected] = {}
        for name in self.hosts:
            host = facts.graph.hosts[name]
            self.boot[name] = foreseen(facts, host)
            self.now[name] = expected_of(facts, host, by_hand=True)
            apart = {one.name: work for one in host.services if (work := work_apart(one, host)) is not None}
            self.now[name].works = self.boot[name].works | apart
        self._simulated: dict[object, Outcome] = {}

    def simulate(self, plan: BootPlan, runs: int, seed: int) -> Outcome:
        """Simulate *plan*, as far as the like of it has not been simulated before: most copies differ on one host only."""
        units = tuple(replace(unit, now_up=None) for unit in plan.units)
        key = plan.host, seed, units, tuple(plan.held), plan.cores, plan.disks, tuple(plan.cuts)
        found = self._simulated.get(key)
        done = found.runs if found is not None else 0
        if done < runs:
            more = simulate(plan, runs - done, seed, self.progress, first=done)
            found = self._simulated[key] = more if found is None else joined(plan, [found, more])
        assert found is not None
        return found if found.runs == runs else found.head(runs)

    def together(
        self, plan: BootPlan, names: list[str], enough: float, runs: Runs
    ) -> tuple[float, dict[str, float], int]:
        """The share of boots in which all of *names* come up, that of each, and of how many boots: of all that *runs* asks for, or
        of as many as make it certain on which side of *enough* the share lies."""
        plan = part_of(plan, names)
        share, each, many = 0.0, dict[str, float](), 0
        for many in [runs.exactly] if runs.exactly else looks(runs.most):
            outcome = self.simulate(plan, many, runs.seed)
            places = {unit.name: at for at, unit in enumerate(plan.units)}
            own = {n: outcome.up[:, places[n]] if n in places else np.zeros(many, bool) for n in names}
            all_up = np.logical_and.reduce(list(own.values()))
            share, each = float(all_up.mean()), {name: float(up.mean()) for name, up in own.items()}
            if decided(int(all_up.sum()), many, enough, runs.most) is not None:
                break
        return share, each, many


class Copy:
    """The copy. What is done on it is done by replacing: the facts that it is a copy of are never touched."""

    def __init__(self, known: Expectations) -> None:
        self.known = known
        self.graph = as_it_stands(known.facts, known.hosts)
        self.document = self.graph.document
        self.now, self.boot = copy.deepcopy(known.now), copy.deepcopy(known.boot)
        self.coming: list[tuple[str, list[str]]] = []
        """Limits of whole hosts that are set and hold from the next boot on."""
        self._plans: dict[str, BootPlan] = {}
        """The next boot of each host, as long as nothing has changed since it was asked for."""
        self.reasons: dict[tuple[str, str], str] = {}
        """Why a start did not come out well."""

    def service(self, host: str, name: str) -> Service | None:
        """A service as it is in the copy."""
        return self.graph.find(host, name)

    def put(self, host: str, old: Service, new: Service) -> None:
        """Put *new* in the place of *old*."""
        self._plans.clear()
        owner = self.graph.hosts[host]
        owner.services = [new if one is old else one for one in owner.services]
        self.graph = Graph(self.document)

    def add(self, host: str, new: Service) -> None:
        """Register *new*."""
        self._plans.clear()
        owner = self.graph.hosts[host]
        owner.services = [*owner.services, new]
        self.graph = Graph(self.document)

    def set_state(self, host: str, names: Iterable[str], state: str) -> None:
        """Put services into a state."""
        self._plans.clear()
        wanted = frozenset(names)
        owner = self.graph.hosts[host]
        owner.services = [
            msgspec.structs.replace(one, state=state) if one.name in wanted else one for one in owner.services
        ]
        self.graph = Graph(self.document)

    def change(self, host: str, verb: str, words: list[str]) -> None:
        """Carry out one change of the language of ``boot/changes`` on the copy."""
        self._plans.clear()
        # The facts change with the first; with the second only what is expected, since what it would replace is gone by then.
        for expected in (self.boot[host], self.now[host]):
            world = World(self.graph, self.graph.hosts[host], expected)
            CHANGES[verb].act(world, words)
        self.graph = Graph(self.document)

    def suppose_only(self, host: str, name: str, cause: str, after: float | None) -> None:
        """Take for granted that *cause*, and nothing else, is wrong with a service."""
        self._plans.clear()
        for expected in (self.now, self.boot):
            if name in expected[host].faults:
                expected[host].faults[name] = Fault(cause, 1.0, after)

    def forget(self, host: str, names: Iterable[str], cause: str, place: str, with_rivals: bool = True) -> None:
        """A cause is mended: it no longer makes a start fail. Records of failed starts of its place were of it. Who races whom for
        something is forgotten too, unless what is done about that shows in the copy by itself."""
        self._plans.clear()
        for expected in (self.now.get(host), self.boot.get(host)):
            if expected is None:
                continue
            for name in names:
                fault = expected.faults.get(name)
                if fault is not None and (
                    fault.cause == cause or (name == place and fault.cause == named.EXITS_WITH_ERROR)
                ):
                    del expected.faults[name]
            if with_rivals:
                expected.rivals = [one for one in expected.rivals if not (one[2] == cause and place in one[:2])]

    def start(self, host: str, name: str, runs: int, seed: int) -> float:
        """Start a service in simulation, and leave the copy as the greater part of the runs leaves it; the share of runs in
        which it came up, and stayed up."""
        service = self.service(host, name)
        if service is None:
            return 0.0
        if service.state in UP:
            return 1.0
        plan = started_part(plan_of_start(self.graph, self.graph.hosts[host], self.now[host], service))
        shares, reasons = _shares(self.known.simulate(plan, runs, seed))
        self.reasons.update({(host, unit): reason for unit, reason in reasons.items()})
        counted_on = self._pulled_hard(host, service)
        up = [unit for unit, share in shares.items() if share >= 0.5 and unit in counted_on]
        self._end_clashing(host, up)
        self.set_state(host, up, "running")
        return shares.get(service.name, 0.0)

    def _pulled_hard(self, host: str, service: Service) -> set[str]:
        """A service and what its start cannot do without: what is merely wanted is not counted on to be up."""
        found, stack = {service.name}, [self.graph.node(host, service.name)]
        while stack:
            for edge in self.graph.needs(stack.pop(), ("hard",)):
                if not edge.crosses and edge.link.pulls and edge.head.name not in found:
                    found.add(edge.head.name)
                    stack.append(edge.head)
        return found

    def _end_clashing(self, host: str, came_up: list[str]) -> None:
        for name in came_up:
            node = self.graph.node(host, name)
            near = [edge.head for edge in self.graph.needs(node, ("clash",))]
            near += [edge.tail for edge in self.graph.needed_by(node, ("clash",))]
            for other in near:
                if other.service is not None and other.service.state in UP and other.name not in came_up:
                    self.stop(host, other.name)

    def stop(self, host: str, name: str) -> None:
        """Stop a service, and all that ends with it."""
        node = self.graph.node(host, name)
        gone = [node.name, *(n.name for n in stop_takes(self.graph, node) if n.service and n.service.state in UP)]
        self.set_state(host, gone, "stopped")

    def reboot(self, host: str, runs: int, seed: int) -> float:
        """Boot a host in simulation, and leave the copy as the greater part of the runs leaves it."""
        plan = self.boot_plan(host)
        self.now[host] = copy.deepcopy(self.boot[host])
        shares, _ = _shares(self.known.simulate(plan, runs, seed))
        names = {service.name for service in self.graph.hosts[host].services}
        up = {unit for unit, share in shares.items() if share >= 0.5}
        self.set_state(host, names - up, "stopped")
        self.set_state(host, up, "running")
        return 1.0

    def boot_plan(self, host: str) -> BootPlan:
        """The next boot of a host of the copy."""
        if host in self._plans:
            return self._plans[host]
        for _, words in [one for one in self.coming if one[0] == host]:
            self.change(host, "limit", words)
        self.coming = [one for one in self.coming if one[0] != host]
        return self._plans.setdefault(host, plan_of(self.graph, self.graph.hosts[host], self.boot[host]))


def _shares(outcome: Outcome) -> tuple[dict[str, float], dict[str, str]]:
    """How often each unit that is started is up in the end, and why those are not that seldom are."""
    stays = outcome.state == State.UP
    shares: dict[str, float] = {}
    reasons: dict[str, str] = {}
    for at, unit in enumerate(outcome.plan.units):
        if unit.starts and unit.kind not in ("remote", "absent"):
            shares[unit.name] = float(stays[:, at].mean())
            if shares[unit.name] < 0.5:
                reasons[unit.name] = _reason(outcome, at)
        elif unit.why_not and unit.kind not in ("remote", "absent"):
            reasons[unit.name] = unit.why_not
    return shares, reasons


def _reason(outcome: Outcome, at: int) -> str:
    run = int(np.argmin(outcome.state[:, at] == State.UP))
    why, blame = int(outcome.why[run, at]), int(outcome.blame[run, at])
    if why == NEED and blame >= 0:
        return f"{outcome.plan.units[blame].name} is not up"
    return outcome.cause(why, at) if why >= 0 else ""


# What an act does on the copy; starts, stops and restarts are carried out by :func:`carry_out` itself.


def _startup(the: Copy, host: str, act: Act) -> None:
    the.change(host, "startup", [act.service, act.value])


def _limit(the: Copy, host: str, act: Act) -> None:
    if act.service or not family_of(the.graph.hosts[host]).limit_of_all_waits_for_boot:
        the.change(host, "limit", [act.service or "all", act.value])
    else:
        the.coming.append((host, ["all", act.value]))


def _wait(the: Copy, host: str, act: Act) -> None:
    the.change(host, "need" if family_of(the.graph.hosts[host]).waits_need else "after", [act.service, act.value])
    for expected in (the.now[host], the.boot[host]):
        used = expected.uses.get(act.service, [])
        expected.uses[act.service] = [one for one in used if one != act.value]


def _reload(the: Copy, host: str, act: Act) -> None:
    service = the.service(host, act.service)
    if service is not None and service.definition is not None:
        fresh = msgspec.structs.replace(service.definition, needs_reload=False, on_disk={}, loaded={})
        the.put(host, service, msgspec.structs.replace(service, definition=fresh))


def _define(the: Copy, host: str, act: Act) -> None:
    service = the.service(host, act.service)
    if service is not None and service.definition is not None and service.definition.load == "missing":
        startup = service.startup if act.path else _startup_in(act.value)
        the.put(host, service, msgspec.structs.replace(service, definition=Definition(file=act.path), startup=startup))


def _startup_in(entry: str) -> Startup:
    """The startup type in a definition that is an entry of the manager."""
    return service_of_entry(decoding.of_json(entry, ManagerEntry)).startup


def _undefine(the: Copy, host: str, act: Act) -> None:
    service = the.service(host, act.service)
    if service is not None:
        the.put(
            host, service, msgspec.structs.replace(service, definition=Definition(load="missing"), startup="manual")
        )


def _port(the: Copy, host: str, act: Act) -> None:
    the.change(host, "port", [act.service, act.value])


_ON_COPY: dict[str, Callable[[Copy, str, Act], None]] = {
    "startup": _startup,
    "limit": _limit,
    "wait": _wait,
    "reload": _reload,
    "port": _port,
    "define": _define,
    "undefine": _undefine,
}
"""Verbs that change what the simulation sees. Files and rights it does not see: there the answered cause is forgotten."""


def carry_out(the: Copy, step: Step, runs: int, seed: int) -> float:
    """Carry out one step on the copy, whoever is to do it; the chance that it comes out as it should."""
    chance = 1.0
    for act in step.acts if step.host in the.now else ():
        chance *= _carry_out(the, step.host, act, runs, seed)
    return chance


def _carry_out(the: Copy, host: str, act: Act, runs: int, seed: int) -> float:
    if act.verb == "start":
        return the.start(host, act.service, runs, seed)
    if act.verb == "reboot":
        return the.reboot(host, runs, seed)
    if act.verb == "restart":
        return _restart(the, host, act.service, runs, seed)
    if act.verb == "stop":
        the.stop(host, act.service)
    elif act.verb == "continue":
        the.set_state(host, [act.service], "running")
    elif act.verb in _ON_COPY:
        _ON_COPY[act.verb](the, host, act)
    return 1.0


def _restart(the: Copy, host: str, name: str, runs: int, seed: int) -> float:
    taken = stop_takes(the.graph, the.graph.node(host, name))
    dependents = [node.name for node in taken if node.service and node.service.state in UP]
    the.stop(host, name)
    chance = the.start(host, name, runs, seed)
    return min([chance, *(the.start(host, one, runs, seed) for one in dependents)])


def assume_done(the: Copy, cause: Cause) -> None:
    """A person has mended what *cause* says: whatever of it the simulation would see is put right on the copy."""
    finding = cause.finding
    host, parts = finding.host, rule_of(finding.cause).put_right
    if SEATS in parts:
        for node in cause.chain:
            wanting = the.service(node.host, node.name)
            if wanting is not None and wanting.seats:
                the.put(node.host, wanting, msgspec.structs.replace(wanting, seats=[]))
    if host not in the.now:
        return
    service = the.service(host, finding.service)
    if service is not None and TIMES in parts:
        good = [start for start in service.starts if start.outcome == "up"]
        work = work_of(msgspec.structs.replace(service, starts=good, last=None), the.graph.hosts[host])
        for expected in (the.now[host], the.boot[host]):
            expected.works = expected.works | {service.name: work}
    if service is None:
        # Whoever registers it has to start it, and to see to it that it starts at boot.
        the.add(host, Service(name=finding.service, state="running", startup="automatic"))
        return
    the.put(host, service, _put_right(service, finding, parts))


def _put_right(service: Service, finding: Finding, parts: tuple[str, ...]) -> Service:
    new = msgspec.structs.replace(service)
    if new.definition is not None and new.definition.load != "loaded":
        new.definition = msgspec.structs.replace(new.definition, load="loaded", error="")
    new.conditions = [
        msgspec.structs.replace(one, outcome="met") if one.outcome == "unmet" else one for one in new.conditions
    ]
    if new.startup == "disabled":
        new.startup = "manual"
    if RUNNING in parts:
        new.state = "running"
    if CLAIMS in parts:  # it has an endpoint for itself by now, this one or another
        new.claims = []
    if finding.loop:
        inside = frozenset(finding.loop)
        new.links = [link for link in new.links if link.to not in inside]
    if CLASHES in parts:
        new.links = [link for link in new.links if link.kind != "clash" or link.to != finding.holder]
    return new

"""The plan that makes a service of a program: fitted to a host, judged, and proven like every other plan."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import msgspec

from hollow_chain.boot.compare import Shift, compare
from hollow_chain.boot.engine import Progress, simulate
from hollow_chain.causes import Facts, acts
from hollow_chain.causes.acts import Act
from hollow_chain.chain import Graph, best, search
from hollow_chain.facts.host import Host, snapshot
from hollow_chain.facts.service import Definition, Service
from hollow_chain.families import family_of
from hollow_chain.mend.plan import Plan, Step, Try
from hollow_chain.mend.proving import Trial
from hollow_chain.mend.supposing import Copy, Expectations, Runs, carry_out
from hollow_chain.mend.verbs import ActView
from hollow_chain.registering import control_form, events, offers, systemd_form
from hollow_chain.registering.lines import Piece
from hollow_chain.registering.making_steps import step_of
from hollow_chain.registering.objections import counted_claims, name_objections, objections, remarks
from hollow_chain.registering.offers import Look
from hollow_chain.registering.supposed import service_of
from hollow_chain.registering.systemd_form import Chosen
from hollow_chain.registering.wish import Wish
from hollow_chain.trouble import wrong_call

_BOOTS = 400
"""Boots that are compared with and without it: a shift of a hundredth of a second shows in fewer, one boot in a hundred in these."""
_SEARCHED = ("/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin")
"""Where a manager finds a program that is named without a path (systemd.exec(5), "ExecSearchPath=")."""


@dataclass
class Registration:
    """One service on its way to be registered: what is wished, and what that comes to on a host."""

    wish: Wish
    another: bool = False
    chosen: Chosen = field(default_factory=Chosen)
    pieces: list[Piece] = field(default_factory=list)
    new: Service = field(default_factory=lambda: Service(name=""))

    def fit(self, host: Host, look: Look) -> Service:
        """Fit the wish to *host*: its program found, its needs named as they are registered, what is open chosen. Raises
        :class:`~hollow_chain.trouble.Trouble` for what can be said without looking at more."""
        self.wish = offers.completed(_with_program(self.wish, host, look))
        for text in name_objections(host, self.wish.name):
            raise wrong_call(text)
        self.wish = _with_needs(self.wish, host)
        wished = (*events.starts_of(self.wish.start).events, *events.stops_of(self.wish.stop_on))
        for event in wished if family_of(host).defined_in_files else ():
            if event.kind == events.DEVICE:
                look(event.what)  # whether it is there now is to be told
        confine = self.chosen.confine
        self.chosen = replace(offers.chosen_for(self.wish, host, look), confine=confine)
        self.pieces = self._pieces(host)
        self.new = service_of(self.wish, self.chosen, host.manager)
        return self.new

    def _pieces(self, host: Host) -> list[Piece]:
        if family_of(host).defined_in_files:
            return systemd_form.pieces_of(self.wish, self.chosen)
        return [control_form.entry_of(self.wish, self.chosen)[1]]


def _with_program(wish: Wish, host: Host, look: Look) -> Wish:
    if not wish.program:
        if wish.instance_of:
            return wish
        raise wrong_call("program: none is named; write hollow-chain register /PATH/OF/PROGRAM")
    if "/" in wish.program or "\\" in wish.program or not family_of(host).defined_in_files:
        return wish
    for folder in _SEARCHED:
        file = look(f"{folder}/{wish.program}")
        if file is not None and file.exists and file.kind == "file":
            return msgspec.structs.replace(wish, program=f"{folder}/{wish.program}")
    raise wrong_call(f"program: no {wish.program} in {', '.join(_SEARCHED)}; write its full path")


def _with_needs(wish: Wish, host: Host) -> Wish:
    """The wish with what it names of other services under the names that these are registered under."""
    graph = Graph(snapshot([host]))
    template = wish.instance_of
    if template:
        known = graph.find(host.name, f"{template.removesuffix('.service').removesuffix('@')}@.service")
        if known is None:
            near = ", ".join(s.name for s in host.services if s.template)[:200]
            raise wrong_call(f"instance-of: no template {template}{f'; there are: {near}' if near else ''}")
    return msgspec.structs.replace(
        wish,
        needs=[_registered(graph, host, name, "needs") for name in wish.needs],
        after=[_registered(graph, host, name, "after") for name in wish.after],
    )


def _registered(graph: Graph, host: Host, words: str, option: str) -> str:
    """The name of the service that *words* mean. Raises :class:`~hollow_chain.trouble.Trouble`."""
    exact = graph.find(host.name, words)
    if exact is None and family_of(host).names_tell_kinds:
        exact = graph.find(host.name, f"{words}.service")
    if exact is not None:
        return exact.name
    found = search(graph, words, [host.name])
    matches = best(found)
    if len(matches) == 1:
        return matches[0].node.name
    names = ", ".join(match.node.name for match in (matches or found)[:5])
    if matches:
        raise wrong_call(f"{option}: {words!r} fits {len(matches)} services: {names}")
    raise wrong_call(f"{option}: no service {words!r} on {host.name}{f'; near: {names}' if names else ''}")


def without_past(host: Host, new: Service) -> None:
    """Leave out what is on record of another service of that name: nothing of it is about *new*, which is not there yet."""
    host.events = [event for event in host.events if event.service != new.name]
    if any(service is new for service in host.services):
        new.last, new.starts, new.state, new.job = None, [], "stopped", None
        for boot in host.boots:
            boot.up_seconds.pop(new.name, None)
            boot.tried_seconds.pop(new.name, None)


@dataclass
class Judged:
    """A registration, judged: what speaks against it, what has to be known, and the plan."""

    against: list[str]
    remarks: list[str]
    plan: Plan
    delays: list[Shift] = field(default_factory=list)
    """What comes up later after a reboot."""


def judge(facts: Facts, host: Host, one: Registration, runs: Runs, progress: Progress | None = None) -> Judged:
    """Judge *one*, whose service stands in *facts*, and prove its plan."""
    node = facts.graph.node(host.name, one.new.name)
    one.new.claims = counted_claims(one.new)
    against = objections(facts, host, one.wish, one.new, one.another)
    plan = Plan(node, host.read_at)
    if against:
        return Judged(against, [], plan)
    bare = _not_yet_defined(facts, host, one.new)
    steps = steps_of(bare, bare.graph.hosts[host.name], one)
    known = Expectations(bare, [host.name], progress)
    target = bare.graph.node(host.name, one.new.name)
    started = {step.act.service for step in steps if step.act is not None and step.act.verb == "start"}
    goals = [bare.graph.node(host.name, name) for name in sorted(started)]
    proof = Trial(bare, known, target, [], goals, runs=runs).prove(steps)
    # Each step is what is wished: none is there for the sake of another, so none can be left out.
    made = Try(steps, (), 1.0, proof=replace(proof, minimal=True, needless=()))
    plan.tries.append(made)
    return Judged([], remarks(facts, host, one.wish, one.new), plan, _delays(known, host.name, steps, runs))


def with_pieces(judged: Judged, facts: Facts, host: Host, one: Registration) -> Judged:
    """*judged* with the definition as it has been settled since: the same steps, with other texts."""
    bare = _not_yet_defined(facts, host, one.new)
    made = judged.plan.tries[0]
    steps = steps_of(bare, bare.graph.hosts[host.name], one)
    return replace(judged, plan=replace(judged.plan, tries=[replace(made, steps=steps)]))


def _not_yet_defined(facts: Facts, host: Host, new: Service) -> Facts:
    """The facts with the new service as one that has no definition yet: the first step gives it one."""
    startup = new.startup if new.startup == "event" else "manual"
    absent = msgspec.structs.replace(new, definition=Definition(load="missing"), startup=startup)
    document = facts.graph.document
    swapped = [absent if one.name == new.name else one for one in host.services]
    for trigger in new.triggers:
        if trigger.name:
            unit = Service(
                name=trigger.name,
                kind=trigger.kind,
                state="stopped",
                startup="manual",
                definition=Definition(load="missing"),
            )
            swapped.append(unit)
    hosts = [msgspec.structs.replace(one, services=swapped) if one.name == host.name else one for one in document.hosts]
    return Facts(Graph(msgspec.structs.replace(document, hosts=hosts)))


def steps_of(facts: Facts, host: Host, one: Registration) -> list[Step]:
    """The steps that register, set to start, and start."""
    view = ActView(facts, host, facts.index(host.name).file)
    starts = events.starts_of(one.wish.start)
    found = [_define(view, one.new.name, piece) for piece in one.pieces]
    units = [piece.unit for piece in one.pieces if piece.unit and piece.unit != one.new.name]
    in_files = family_of(host).defined_in_files
    by_boot = starts.kind == events.AUTOMATIC or any(e.kind in (events.NETWORK, events.DEVICE) for e in starts.events)
    for unit in units:
        found += [step_of(view, acts.startup(unit, "automatic")), step_of(view, acts.start(unit))]
    if by_boot and in_files:
        found.append(step_of(view, acts.startup(one.new.name, "automatic")))
    if starts.kind != events.MANUAL or any(event.kind == events.NETWORK for event in starts.events):
        found.append(step_of(view, acts.start(one.new.name)))
    return found


def _define(view: ActView, name: str, piece: Piece) -> Step:
    act = Act("define", piece.unit or name, piece.path, piece.text)
    return step_of(view, act)


def _delays(known: Expectations, host: str, steps: list[Step], runs: Runs) -> list[Shift]:
    """What comes up later after a reboot than it does now."""
    before, after = Copy(known), Copy(known)
    for step in steps:
        carry_out(after, step, runs.first, runs.seed)
    one, other = (simulate(the.boot_plan(host), _BOOTS, runs.seed) for the in (before, after))
    return [shift for shift in compare(one, other).shifts if shift.verdict == "later"]

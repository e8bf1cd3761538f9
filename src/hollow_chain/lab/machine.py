"""The stand-in host at work: booting, starting, stopping, and its clock.

What a boot or a start brings is simulated once, by the rules and the engine of ``boot/``, and then happens step by step as
the clock moves on; so a call that comes in between finds the host half way.
"""

from __future__ import annotations

from datetime import datetime, timedelta

import msgspec
import numpy as np

from hollow_chain.boot import control_rules
from hollow_chain.boot.durations import work_apart
from hollow_chain.boot.engine import simulate
from hollow_chain.boot.outcome import FIRST_HELD, NEED, Outcome, State
from hollow_chain.boot.plan import NEEDS, BootPlan
from hollow_chain.causes import named
from hollow_chain.chain import Graph, Node, stop_takes
from hollow_chain.facts.host import BootRecord, Event, File, Host, HostLimits, Listener, Process, snapshot
from hollow_chain.facts.runs import LastRun, Start
from hollow_chain.facts.service import Service
from hollow_chain.lab import words
from hollow_chain.lab.faults import expected_of
from hollow_chain.lab.state import Coming, HostFolder

MOST_EVENTS = 2000
MOST_STARTS = 20
MOST_BOOTS = 8
FIRST_PROCESS = 1200
"""What a stand-in host remembers of records, of starts of each service and of boots, as a host that was read would; and the number
that its first process has, past those of a kernel."""


class Refused(Exception):
    """The manager refuses: its error number, and why."""

    def __init__(self, number: int, text: str) -> None:
        super().__init__(f"error {number}: {text}")
        self.number = number


class Machine:
    """A stand-in host that is at work."""

    def __init__(self, folder: HostFolder) -> None:
        self.folder, self.host, self.lab = folder, folder.host, folder.lab

    # What can be asked of it.

    def boot(self, seconds: float) -> None:
        """Boot it, and let *seconds* pass."""
        self.lab.coming = []
        self.lab.limit_in_force = None
        self.host.boot_at = self.folder.clock
        self.host.services = [self._off(service) for service in self.host.services]
        own = {service.name for service in self.host.services}
        self.host.listeners = [one for one in self.host.listeners if one.service not in own]
        self.host.boots = [*self.host.boots[-(MOST_BOOTS - 1) :], BootRecord(at=self.folder.clock)]
        graph = Graph(snapshot([self.host]))
        self._foresee(control_rules.plan_of(graph, self.host, expected_of(self.host, self.lab.faults)), at_boot=True)
        self.pass_by(seconds)

    def start(self, name: str) -> Service:
        """Start a service and wait for the end of it. Raises :class:`Refused` as the manager would."""
        service = self._named(name)
        if service.state in ("running", "starting"):
            raise Refused(words.RUNS_ALREADY, words.ANSWERS[words.RUNS_ALREADY])
        if service.startup == "disabled":
            raise Refused(words.DISABLED, words.ANSWERS[words.DISABLED])
        graph = Graph(snapshot([self.host]))
        expected = expected_of(self.host, self.lab.faults)
        alone = {one.name: work for one in self.host.services if (work := work_apart(one, self.host)) is not None}
        expected.works = alone | expected.works
        expected.uses = {n: [u for u in many if self._named(u).state != "running"] for n, many in expected.uses.items()}
        until = self._foresee(
            control_rules.plan_of_start(graph, self._as_booted(), expected, service), False, service.name
        )
        self._happen(until)
        done = self._named(service.name)
        if done.state != "running":
            number = done.last.error_number if done.last else None
            raise Refused(number or words.ENDED, self._last_words(done.name))
        return done

    def stop(self, name: str) -> Service:
        """Stop a service. Raises :class:`Refused` where it does not run, or others that run need it."""
        service = self._named(name)
        if service.state not in ("running", "starting", "paused"):
            raise Refused(words.NOT_RUNNING, words.ANSWERS[words.NOT_RUNNING])
        graph = Graph(snapshot([self.host]))
        node = Node(self.host.name, service.name, service)
        needed = sorted(n.name for n in stop_takes(graph, node) if n.name != service.name
                        and n.service is not None and n.service.state == "running" and n.host == self.host.name)  # fmt: skip
        if needed:
            raise Refused(words.NEEDED_BY_RUNNING, words.ANSWERS[words.NEEDED_BY_RUNNING].format(", ".join(needed)))
        self.lab.coming = [one for one in self.lab.coming if one.service != service.name]
        now = self.folder.clock
        last = msgspec.structs.replace(service.last or LastRun(), result="success", ended_at=now, left_up_at=now,
                                       error_number=None, exit_status=None)  # fmt: skip
        self._put(msgspec.structs.replace(service, state="stopped", detail="", last=last))
        self._release(service.name)
        self._record(service.name, "info", f"{service.name} was stopped")
        return self._named(service.name)

    def resume(self, name: str) -> Service:
        """Continue a service that is paused. Raises :class:`Refused` where it is not."""
        service = self._named(name)
        if service.state != "paused":
            raise Refused(words.NOT_TAKEN, words.ANSWERS[words.NOT_TAKEN])
        self._put(msgspec.structs.replace(service, state="running", detail=""))
        self._record(service.name, "info", f"{service.name} was continued")
        return self._named(service.name)

    def pause(self, name: str) -> Service:
        """Pause a service that runs. Raises :class:`Refused` where it does not."""
        service = self._named(name)
        if service.state != "running":
            raise Refused(words.NOT_RUNNING, words.ANSWERS[words.NOT_RUNNING])
        self._put(msgspec.structs.replace(service, state="paused"))
        self._record(service.name, "info", f"{service.name} was paused")
        return self._named(service.name)

    def pass_by(self, seconds: float) -> None:
        """Let time pass, and happen what is to happen in it."""
        self._happen(self.folder.clock + timedelta(seconds=seconds))

    # What will be.

    def _foresee(self, plan: BootPlan, at_boot: bool, waited_for: str = "") -> datetime:
        """Note all that a boot or a start will bring; when the one that is waited for is settled."""
        self.lab.tries += 1
        now = self.folder.clock
        outcome = simulate(plan, 1, self.lab.seed * 100_003 + self.lab.tries)
        coming: list[Coming] = []
        for at, unit in enumerate(plan.units):
            if unit.starts and unit.kind not in ("remote", "absent"):
                coming += _coming(outcome, at, now, at_boot)
        self.lab.coming = sorted([*self.lab.coming, *coming], key=lambda one: one.at)
        ends = [one.at for one in coming if one.service == waited_for and one.what in ("up", "failed")]
        return max(ends, default=now)

    def _happen(self, until: datetime) -> None:
        due = [one for one in self.lab.coming if one.at <= until]
        self.lab.coming = [one for one in self.lab.coming if one.at > until]
        for one in due:
            self.host.read_at = one.at
            getattr(self, f"_{one.what}")(one, self._named(one.service))
        self.host.read_at = max(until, self.folder.clock)
        self.host.events = self.host.events[-MOST_EVENTS:]

    def _begins(self, one: Coming, service: Service) -> None:
        last = LastRun(started_at=one.at, restarts=service.last.restarts if service.last else 0)
        self._put(msgspec.structs.replace(service, state="starting", detail="", last=last))
        if one.at_boot:
            self.host.boots[-1].tried_seconds.setdefault(service.name, self._since_boot(one.at))

    def _up(self, one: Coming, service: Service) -> None:
        last = msgspec.structs.replace(service.last or LastRun(), result="success", up_at=one.at, error_number=None)
        start = self._start_of(one, "up")
        program = service.program
        if program is not None:
            program = msgspec.structs.replace(
                program, process=FIRST_PROCESS + self.lab.tries * 40 + len(self.host.listeners)
            )
        self._put(msgspec.structs.replace(service, state="running", last=last, program=program,
                                          starts=[*service.starts, start][-MOST_STARTS:]))  # fmt: skip
        for claim in service.claims:
            if claim.port and not claim.free_choice and not claim.switched_off:
                self.host.listeners.append(
                    Listener(port=claim.port, protocol=claim.protocol, address=claim.address, service=service.name,
                             process=program.process if program else 0, program=program.path if program else ""))  # fmt: skip
        self._record(service.name, "info", f"{service.name} is up")
        if one.at_boot:
            self.host.boots[-1].up_seconds.setdefault(service.name, self._since_boot(one.at))

    def _failed(self, one: Coming, service: Service) -> None:
        said = words.of(one.cause)
        began = service.last.started_at if service.last and service.state == "starting" else one.at
        last = LastRun(result=said.result, error_number=said.number, exit_status=said.exit_status,
                       started_at=began, ended_at=one.at)  # fmt: skip
        starts = service.starts
        if said.result == "timeout" or said.exit_status is not None:
            starts = [*starts, self._start_of(one, "timeout" if said.result == "timeout" else "failed")][-MOST_STARTS:]
        self._put(msgspec.structs.replace(service, state="stopped", last=last, starts=starts))
        if one.cause == named.HELD_BY_PEER:
            self._show_holder(service.name, one.blame)
        self._record(service.name, "error", self._text(said.text, one, service), said.number)
        if one.at_boot:
            self.host.boots[-1].failed.append(service.name)

    def _ended(self, one: Coming, service: Service) -> None:
        said = words.of(one.cause)
        last = msgspec.structs.replace(service.last or LastRun(), result="exit-code", exit_status=said.exit_status,
                                       error_number=said.number, ended_at=one.at, left_up_at=one.at)  # fmt: skip
        self._put(msgspec.structs.replace(service, state="stopped", last=last))
        self._release(service.name)
        self._record(service.name, "error", self._text(said.text, one, service), said.number)

    # Odds and ends.

    def _as_booted(self) -> Host:
        """The host with the start limit that it was booted with: a new one holds from the next boot on."""
        if self.lab.limit_in_force is None:
            return self.host
        limits = msgspec.structs.replace(self.host.limits or HostLimits(), start_seconds=self.lab.limit_in_force)
        return msgspec.structs.replace(self.host, limits=limits)

    def _text(self, form: str, one: Coming, service: Service) -> str:
        blamed = next((s for s in self.host.services if s.name == one.blame), None)
        port = next((c.port for c in (blamed.claims if blamed else ()) if c.port), 0)
        own = next((c.port for c in service.claims if c.port), 0)
        return form.format(
            name=service.name, blame=one.blame or "what it needs", thing=device_of(service.name), endpoint=f"127.0.0.1:{port}", port=own,
            program=service.program.path if service.program else "its program",
            account=service.account.user if service.account else "LocalSystem",
        )  # fmt: skip

    def _show_holder(self, name: str, holder: str) -> None:
        """What can be seen of a thing that only one can have: whose process has it open."""
        held = File(path=device_of(name), kind="device", held_by=self._process_of(holder))
        self.host.files = [*(file for file in self.host.files if file.path != held.path), held]
        self.host.processes = [
            *(one for one in self.host.processes if one.service != holder), Process(process=held.held_by, service=holder)
        ]  # fmt: skip

    def _process_of(self, name: str) -> int:
        program = next((one.program for one in self.host.services if one.name == name), None)
        return program.process if program and program.process else FIRST_PROCESS

    def _start_of(self, one: Coming, outcome: str) -> Start:
        began = one.at - timedelta(seconds=one.took)
        return Start(at=began, seconds=round(one.took, 3), outcome=outcome, at_boot=one.at_boot,  # type: ignore[arg-type]
                     offset=self._since_boot(one.at) if outcome == "up" and one.at_boot else None)  # fmt: skip

    def _since_boot(self, at: datetime) -> float:
        return round((at - (self.host.boot_at or at)).total_seconds(), 3)

    def _record(self, name: str, level: str, text: str, number: int | None = None) -> None:
        event = Event(at=self.folder.clock, service=name, source=words.SOURCE, level=level, text=text, number=number)
        self.host.events.append(event)

    def _last_words(self, name: str) -> str:
        return next((event.text for event in reversed(self.host.events) if event.service == name), "it did not start")

    def _release(self, name: str) -> None:
        self.host.listeners = [one for one in self.host.listeners if one.service != name]

    def _off(self, service: Service) -> Service:
        program = msgspec.structs.replace(service.program, process=0) if service.program else None
        return msgspec.structs.replace(service, state="stopped", detail="", last=None, program=program)

    def _named(self, name: str) -> Service:
        found = Graph(snapshot([self.host])).find(self.host.name, name)
        if found is None:
            raise Refused(words.NOT_REGISTERED, words.ANSWERS[words.NOT_REGISTERED])
        return found

    def _put(self, service: Service) -> None:
        self.host.services = [service if one.name == service.name else one for one in self.host.services]


def device_of(name: str) -> str:
    """The device that a service and its rival both want."""
    return f"D:/devices/{name}.dev"


def _coming(outcome: Outcome, at: int, now: datetime, at_boot: bool) -> list[Coming]:
    """What one simulated run brings for one unit."""
    unit = outcome.plan.units[at]
    begun, settled, up = (float(array[0, at]) for array in (outcome.begun_at, outcome.settled_at, outcome.up_at))
    state, why = State(int(outcome.state[0, at])), int(outcome.why[0, at])
    root, cause, blame = at, "", _rival(outcome, at, why)
    if why >= 0 or state in (State.WAITING, State.FAILED):
        root = int(outcome.blame[0, at]) if int(outcome.blame[0, at]) >= 0 else at
        blame = outcome.plan.units[root].name if root != at else blame
        cause = _cause(outcome, at, root, why)

    def item(what: str, seconds: float, took: float = 0.0) -> Coming:
        moment = now + timedelta(seconds=max(0.0, seconds))
        return Coming(at=moment, service=unit.name, what=what, cause=cause, blame=blame, took=took, at_boot=at_boot)

    found = [item("begins", begun)] if not np.isnan(begun) else []
    if state == State.UP:
        return [*found, item("up", up, up - begun if outcome.tries[0, at] == 1 else 0.0)]
    if state == State.WAITING:
        return [*found, item("failed", 0.0)]
    if np.isnan(settled):
        return found
    dies = unit.fault.after if unit.fault and unit.fault.after is not None and why == 0 else None
    if dies is not None:
        return [*found, item("up", settled, settled - begun), item("ended", settled + dies)]
    return [*found, item("failed", settled, settled - begun if not np.isnan(begun) else 0.0)]


def _rival(outcome: Outcome, at: int, why: int) -> str:
    """The other one that wants what this one did not get."""
    thing = why - FIRST_HELD
    if thing < 0:
        return ""
    return next((u.name for n, u in enumerate(outcome.plan.units) if n != at and thing in u.takes), "")


def _cause(outcome: Outcome, at: int, root: int, why: int) -> str:
    if why == NEED:
        unit = outcome.plan.units[root]
        if root in outcome.plan.units[at].uses:
            return named.START_RACE
        return unit.why_not if not unit.starts and unit.why_not in (named.DISABLED, named.NOT_REGISTERED) else NEEDS
    return named.DEPENDENCY_CYCLE if why < 0 else outcome.cause(why, at)

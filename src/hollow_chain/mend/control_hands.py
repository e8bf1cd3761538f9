"""Steps on this machine, where it is of the control-manager family: through the manager's interface, and the registry for what that
does not take. What was there before is kept byte for byte."""

from __future__ import annotations

import time
from functools import cached_property
from pathlib import Path
from typing import Any

from hollow_chain.chain import Graph, Node, stop_takes
from hollow_chain.facts.host import File, Snapshot
from hollow_chain.mend.control_definitions import DEFINES, Definitions, action, kept_values, key_of, needs_in, text_in
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.plan import Step
from hollow_chain.reach.control import (
    CONTROL,
    NUMBER,
    PAUSED,
    RUNNING,
    STOPPED,
    ControlReached,
    Declined,
    Raw,
    ServiceStatus,
)
from hollow_chain.trouble import Trouble

_LIMIT = "ServicesPipeTimeout"
_OWN = {
    "startup": ("Start", "DelayedAutostart"),
    "wait": ("DependOnService", "DependOnGroup"),
    "account": ("ObjectName",),
    "recovery": ("FailureActions",),
}
"""Values of a definition that a step of each verb is meant to change."""
_RUNS = ("start", "stop", "restart", "continue", "pause")
_FORGOTTEN_AFTER = 86_400
"""Seconds without a failure after which they are counted anew, where nothing is set yet: a day, as consoles offer it."""
_NEED_NO_PASSWORD = ("LocalSystem", "LocalService", "NetworkService")
_MACHINE = r"SOFTWARE\Microsoft\Cryptography"
_UP = ("running", "paused")
_LAST_NUMBER = 0xFFFF
"""System error codes have 16 bits (winerror.h)."""


class ControlHands:
    """This machine, now."""

    named = ""

    def __init__(self, reached: ControlReached) -> None:
        self._reached = reached
        self.host = reached.name
        self.machine = f"{_machine_number(reached)} {self.host}"
        self._graph: Graph | None = None
        try:
            self._orders, self._values = reached.orders, reached.exact_values
            self._definitions = Definitions(reached)
        except Declined as declined:
            raise Trouble(f"the service manager of {self.host} cannot be asked: {declined.strerror}") from None

    @cached_property
    def place(self) -> Path:
        """The folder of the journals."""
        return Path(self._reached.private_folder()) / "mends"

    def lacks(self, steps: list[Step]) -> list[str]:
        """Everything that is done here is for administrators only."""
        verbs = {step.act.verb for step in steps if step.act is not None}
        if "reboot" in verbs:
            return ["a reboot, which on this machine is done by hand"]
        if self._reached.all_rights:
            return []
        wanted = [
            ("to start, stop and continue services", set(_RUNS)),
            ("to change how services are registered", {*_OWN, *DEFINES}),
            (rf"to write in HKEY_LOCAL_MACHINE\{CONTROL}", {"limit"}),
            ("to keep a journal among the data of all programs", verbs),
        ]
        return [f"an administrator's right {words}" for words, needed in wanted if verbs & needed]

    def facts(self, with_claims: bool = False, with_packages: bool = False) -> Snapshot:
        """This machine, read now."""
        from hollow_chain import __version__
        from hollow_chain.sources.asked import Asked
        from hollow_chain.sources.readers import readers_of
        from hollow_chain.sources.reading import read

        asked = Asked((), with_claims, with_packages)
        found = read(self._reached, readers_of(self._reached.family), asked, f"hollow-chain {__version__}")
        self._graph = Graph(found)
        return found

    def look(self, path: str) -> File | None:
        """What is at a path now."""
        from hollow_chain.sources.control.looks import ControlLooker

        return ControlLooker(self._reached).look(path, with_rights=True)

    def own_test(self, service: str) -> str:
        """Definitions of this family name none."""
        return ""

    def keep(self, step: Step, mend: str, number: str) -> dict[str, Any]:
        """What the step is going to change."""
        act = step.act
        if act is None:
            return {}
        if act.verb in DEFINES:
            return self._definitions.keep(act.verb, act.service)
        if act.verb in _OWN:
            return {"key": key_of(act.service), "values": kept_values(self._values, key_of(act.service))}
        if act.verb == "limit" and not act.service:
            return {
                "key": CONTROL,
                "values": {k: v for k, v in kept_values(self._values, CONTROL).items() if k == _LIMIT},
            }
        if act.verb in _RUNS:
            return {"states": {name: self._state(name) for name in self._near(act.service)}}
        return {}

    def _known(self) -> Graph:
        if self._graph is None:
            self.facts()
        assert self._graph is not None
        return self._graph

    def _near(self, name: str) -> list[str]:
        """A service with all that its start may start along, and all that its stop takes along; the deepest need first."""
        graph = self._known()
        node = graph.node(self.host, name)
        above = [one.name for one in stop_takes(graph, node) if one.service is not None and one.host == self.host]
        return list(dict.fromkeys([*self._needs(node), *above]))

    def _needs(self, node: Node) -> list[str]:
        """What a service needs, and itself last: each behind what it needs in turn."""
        graph = self._known()
        found: dict[str, None] = {}
        stack: list[tuple[Node, bool]] = [(node, False)]
        seen = {node.name}
        while stack:
            one, is_left = stack.pop()
            if is_left:
                found[one.name] = None
                continue
            stack.append((one, True))
            for edge in graph.needs(one, ("hard",)):
                head = edge.head
                if (
                    not edge.crosses
                    and head.service is not None
                    and head.service.kind != "driver"
                    and head.name not in seen
                ):
                    seen.add(head.name)
                    stack.append((head, False))
        return list(found)

    def _state(self, name: str) -> str:
        try:
            status = self._orders.status(name)
        except Declined:
            return ""
        return {RUNNING: "running", PAUSED: "paused", STOPPED: "stopped"}.get(status.state, "")

    def do(self, step: Step, kept: dict[str, Any]) -> None:
        """Carry out one step, and wait for its end."""
        act = step.act
        if act is None or (act.verb not in _DOES and act.verb not in ("limit", *DEFINES)):
            raise NotDone(f"this has to be done by hand: {step.does}")
        try:
            if act.verb == "limit":
                self._limit(act.service, act.value)
            elif act.verb in DEFINES:
                self._definitions.do(act.verb, act.service, act.value)
            else:
                _DOES[act.verb](self, act.service, act.value)
        except Declined as declined:
            raise NotDone(f"{step.does.rstrip('.')}: {_said(declined)}") from None

    def _start(self, name: str, value: str = "") -> None:
        node = self._known().node(self.host, name)
        for one in self._needs(node):
            if self._state(one) in _UP and one != name:
                continue
            status = self._orders.start(one)
            if status.state != RUNNING and not (status.state == STOPPED and not status.number):
                raise NotDone(f"{one} did not start: {_why(status)}")

    def _stop(self, name: str, value: str = "") -> None:
        graph = self._known()
        node = graph.node(self.host, name)
        above = [one.name for one in stop_takes(graph, node) if one.service is not None and one.host == self.host]
        for one in [*reversed(above), name]:
            if self._state(one) in _UP:
                status = self._orders.stop(one)
                if status.state != STOPPED:
                    raise NotDone(f"{one} did not stop: {_why(status)}")

    def _restart(self, name: str, value: str = "") -> None:
        up = [one for one in self._near(name) if self._state(one) == "running"]
        self._stop(name)
        for one in dict.fromkeys([name, *up]):
            self._start(one)

    def _continue(self, name: str, value: str = "") -> None:
        status = self._orders.resume(name)
        if status.state != RUNNING:
            raise NotDone(f"{name} did not go on: {_why(status)}")

    def _startup(self, name: str, value: str) -> None:
        if value not in ("automatic", "delayed", "manual"):
            raise NotDone(f"no startup type {value!r} here")
        took_delay = self._orders.set_startup(name, value)
        if not took_delay:  # the manager of this system leaves that to the registry
            delayed = (NUMBER, (1).to_bytes(4, "little")) if value == "delayed" else None
            self._values.put(key_of(name), "DelayedAutostart", delayed)

    def _wait(self, name: str, value: str) -> None:
        self._orders.set_needs(name, [*needs_in(self._values.all_of(key_of(name))), value])

    def _pause(self, name: str, value: str = "") -> None:
        status = self._orders.pause(name)
        if status.state != PAUSED:
            raise NotDone(f"{name} did not pause: {_why(status)}")

    def _account(self, name: str, value: str) -> None:
        if value not in _NEED_NO_PASSWORD:
            raise NotDone(f"{value} may need a password, which has to be given by hand")
        self._orders.set_account(name, value)

    def _recovery(self, name: str, value: str) -> None:
        actions = [action(text) for text in value.split(";") if text.strip()]
        service = self._known().find(self.host, name)
        known = service.failures_forgotten_after if service is not None else None
        self._orders.set_failure_actions(name, actions, _FORGOTTEN_AFTER if known is None or known < 0 else int(known))

    def _limit(self, service: str, value: str) -> None:
        if service:
            raise NotDone("a service of this family has no start limit of its own")
        self._values.put(CONTROL, _LIMIT, (NUMBER, round(float(value) * 1000).to_bytes(4, "little")))

    def settle(self, step: Step, kept: dict[str, Any]) -> None:
        """Nothing is kept aside."""

    def take_back(self, step: Step, kept: dict[str, Any]) -> None:
        """Restore what was kept."""
        act = step.act
        if act is None:
            return
        try:
            if "defined" in kept:
                self._definitions.restore(act.service, kept["defined"])
            elif "values" in kept:
                self._restore(act.verb, act.service, kept)
            elif "states" in kept:
                self._run_as_before(kept["states"])
        except Declined as declined:
            raise NotDone(f"{step.does.rstrip('.')}: {_said(declined)}") from None

    def _restore(self, verb: str, service: str, kept: dict[str, Any]) -> None:
        """Have the manager take the old setting, then put back the values of the registry as they were."""
        key, before = kept["key"], {name: (kind, bytes.fromhex(data)) for name, (kind, data) in kept["values"].items()}
        own = {name.casefold() for name in _OWN.get(verb, (_LIMIT,))}
        if verb == "startup" and "Start" in before:
            self._orders.set_start_number(service, int.from_bytes(before["Start"][1][:4], "little"))
        elif verb == "wait":
            self._orders.set_needs(service, needs_in(before))
        elif verb == "account" and (user := text_in(before, "objectname")) in _NEED_NO_PASSWORD:
            self._orders.set_account(service, user)
        now = self._values.all_of(key)
        folded = {name.casefold(): name for name in before}
        for name, value in now.items():
            was = before.get(folded.get(name.casefold(), ""))
            # Beside its own values the manager may have written others anew: absent ones go again, and equal ones get their old form.
            theirs = verb in _OWN and (was is None or _meaning(was) == _meaning(value))
            if was != value and (name.casefold() in own or theirs):
                self._values.put(key, name, was)
        for name in [
            name for name in before if name.casefold() in own and name.casefold() not in {n.casefold() for n in now}
        ]:
            self._values.put(key, name, before[name])

    def _run_as_before(self, states: dict[str, str]) -> None:
        names = list(states)
        for name in reversed(names):
            if states[name] == "stopped" and self._state(name) in _UP:
                self._stop(name)
        for name in names:
            now = self._state(name)
            if states[name] in _UP and now not in _UP:
                self._start(name)
            if states[name] == "running" and now == "paused":
                self._orders.resume(name)
            if states[name] == "paused" and self._state(name) == "running":
                self._orders.pause(name)

    def let_pass(self, seconds: float) -> None:
        """Time passes by itself."""
        time.sleep(seconds)


_DOES = {
    "start": ControlHands._start,
    "stop": ControlHands._stop,
    "restart": ControlHands._restart,
    "continue": ControlHands._continue,
    "pause": ControlHands._pause,
    "startup": ControlHands._startup,
    "account": ControlHands._account,
    "recovery": ControlHands._recovery,
    "wait": ControlHands._wait,
}


def _machine_number(reached: ControlReached) -> str:
    """What tells this installation from all others."""
    try:
        return str(reached.registry.key(_MACHINE).values["machineguid"][0])
    except (Declined, KeyError):
        return "no machine ID"


def _said(declined: Declined) -> str:
    """Why the system said no; numbers beyond those of winerror.h say nothing to anybody."""
    number = f"error {declined.number}, " if declined.number <= _LAST_NUMBER else ""
    return f"{number}{declined.strerror}"


def _meaning(value: Raw) -> str:
    """A value as it is understood, whatever its form."""
    kind, data = value
    return data.hex() if kind == NUMBER else data.decode("utf-16-le", "replace").strip("\0").casefold()


def _why(status: ServiceStatus) -> str:
    from hollow_chain.causes import meanings

    if status.state not in (STOPPED, RUNNING):
        return "it does not come along"
    known = meanings.control(status.number) if status.number else None
    own = f", its own number {status.own_number}" if status.own_number else ""
    return f"error {status.number}{own}{f': {known.means}' if known is not None else ''}".rstrip(".")

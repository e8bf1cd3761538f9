"""Steps on a stand-in host, carried out by its own machine."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import Any

import msgspec

from hollow_chain import decoding
from hollow_chain.chain import Graph, stop_takes
from hollow_chain.facts.host import File, Host, HostLimits, Snapshot, snapshot
from hollow_chain.facts.service import Limits, Link, Service
from hollow_chain.families.entries import ManagerEntry, service_of_entry
from hollow_chain.lab.machine import Machine, Refused
from hollow_chain.lab.state import HostFolder, changing, load
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.plan import Step

BOOT_SECONDS = 300.0
"""Seconds for which a stand-in host is booted before a mend goes on: past the delayed group as it is by default."""
_UP = ("running",)
_DEFINES = ("define", "amend", "undefine")
_EXISTS = 1073
"""``ERROR_SERVICE_EXISTS`` (winerror.h)."""


class LabHands:
    """The stand-in host in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.host = load(folder).host.name
        self.machine = f"stand-in {self.host} in {folder.resolve()}"
        self.place = folder / "mends"
        self.named = f" --from {shlex.quote(str(folder))}"

    def lacks(self, steps: list[Step]) -> list[str]:
        """Nobody but the owner of the folder can change it."""
        import os

        return [] if os.access(self.folder, os.W_OK) else [f"to write in {self.folder}"]

    def facts(self, with_claims: bool = False, with_packages: bool = False) -> Snapshot:
        """The host as it is by its own clock."""
        return snapshot([load(self.folder).host], "hollow-chain lab")

    def look(self, path: str) -> File | None:
        """What the host's facts say of a path."""
        form = path.replace("\\", "/").casefold()
        files = load(self.folder).host.files
        return next((file for file in files if file.path.replace("\\", "/").casefold() == form), None)

    def own_test(self, service: str) -> str:
        """Services of a stand-in host have none."""
        return ""

    def keep(self, step: Step, mend: str, number: str) -> dict[str, Any]:
        """What runs, and the settings of the service and of the host."""
        folder = load(self.folder)
        host = folder.host
        act = step.act
        kept: dict[str, Any] = {"up": [one.name for one in host.services if one.state in _UP]}
        service = Graph(snapshot([host])).find(host.name, act.service) if act is not None and act.service else None
        if service is not None:
            kept["service"] = {
                "name": service.name,
                "startup": service.startup,
                "links": msgspec.to_builtins(service.links),
                "limits": msgspec.to_builtins(service.limits),
            }
        if act is not None and act.verb in _DEFINES:
            kept["defined"] = msgspec.to_builtins(service) if service is not None else None
            kept["place"] = host.services.index(service) if service is not None else len(host.services)
        kept["limits"] = msgspec.to_builtins(host.limits)
        kept["limit_in_force"] = folder.lab.limit_in_force
        return kept

    def do(self, step: Step, kept: dict[str, Any]) -> None:
        """Carry out one step."""
        act = step.act
        if act is None or act.verb not in _DOES:
            raise NotDone(f"a stand-in host cannot do this: {step.does}")
        with changing(self.folder) as folder:
            try:
                _DOES[act.verb](Machine(folder), act.service, act.value)
            except Refused as refused:
                folder.save()  # what was tried has happened
                raise NotDone(str(refused)) from None

    def settle(self, step: Step, kept: dict[str, Any]) -> None:
        """A stand-in host keeps nothing aside."""

    def take_back(self, step: Step, kept: dict[str, Any]) -> None:
        """Put settings back, then stop what was down and start what was up."""
        act = step.act
        if act is None:
            return
        with changing(self.folder) as folder:
            machine = Machine(folder)
            if act.verb in ("startup", "wait", "limit"):
                _restore(folder, kept)
            if act.verb in _DEFINES:
                _put_definition_back(folder.host, act.service, kept)
            if act.verb == "continue":
                machine.pause(act.service)
            if act.verb in ("start", "stop", "restart"):
                _run_as_before(machine, kept["up"])

    def let_pass(self, seconds: float) -> None:
        """Its own clock goes on."""
        with changing(self.folder) as folder:
            Machine(folder).pass_by(seconds)


def _replace(host: Host, name: str, **changes: Any) -> None:
    host.services = [msgspec.structs.replace(one, **changes) if one.name == name else one for one in host.services]


def _define(machine: Machine, name: str, value: str) -> None:
    if any(one.name.casefold() == name.casefold() for one in machine.host.services):
        raise Refused(_EXISTS, f"a service of the name {name} is registered already")
    machine.host.services = [*machine.host.services, service_of_entry(decoding.of_json(value, ManagerEntry))]


def _amend(machine: Machine, name: str, value: str) -> None:
    entry = decoding.of_json(value, ManagerEntry)
    new = service_of_entry(entry)
    for one in machine.host.services:
        if one.name == name:
            said = [
                "display_name",
                "description",
                "startup",
                "links",
                "program",
                "account",
                "claims",
                "failure_actions",
                *(["triggers"] if entry.sets_events else []),
            ]
            _replace(machine.host, name, **{key: getattr(new, key) for key in said})


def _undefine(machine: Machine, name: str, value: str) -> None:
    machine.host.services = [one for one in machine.host.services if one.name != name]


def _put_definition_back(host: Host, name: str, kept: dict[str, Any]) -> None:
    host.services = [one for one in host.services if one.name != name]
    if kept["defined"] is not None:
        host.services.insert(kept["place"], decoding.of_plain(kept["defined"], Service))


def _startup(machine: Machine, name: str, value: str) -> None:
    _replace(machine.host, name, startup=value)


def _limit(machine: Machine, name: str, value: str) -> None:
    seconds = float(value)
    if name:
        service = next(one for one in machine.host.services if one.name == name)
        _replace(machine.host, name, limits=msgspec.structs.replace(service.limits or Limits(), start_seconds=seconds))
        return
    limits = machine.host.limits or HostLimits()
    machine.lab.limit_in_force = (
        limits.start_seconds if machine.lab.limit_in_force is None else machine.lab.limit_in_force
    )
    machine.host.limits = msgspec.structs.replace(
        limits, start_seconds=seconds, start_typed=f"{seconds * 1000:.0f}", start_changed_at=machine.folder.clock
    )


def _wait(machine: Machine, name: str, value: str) -> None:
    service = next(one for one in machine.host.services if one.name == name)
    _replace(machine.host, name, links=[*service.links, Link(to=value)])


def _start(machine: Machine, name: str, value: str) -> None:
    machine.start(name)


def _stop(machine: Machine, name: str, value: str) -> None:
    for one in _with_dependents(machine, name):
        machine.stop(one)


def _restart(machine: Machine, name: str, value: str) -> None:
    gone = _with_dependents(machine, name)
    for one in gone:
        machine.stop(one)
    for one in reversed(gone):
        machine.start(one)


def _continue(machine: Machine, name: str, value: str) -> None:
    machine.resume(name)


def _reboot(machine: Machine, name: str, value: str) -> None:
    machine.boot(BOOT_SECONDS)


_DOES = {
    "define": _define,
    "amend": _amend,
    "undefine": _undefine,
    "startup": _startup,
    "limit": _limit,
    "wait": _wait,
    "start": _start,
    "stop": _stop,
    "restart": _restart,
    "continue": _continue,
    "reboot": _reboot,
}


def _with_dependents(machine: Machine, name: str) -> list[str]:
    """A service and all that runs and needs it, those farthest from it first: the family refuses to stop what is needed."""
    graph = Graph(snapshot([machine.host]))
    taken = [node.name for node in stop_takes(graph, graph.node(machine.host.name, name))
             if node.service is not None and node.service.state in _UP and node.host == machine.host.name]  # fmt: skip
    return [*reversed(taken), graph.node(machine.host.name, name).name]


def _restore(folder: HostFolder, kept: dict[str, Any]) -> None:
    folder.host.limits = decoding.of_plain(kept["limits"], HostLimits | None)
    folder.lab.limit_in_force = kept["limit_in_force"]
    service = kept.get("service")
    if service is not None:
        _replace(
            folder.host,
            service["name"],
            startup=service["startup"],
            links=decoding.of_plain(service["links"], list[Link]),
            limits=decoding.of_plain(service["limits"], Limits | None),
        )


def _run_as_before(machine: Machine, up: list[str]) -> None:
    for name in [one.name for one in machine.host.services if one.state in _UP and one.name not in up]:
        if any(one.name == name and one.state in _UP for one in machine.host.services):
            _stop(machine, name, "")
    for name in up:
        if not any(one.name == name and one.state in _UP for one in machine.host.services):
            try:
                machine.start(name)
            except Refused as refused:
                raise NotDone(f"{name} could not be started again: {refused}") from None

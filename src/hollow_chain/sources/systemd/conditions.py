"""Conditions of units on files, tested where the manager has not tested them or kept no record."""

from __future__ import annotations

from hollow_chain.facts.host import File
from hollow_chain.facts.service import Service
from hollow_chain.sources.looks import Looker
from hollow_chain.sources.reading import HostReading


def add(reading: HostReading) -> None:
    """What becomes of the conditions of services that are not up."""
    for service in reading.host.services:
        program = service.program
        if program is not None and service.state != "running" and not (service.template or program.root):
            try_conditions(service, reading.looker)


def try_conditions(service: Service, looker: Looker) -> None:
    """Test the conditions of *service* that the manager has not tested."""
    paths = [c.parameter for c in service.conditions if c.parameter.startswith("/") and "*" not in c.parameter]
    for path in paths:
        looker.look(path, instance=service.instance)
    for condition in service.conditions:
        if condition.outcome == "untested" and condition.parameter in looker.seen:
            met = holds(condition.kind, looker.seen[condition.parameter])
            if met is not None:
                condition.outcome = "met" if met != condition.negated else "unmet"


def holds(kind: str, file: File) -> bool | None:
    """Whether a condition of systemd on a single path holds (systemd.unit(5)); None for kinds not tested here."""
    match kind.removeprefix("Condition").removeprefix("Assert"):
        case "PathExists":
            return file.exists
        case "PathIsDirectory":
            return file.exists and file.kind == "folder"
        case "FileNotEmpty":
            return file.exists and file.kind == "file" and bool(file.size)
        case "FileIsExecutable":
            return file.exists and file.kind == "file" and bool(file.executable)
    return None

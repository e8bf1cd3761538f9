"""Conditions of units on files, tested where the manager has not tested them or kept no record."""

from __future__ import annotations

from hollow_chain.facts.host import File
from hollow_chain.facts.service import Condition, Service
from hollow_chain.sources.looks import Looker
from hollow_chain.sources.reading import HostReading


def add(reading: HostReading) -> None:
    """What becomes of the conditions of services that are not up."""

    def try_them(service: Service) -> None:
        program = service.program
        if service.state != "running" and not (service.template or (program is not None and program.root)):
            try_conditions(service, reading.looker, reading.host.container)

    reading.reached.files.expect(
        c.parameter
        for s in reading.host.services
        for c in s.conditions
        if c.parameter.startswith("/") and "*" not in c.parameter
    )
    reading.reached.each(try_them, reading.host.services)


def try_conditions(service: Service, looker: Looker, container: bool = False) -> None:
    """Test the conditions of *service* that the manager has not tested, or of which it has forgotten the outcome, as it does with each
    reload. *container*: whether the host is one."""
    paths = [c.parameter for c in service.conditions if c.parameter.startswith("/") and "*" not in c.parameter]
    for path in paths:
        looker.look(path, instance=service.instance)
    for condition in service.conditions:
        if condition.outcome != "untested":
            continue
        met = _of_machine(condition, container)
        if condition.parameter in looker.seen:
            met = holds(condition.kind, looker.seen[condition.parameter], looker)
        if met is not None:
            condition.outcome = "met" if met != condition.negated else "unmet"


def _of_machine(condition: Condition, container: bool) -> bool | None:
    """Whether a condition on what the host runs in holds; None where that is not known."""
    if (
        condition.kind.endswith("Virtualization")
        and container
        and condition.parameter in ("container", "vm", "yes", "no")
    ):
        return condition.parameter in ("container", "yes")
    return None


def holds(kind: str, file: File, looker: Looker | None = None) -> bool | None:
    """Whether a condition of systemd on a single path holds (systemd.unit(5)); None for kinds not tested here."""
    match kind.removeprefix("Condition").removeprefix("Assert"):
        case "PathExists":
            return file.exists
        case "PathIsDirectory":
            return file.exists and file.kind == "folder"
        case "DirectoryNotEmpty" if looker is not None:
            return file.exists and file.kind == "folder" and bool(looker.names(file.path, 1))
        case "FileNotEmpty":
            return file.exists and file.kind == "file" and bool(file.size)
        case "FileIsExecutable":
            return file.exists and file.kind == "file" and bool(file.executable)
    return None

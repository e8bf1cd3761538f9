"""Conditions of units on files, tested where the manager has not tested them or kept no record."""

from __future__ import annotations

from hollow_chain.facts.host import Event, File
from hollow_chain.facts.service import Condition, Service
from hollow_chain.lazy import pattern
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


_SKIPPED = pattern(
    r"was skipped because (?:of an unmet|no trigger|all trigger) condition check|Condition check resulted in .{1,400} being skipped"
)
_UNMET = pattern(r"unmet condition check \((?P<kind>\w{1,60})=(?P<parameter>.{0,1000})\)")


def add_unmet(service: Service, told: list[Event]) -> None:
    """Which of the conditions that nobody could test did not hold when it was last to be started, by the manager's own records: once it
    has let go of a unit, it tells no outcome any more."""
    skipped = _SKIPPED.search(told[-1].text) if told else None
    if skipped is None:
        return
    untested = [one for one in service.conditions if one.outcome == "untested"]
    named = _UNMET.search(told[-1].text)
    if named is None and "trigger" in skipped[0]:
        unmet = [one for one in untested if one.optional]
    elif named is None:
        unmet = untested if len(untested) == len(service.conditions) == 1 else []
    else:
        parameter = named["parameter"].removeprefix("!")
        unmet = [one for one in untested if (one.kind, one.parameter) == (named["kind"], parameter)]
    for one in unmet:
        one.outcome = "unmet"


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

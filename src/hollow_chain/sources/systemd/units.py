"""The units of a host, as its manager and its files tell them."""

from __future__ import annotations

from hollow_chain.facts.host import Host, HostLimits, Unread
from hollow_chain.facts.runs import Job
from hollow_chain.facts.service import Definition, Service, Trigger
from hollow_chain.reach.handles import Walker
from hollow_chain.reach.interfaces import Files
from hollow_chain.sources.reading import HostReading
from hollow_chain.sources.systemd import bus, definitions
from hollow_chain.sources.systemd.definitions import Linked
from hollow_chain.sources.systemd.properties import service_of
from hollow_chain.sources.systemd.unit_facts import service_of_file, startup_of_linked, targets_of, triggered_by_file
from hollow_chain.sources.systemd.values import moment

_MACHINES = ("kvm", "qemu", "vmware", "microsoft", "xen", "amazon", "oracle")
"""What the manager calls virtualization that is a machine of its own, and no container (systemd-detect-virt(1))."""


def add(reading: HostReading) -> None:
    """The units, and what the manager says of the host itself."""
    told = bus.fetch(reading.reached, reading.asked.extra)
    files, walker = reading.reached.files, reading.walker
    reading.host.read_at = reading.reached.now()  # all states are of the moment when the manager had told them
    fill(reading.host, told, files)
    linked = definitions.linked_units(files)
    wants = _wanting(reading.host, linked)
    _settle_startup(reading.host, wants)
    _add_unloaded(reading, told, wants, walker)
    _add_dangling(reading.host, told)
    definitions.add(reading.host, linked, files, walker, reading.reached.each)
    _drop_idle_devices(reading.host)


def fill(host: Host, told: bus.BusFacts, files: Files) -> None:
    """Put what the manager said into the facts of the host."""
    manager = told.manager
    host.services = [
        service_of(facts, told.activatable, manager)
        for facts in told.units.values()
        if facts.get("LoadState") != "not-found" or facts.get("ActiveState") in ("active", "failed")
    ]
    _add_triggers(host.services, told)
    _add_jobs(host.services, told.jobs)
    host.boot_at = moment(manager.get("UserspaceTimestamp")) or moment(manager.get("KernelTimestamp"))
    host.system = f"systemd {manager.get('Version', '')}".strip()
    virtual = str(manager.get("Virtualization") or "")
    host.container = bool(virtual) and virtual not in _MACHINES and files.exists("/proc/1/environ")
    host.limits = HostLimits(unprivileged_port=_unprivileged_port(files))
    host.unread += [Unread(what=name, why=why) for name, why in told.refused.items()]


def _add_jobs(units: list[Service], jobs: tuple[bus.QueuedJob, ...]) -> None:
    """Tell each service what waits or is under way for it in the manager's queue."""
    by_unit = {job.unit: job for job in jobs}
    for unit in units if by_unit else ():
        job = by_unit.get(unit.name)
        if job is not None:
            unit.job = Job(kind=job.kind, state=job.state, behind=sorted(job.behind))


def _unprivileged_port(files: Files) -> int | None:
    """First port that any account may take (ip(7), ``ip_unprivileged_port_start``)."""
    try:
        return int(files.text("/proc/sys/net/ipv4/ip_unprivileged_port_start"))
    except (OSError, ValueError):
        return None


def _add_triggers(units: list[Service], told: bus.BusFacts) -> None:
    """Tell each service what triggers it, and when a timer is due.

    The manager knows a trigger only while the unit that triggers is loaded; the other direction is always known.
    """
    due = {t.name: t.due_at for unit in units for t in unit.triggers if t.kind == "time"}
    by_name = {unit.name: unit for unit in units}
    for name, facts in told.units.items():
        for triggered in facts.get("Triggers", ()):
            unit = by_name.get(triggered)
            if unit is None or name not in by_name or any(t.name == name for t in unit.triggers):
                continue
            unit.triggers.append(Trigger(kind=name.rpartition(".")[2], name=name))
            if unit.startup in ("on-need", "manual"):
                unit.startup = "event"
    for unit in units:
        for trigger in unit.triggers:
            if trigger.kind == "timer":
                trigger.due_at = due.get(trigger.name)


def _wanting(host: Host, linked: dict[str, Linked]) -> dict[str, list[str]]:
    """The units that links start each unit along with, by the names that the manager has for them."""
    targets = {alias: unit.name for unit in host.services if unit.kind == "target" for alias in unit.aliases}
    return {name: sorted({targets.get(by, by) for by in links.by}) for name, links in linked.items()}


def _settle_startup(host: Host, wants: dict[str, list[str]]) -> None:
    """What of an enabled unit the manager does not tell: it knows no link from a unit that it has not loaded."""
    for unit in host.services:
        if unit.startup != "automatic" or unit.wanted_by or not wants:
            continue
        by = [one for name in (unit.name, *unit.aliases) for one in wants.get(name, ())]
        unit.wanted_by = targets_of(by)
        unit.startup = startup_of_linked(by, "event" if unit.triggers else "on-need")


def _add_unloaded(reading: HostReading, told: bus.BusFacts, wants: dict[str, list[str]], walker: Walker) -> None:
    """Installed units that nothing has loaded, templates among them, from their files; and what triggers them."""
    files = reading.reached.files
    files.expect(told.unloaded.values())
    units = reading.reached.each(
        lambda one: service_of_file(*one, wants.get(one[0], []), files, walker), told.unloaded.items()
    )
    made = {unit.name: unit for unit in units}
    for name, path in told.unloaded.items():
        if not name.endswith((".socket", ".timer", ".path")) or made[name].template:
            continue
        triggered = made.get(triggered_by_file(name, path, walker))
        if triggered is not None:
            triggered.triggers.append(Trigger(kind=made[name].kind, name=name))
            triggered.startup = "event" if triggered.startup in ("on-need", "manual") else triggered.startup
    reading.host.services += made.values()


def _add_dangling(host: Host, told: bus.BusFacts) -> None:
    """Names that are links to definitions which are not there: somebody took these away and left the links."""
    known = {service.name: service for service in host.services}
    for name, (path, target) in told.dangling.items():
        unit = known.get(name)
        if unit is None:
            unit = Service(name=name, kind=name.rpartition(".")[2], state="stopped")
            host.services.append(unit)
        unit.definition = Definition(file=path, load="missing", error=f"it is a link to {target}, which is not there")


def _drop_idle_devices(host: Host) -> None:
    """A host has hundreds of device units; only those that something names are of use."""
    named = {link.to for s in host.services if s.kind != "device" for link in s.links}
    host.services = [s for s in host.services if s.kind != "device" or s.name in named]

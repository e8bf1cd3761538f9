"""This machine, now: systemd, processes, sockets, files, accounts and the journal, as one host of a snapshot."""

from __future__ import annotations

import os
import platform
import re
import socket
import threading
from datetime import UTC, datetime
from pathlib import Path

from hollow_chain.facts.host import (
    OF_RECORDS,
    OF_SOCKETS,
    Adapter,
    Event,
    Host,
    HostLimits,
    Listener,
    Snapshot,
    Unread,
    snapshot,
)
from hollow_chain.facts.service import Condition, Service, Trigger
from hollow_chain.families import SYSTEMD
from hollow_chain.reach.handles import Walker
from hollow_chain.sources import (
    boots,
    claims,
    definitions,
    licenses,
    logs,
    looks,
    packages,
    processes,
    settings,
    systemd_bus,
    upkeep,
)
from hollow_chain.sources.evidence_files import EvidenceReader, Text
from hollow_chain.sources.filesystems import filesystems
from hollow_chain.sources.journal import Journal, JournalUnavailable, recalled
from hollow_chain.sources.systemd_map import moment, service_of
from hollow_chain.sources.unit_facts import service_of_file, triggered_by_file
from hollow_chain.wording import lines
from hollow_chain.wording.forms import read as read_forms
from hollow_chain.wording.secrets import mask_text
from hollow_chain.wording.things import paths_in, place_in

RECORDS_EACH = 100
MAX_LOGGED = 1000
_LOCK_NAME = re.compile(r"(?i)lock|pid$")
_FILE_NAME = re.compile(r"(?<![\w/])(?:\./|/[\w./\-]*/)?([\w.\-]{3,80})")


def read(
    written_by: str = "", extra: tuple[str, ...] = (), with_claims: bool = False, with_packages: bool = False
) -> Snapshot:
    """The facts of this machine; *extra* names units to ask for although nothing has loaded them.

    The endpoints that services are set to listen on are read of those that failed; *with_claims*, of all. *with_packages* also
    tells which package brought the files that are named: who means to change one has to know.

    Raises :class:`~hollow_chain.trouble.Trouble` where this machine is not run by systemd.
    """
    beside = _Beside()
    beside.start()
    try:
        bus = systemd_bus.fetch(extra)
    finally:
        beside.join()  # a thread that is still reading when the interpreter ends may crash it
    host = _host(bus, beside)
    enabled = definitions.enabled_moments()
    _add_unloaded(host, bus, enabled)
    definitions.add(host, enabled)
    _drop_idle_devices(host)
    _name_socket_holders(host)
    _add_events(host, [s.name for s in host.services if worth_reading_logs(s) or s.name in extra])
    for service in host.services:
        if service.last is None and service.state == "stopped":
            service.last = recalled([e for e in host.events if e.service == service.name])
    with EvidenceReader() as reader:
        _add_own_words(host, reader)
        upkeep.add_records(host)
        host.reboot_due = upkeep.reboot_due(host.container)
        licenses.add(host, reader)
        _add_looks(host)
        if with_claims:
            claims.add_to_all(host, reader)
    if with_packages:
        packages.add(host)
    return snapshot([host], written_by)


class _Beside(threading.Thread):
    """Reads what does not come from the manager while the manager is being asked."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.listeners: list[Listener] = []
        self.unread: list[Unread] = []
        self.adapters: list[Adapter] = []

    def run(self) -> None:
        self.listeners, self.unread = processes.listeners()
        self.adapters = processes.adapters()


def _host(bus: systemd_bus.BusFacts, beside: _Beside) -> Host:
    manager = bus.manager
    units = [
        service_of(facts, bus.activatable)
        for facts in bus.units.values()
        if facts.get("LoadState") != "not-found" or facts.get("ActiveState") in ("active", "failed")
    ]
    _add_triggers(units, bus)
    return Host(
        name=socket.gethostname() or "this-host",
        manager=SYSTEMD.name,
        read_at=datetime.now(UTC),
        boot_at=moment(manager.get("UserspaceTimestamp")) or moment(manager.get("KernelTimestamp")),
        system=f"systemd {manager.get('Version', '')}".strip(),
        architecture=platform.machine(),
        cores=os.cpu_count(),
        container=bool(manager.get("Virtualization")) and Path("/proc/1/environ").exists() and _is_container(manager),
        addresses=[a for adapter in beside.adapters for a in adapter.addresses],
        services=units,
        limits=HostLimits(unprivileged_port=_unprivileged_port()),
        listeners=beside.listeners,
        sockets_read=not any(item.part == OF_SOCKETS for item in beside.unread),
        adapters=beside.adapters,
        filesystems=filesystems(),
        unread=[*beside.unread, *(Unread(what=name, why=why) for name, why in bus.refused.items())],
    )


def _unprivileged_port() -> int | None:
    """First port that any account may take (ip(7), ``ip_unprivileged_port_start``)."""
    try:
        return int(Path("/proc/sys/net/ipv4/ip_unprivileged_port_start").read_text())
    except (OSError, ValueError):
        return None


def _is_container(manager: dict[str, object]) -> bool:
    return str(manager.get("Virtualization", "")) not in (
        "kvm",
        "qemu",
        "vmware",
        "microsoft",
        "xen",
        "amazon",
        "oracle",
    )


def _add_triggers(units: list[Service], bus: systemd_bus.BusFacts) -> None:
    """Tell each service what triggers it, and when a timer is due.

    The manager knows a trigger only while the unit that triggers is loaded; the other direction is always known.
    """
    due = {t.name: t.due_at for unit in units for t in unit.triggers if t.kind == "time"}
    by_name = {unit.name: unit for unit in units}
    for name, facts in bus.units.items():
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


def _add_unloaded(host: Host, bus: systemd_bus.BusFacts, enabled: dict[str, datetime]) -> None:
    """Installed units that nothing has loaded, templates among them, from their files; and what triggers them."""
    with Walker() as walker:
        made = {name: service_of_file(name, path, name in enabled, walker) for name, path in bus.unloaded.items()}
    for name, path in bus.unloaded.items():
        if not name.endswith((".socket", ".timer", ".path")) or made[name].template:
            continue
        triggered = made.get(triggered_by_file(name, path))
        if triggered is not None:
            triggered.triggers.append(Trigger(kind=made[name].kind, name=name))
            triggered.startup = "event" if triggered.startup in ("on-need", "manual") else triggered.startup
    host.services += made.values()


def _drop_idle_devices(host: Host) -> None:
    """A host has hundreds of device units; only those that something names are of use."""
    named = {link.to for s in host.services if s.kind != "device" for link in s.links}
    host.services = [s for s in host.services if s.kind != "device" or s.name in named]


def _name_socket_holders(host: Host) -> None:
    """The manager itself holds the sockets of socket units: name the unit, not process 1."""
    if not any(listener.process == 1 for listener in host.listeners):
        return
    holders = {
        (claim.protocol, claim.port): unit.name for unit in host.services for claim in claims.of_socket_unit(unit)
    }
    for listener in host.listeners:
        if listener.process == 1 or not listener.service:
            listener.service = holders.get((listener.protocol[:3], listener.port), listener.service)


def worth_reading_logs(service: Service) -> bool:
    """Whether the log of a service may say something that its state does not: it is not up and has been tried,
    was restarted, or is refused."""
    if service.template or service.kind in ("device", "slice", "scope"):
        return False
    definition, last = service.definition, service.last
    if definition is not None and (definition.load == "refused" or definition.needs_reload):
        return True
    if service.state == "running":
        return last is not None and last.restarts > 0
    if service.state == "done":
        return False
    # Of a stopped service that nothing refers to the manager keeps no record; the journal may.
    return service.state != "stopped" or last is None or (last.started_at or last.ended_at) is not None


def _add_events(host: Host, names: list[str]) -> None:
    if not names:
        return
    try:
        boot = Path("/proc/sys/kernel/random/boot_id").read_text().strip().replace("-", "")
        with Journal() as journal:
            host.events = journal.of_units(names[:MAX_LOGGED], RECORDS_EACH, boot)
            host.events += _said_of_definitions(host, journal, boot)
            boots.add(host, [s for s in host.services if _needs_history(s)], journal, boot)
    except (JournalUnavailable, OSError) as error:
        host.unread.append(Unread(what="the journal", why=str(error), part=OF_RECORDS))
        return
    if len(names) > MAX_LOGGED:
        what = f"logs of {len(names) - MAX_LOGGED} services"
        host.unread.append(Unread(what=what, why="too many to read at once", part=OF_RECORDS))
    if not host.events and os.geteuid() != 0:
        why = "not permitted; run as root to read it"
        host.unread.append(Unread(what="the journal of system services", why=why, part=OF_RECORDS))


def _said_of_definitions(host: Host, journal: Journal, boot: str) -> list[Event]:
    """The manager's complaints about definitions that seem to need a reload; they may lie far back in a long log."""
    found: list[Event] = []
    known = {(e.service, e.at) for e in host.events}
    for service in host.services:
        definition = service.definition
        if definition is not None and definition.needs_reload and definition.file:
            said = journal.about_files(service.name, [definition.file, *definition.drop_ins], boot)
            found += [e for e in said if (e.service, e.at) not in known]
    return found


def _needs_history(service: Service) -> bool:
    """Whether past starts may tell more: it is not up although it was tried, or it hangs in its start."""
    return service.kind == "service" and service.state in ("failed", "starting")


def _add_own_words(host: Host, reader: EvidenceReader) -> None:
    """Of services that failed: the endpoints that they are set to listen on, and the records of their own log files."""
    for service in host.services:
        program = service.program
        if program is None or service.kind != "service" or not (service.state == "failed" or _has_restarted(service)):
            continue
        configured = claims.configuration(service, reader)
        claims.add(service, reader, configured)
        named = [*program.log_files, *(path for path in program.paths if "log" in path)]
        for text in configured.values():
            named += settings.log_paths_of_text(text.text)
            if (
                text.trust == "trusted"
            ):  # of what the service may write itself nothing follows about which files are its own
                program.settings_paths += settings.own_paths_of_text(text.text)
        program.log_files = list(dict.fromkeys(named))[:16]
        program.settings_paths = list(dict.fromkeys(program.settings_paths))[:16]
        host.events += logs.own_records(service, named, reader)
        host.events += _lines_complained_of([e for e in host.events if e.service == service.name], configured)
    claims.add_to_needs(host, [s for s in host.services if s.state == "failed" or _has_restarted(s)], reader)


def _lines_complained_of(events: list[Event], configured: dict[str, Text]) -> list[Event]:
    """The lines of a service's own configuration files that log records name by file and number, as records of their own. What
    else a record names is not opened: its words decide nothing about which files are the service's."""
    found: dict[tuple[str, int], Event] = {}
    for event in events:
        path, number = place_in(event.text) or ("", 0)
        if path in configured:
            text = settings.line_of(configured[path].text, number)
            if text and len(found) < 5:
                found[path, number] = Event(
                    at=event.at,
                    text=mask_text(text),
                    service=event.service,
                    source=f"configuration {path}",
                    line=number,
                    trust=configured[path].trust,
                )
    return list(found.values())


def _has_restarted(service: Service) -> bool:
    return service.state == "starting" or (service.last is not None and service.last.restarts > 0)


def _add_looks(host: Host) -> None:
    looker = looks.Looker()
    quoted = _paths_quoted(host.events)
    for service in host.services:
        program = service.program
        if program is None or service.template or program.root:
            continue
        looker.look(program.path, service.state != "running")
        for path in (program.folder, *program.paths, *program.environment_files):
            looker.look(path, instance=service.instance)
        if service.state != "running":
            for path in _condition_paths(service.conditions):
                looker.look(path, instance=service.instance)
            _try_conditions(service, looker)
        for path in (*quoted.get(service.name, ()), *program.log_files):
            looker.look_way(path)
            if service.instance:
                looker.look(path, instance=service.instance)
    for daemon in (d for f in host.license_files for d in f.daemons):
        looker.look(daemon.program, is_program=True)
    _add_holders(host, looker)
    host.files = list(looker.seen.values())
    if looker.passed_over:
        host.unread.append(Unread(what=f"{len(looker.passed_over)} paths", why="on network file systems, not touched"))
    users = [s.account.user for s in host.services if s.account and s.account.user and not s.account.dynamic]
    users += [name for _, name in lines.unknown_user(host.events)][:20]
    groups = [s.account.group for s in host.services if s.account and s.account.group and not s.account.dynamic]
    host.accounts = looks.accounts(users, groups)
    units = {s.program.process: s.name for s in host.services if s.program and s.program.process and _may_be_stale(s)}
    for pid in _quoted_processes(host):
        units.setdefault(pid, processes.unit_of(pid))
    host.processes = [p for p in (processes.described(pid, unit) for pid, unit in units.items()) if p]


def _add_holders(host: Host, looker: looks.Looker) -> None:
    """Who holds the files that look like locks, those that records call locked, and the things that they call busy."""
    for file in list(looker.seen.values()):
        if file.exists and _LOCK_NAME.search(file.path):
            looker.add_lock(file)
    complaints = lines.saying(host.events, "locked", "busy")
    names = {name for e in complaints for name in _FILE_NAME.findall(e.text)}
    busy = {path for _, near in lines.busy(complaints) for path in near}
    for path, process in looks.holders_of(names, busy):
        found = looker.look(path)
        if found is not None and found.exists:
            found.held_by = found.held_by or process


def _quoted_processes(host: Host) -> list[int]:
    """Processes that lock files or log lines name."""
    found = [number for file in host.files for number in (file.held_by, file.names_process) if number]
    found += [int(number) for e in host.events for number in read_forms(e.text).named("process", "number")]
    return list(dict.fromkeys(found))[:100]


def _may_be_stale(service: Service) -> bool:
    return service.definition is not None and service.definition.needs_reload


def _try_conditions(service: Service, looker: looks.Looker) -> None:
    """Test conditions on files that the manager has not tested, or of which it has kept no record."""
    for condition in service.conditions:
        if condition.outcome == "untested" and condition.parameter in looker.seen:
            holds = looks.holds(condition.kind, looker.seen[condition.parameter])
            if holds is not None:
                condition.outcome = "met" if holds != condition.negated else "unmet"


def _condition_paths(conditions: list[Condition]) -> list[str]:
    return [c.parameter for c in conditions if c.parameter.startswith("/") and "*" not in c.parameter]


def _paths_quoted(events: list[Event]) -> dict[str, list[str]]:
    quoted: dict[str, dict[str, None]] = {}
    for event in events:
        for path in paths_in(event.text):
            quoted.setdefault(event.service, {})[path] = None
    return {name: list(paths)[:50] for name, paths in quoted.items()}

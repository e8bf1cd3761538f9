"""Records of the event logs around failures: what the service manager says, what services say themselves, and how programs crashed."""

from __future__ import annotations

from datetime import datetime, timedelta

from hollow_chain.facts.host import OF_RECORDS, Event, Host, Unread
from hollow_chain.facts.service import Service
from hollow_chain.reach.control import Declined, LogEntry
from hollow_chain.sources.control.looks import has_failed
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.log_files import SpokenNames
from hollow_chain.sources.reading import HostReading
from hollow_chain.sources.records import number_in
from hollow_chain.wording.secrets import mask_text

MANAGER = "Service Control Manager"
CRASHES = ("Application Error", "Application Hang", ".NET Runtime", "Windows Error Reporting", "SideBySide")
"""Sources that the system writes crashes of programs under."""
_FAILURES = frozenset({7000, 7001, 7009, 7011, 7016, 7022, 7023, 7024, 7031, 7032, 7034, 7038, 7041, 7043})
"""Records of the manager's that tell of a failed start or an end (its messages, as the system documents them)."""
_RESTARTED = "7031"
"""The manager's message of an end that it answers by an action: a service that ran and has such records was started again."""
_UP = ("running", "starting")
_SINCE_BOOT = timedelta(seconds=10)
_LONGEST_AGO = timedelta(days=30)
"""By how much the clocks of a boot and of its records may differ; and how old a record is at the most that is read."""
_MOST_MANAGER, _MOST_EACH, _MOST_OWN = 400, 30, 25
"""Records that are read of the manager's, kept of one service, and read of the programs' own for each that failed."""


def add(reading: HostReading) -> None:
    """The records that bear on services that are not well."""
    host, reached = reading.host, control(reading)
    failed = [
        s for s in host.services if has_failed(s) or s.state in ("starting", "stopping") or s.name in reading.chosen
    ]
    restarted = [s for s in host.services if s.state in _UP and any(a.startswith("restart") for a in s.failure_actions)]
    if not failed and not restarted:
        return
    since = _since(host, reached.now())
    logs = reached.event_logs
    try:
        told = logs.entries("System", since, (MANAGER,), _MOST_MANAGER)
    except Declined as declined:
        why = declined.strerror or str(declined)
        host.unread.append(Unread(what="the system's event log", why=why, part=OF_RECORDS))
        told = []
    names = SpokenNames(host)
    events = [_of_manager(entry, names) for entry in told]
    _count_restarts(restarted, events)
    failed += [s for s in restarted if s not in failed and s.last is not None and s.last.restarts]
    if not failed:
        return
    _recall(host, [e for e in events if e.code.isdigit() and int(e.code) in _FAILURES])
    try:
        sources = {name for s in failed for name in (s.name, s.display_name) if name}
        own = logs.entries("Application", since, (*sources, *CRASHES), _MOST_OWN * len(failed))
    except Declined as declined:
        why = declined.strerror or str(declined)
        host.unread.append(Unread(what="the programs' event log", why=why, part=OF_RECORDS))
        own = []
    events += [event for entry in own if (event := _of_program(entry, failed)) is not None]
    host.events += _few_of_each(events)


def _since(host: Host, now: datetime) -> datetime:
    """From when on records count: since the boot, with which numbers of failures begin anew."""
    farthest = now - _LONGEST_AGO
    return max(host.boot_at - _SINCE_BOOT, farthest) if host.boot_at is not None else farthest


def _of_manager(entry: LogEntry, names: SpokenNames) -> Event:
    first = entry.inserted[0] if entry.inserted else ""
    inserted = " ".join(entry.inserted)
    return Event(
        at=entry.at,
        text=mask_text(entry.text),
        service=names.named_in(first) or names.named_in(entry.text),
        source="system event log",
        level=entry.level,
        number=number_in(entry.text) if number_in(entry.text) is not None else number_in(inserted),
        code=str(entry.number),
        process=entry.process,
        by_manager=True,
        trust="trusted",
    )


def _of_program(entry: LogEntry, failed: list[Service]) -> Event | None:
    """A record of a service's own, or of the crash of its program."""
    of_crash = entry.source in CRASHES
    for service in failed:
        program = service.program.path.replace("/", "\\").rpartition("\\")[2] if service.program is not None else ""
        named = entry.source.casefold() in (service.name.casefold(), service.display_name.casefold())
        crashed = (
            of_crash
            and len(program) > 4
            and program.casefold() in f"{entry.text} {' '.join(entry.inserted)}".casefold()
        )
        if named or crashed:
            return Event(
                at=entry.at,
                text=mask_text(entry.text),
                service=service.name,
                source="application event log",
                level=entry.level,
                number=number_in(entry.text),
                code=str(entry.number),
                process=entry.process,
                trust="trusted" if of_crash else "own",
            )
    return None


def _recall(host: Host, events: list[Event]) -> None:
    """When the last run of each service ended, by the manager's last record of that."""
    by_name = {service.name: service for service in host.services}
    for event in sorted(events, key=lambda one: one.at):
        service = by_name.get(event.service)
        if service is not None and service.last is not None and service.state in ("stopped", "failed"):
            service.last.ended_at = event.at


def _count_restarts(restarted: list[Service], events: list[Event]) -> None:
    """How often the manager has started each again since the boot."""
    for service in restarted:
        if service.last is not None:
            told = (event for event in events if event.service == service.name and event.code == _RESTARTED)
            service.last.restarts = sum(1 for _ in told)


def _few_of_each(events: list[Event]) -> list[Event]:
    """The newest of each service."""
    kept: dict[str, list[Event]] = {}
    for event in sorted(events, key=lambda one: one.at, reverse=True):
        if len(some := kept.setdefault(event.service, [])) < _MOST_EACH and event.service:
            some.append(event)
    return sorted((event for some in kept.values() for event in some), key=lambda one: one.at)

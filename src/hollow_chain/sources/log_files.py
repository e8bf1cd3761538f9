"""Log files that the caller names, given to the services of the facts that their records are about."""

from __future__ import annotations

import os
import re
from datetime import UTC, datetime, timedelta
from pathlib import Path

from hollow_chain.facts.host import Event, Host, Snapshot
from hollow_chain.facts.records import Columns, Record, RecordError, number_in, read
from hollow_chain.facts.service import LastRun, Service
from hollow_chain.trouble import Trouble, wrong_call

MAX_BYTES = 64 << 20
MOST_EACH = 200
"""Records that are kept of one service: the last ones."""
_SHORTEST_NAME = 4
_SAME_TRY = timedelta(seconds=5)


def add(snapshot: Snapshot, paths: list[Path], columns: str, host: str = "") -> None:
    """Read the logs at *paths* and give each record to the service it is about; what fits none is kept for its host.

    Raises :class:`Trouble` where a file cannot be read (3) or *columns* is no mapping (2).
    """
    try:
        mapping = Columns.parsed(columns)
    except ValueError as error:
        raise wrong_call(f"--columns: {error}") from None
    by_host: dict[str, list[Record]] = {}
    for path in paths:
        for record in _records(path, mapping):
            owner = _owner(snapshot, record.host, host)
            if owner is not None:
                by_host.setdefault(owner.name, []).append(record)
    for one in snapshot.hosts:
        _give(one, by_host.get(one.name, []))


def _records(path: Path, columns: Columns) -> list[Record]:
    try:
        with path.open("rb") as file:
            about = os.fstat(file.fileno())
            written = datetime.fromtimestamp(about.st_mtime, UTC)
            skipped = max(0, about.st_size - MAX_BYTES)
            heading = file.readline(1 << 16) if skipped else b""
            file.seek(skipped)
            data = file.read(MAX_BYTES)
        if skipped:  # from the end: the first line of the rest is not whole
            data = heading + data.partition(b"\n")[2]
        return read(data, f"log {path.name}", columns, written)
    except OSError as error:
        raise Trouble(f"cannot read {path}: {(error.strerror or str(error)).lower()}") from None
    except RecordError as error:
        raise Trouble(f"cannot read {path}: {error}") from None


def _owner(snapshot: Snapshot, named: str, asked: str) -> Host | None:
    """The host that a record belongs to: the one that it names, else the one that was asked for or the only one."""
    wanted = (named or asked).casefold().partition(".")[0]
    for host in snapshot.hosts:
        if wanted and host.name.casefold().partition(".")[0] == wanted:
            return host
    return snapshot.hosts[0] if len(snapshot.hosts) == 1 else None


def _give(host: Host, records: list[Record]) -> None:
    if not records:
        return
    names = _names(host)
    spoken = _spoken_names(host)
    each: dict[str, list[Event]] = {}
    for record in records:
        event = record.event
        event.service = names.get(event.service.casefold(), "") or _named_in(event.text, spoken)
        each.setdefault(event.service, []).append(event)
    for events in each.values():
        events.sort(key=lambda event: event.at)
        host.events += events[-MOST_EACH:]
    if host.manager == "control-manager":
        for service in host.services:
            _recall_number(service, each.get(service.name, []))


def _recall_number(service: Service, events: list[Event]) -> None:
    """The error number of the last start from the records, where the facts of a service that is not up lack it."""
    if service.state not in ("stopped", "failed", "unknown") or (
        service.last and service.last.error_number is not None
    ):
        return
    told = [event for event in events if number_in(event.text) is not None]
    if not told:
        return
    last = service.last or LastRun()
    known = last.ended_at or last.started_at
    if known is None or told[-1].at >= known - _SAME_TRY:
        last.error_number = told[-1].number
        last.ended_at = last.ended_at or told[-1].at
        service.last = last


def _names(host: Host) -> dict[str, str]:
    """Every name under which a log may know a service: registered, without its kind, displayed, its program; in lower case."""
    found: dict[str, str] = {}
    for service in host.services:
        if service.kind != "service":
            continue
        program = service.program.path.replace("\\", "/").rpartition("/")[2] if service.program else ""
        for name in (service.name, service.name.removesuffix(".service"), service.display_name, *service.aliases, program,
                     program.rpartition(".")[0]):  # fmt: skip
            if name:
                found.setdefault(name.casefold(), service.name)
    return found


def _spoken_names(host: Host) -> list[tuple[re.Pattern[str], str]]:
    """Patterns for the names of services within a text, longest first."""
    pairs = {(name, s.name) for s in host.services if s.kind == "service" for name in (s.display_name, s.name) if name}
    usable = sorted((p for p in pairs if len(p[0]) >= _SHORTEST_NAME), key=lambda p: (-len(p[0]), p))
    return [(re.compile(rf"(?i)(?<![\w\-]){re.escape(name)}(?![\w\-])"), service) for name, service in usable]


def _named_in(text: str, spoken: list[tuple[re.Pattern[str], str]]) -> str:
    return next((service for pattern, service in spoken if pattern.search(text)), "")

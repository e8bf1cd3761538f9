"""Log files that the caller names, given to the services of the facts that their records are about."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from functools import cached_property
from pathlib import Path

from hollow_chain.facts.host import Event, Host, Snapshot
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Service
from hollow_chain.families import family_of
from hollow_chain.lazy import pattern
from hollow_chain.sources.records import Columns, LogRecord, RecordError, number_in, read
from hollow_chain.trouble import Trouble, wrong_call

MAX_BYTES = 64 << 20
"""Bytes of a log that are read, from its end: what went wrong last stands there."""
MOST_EACH = 200
"""Records that are kept of one service: the last ones."""
_SHORTEST_NAME = 4
_SAME_TRY = timedelta(seconds=5)
"""A name of fewer letters stands in too many lines that are about something else; and so long before an end that is on record a log
line may speak of the same one, as clocks and writers are late."""


def add(snapshot: Snapshot, paths: list[Path], columns: str, host: str = "") -> None:
    """Read the logs at *paths* and give each record to the service it is about; what fits none is kept for its host.

    Raises :class:`Trouble` where a file cannot be read (3) or *columns* is no mapping (2).
    """
    try:
        mapping = Columns.parsed(columns)
    except ValueError as error:
        raise wrong_call(f"--columns: {error}") from None
    owners = {one.name: _Owner(one) for one in snapshot.hosts}
    for path in paths:
        for record in _records(path, mapping):
            owner = _owner(snapshot, record.host, host)
            if owner is not None:
                owners[owner.name].take(record)
        for one in owners.values():
            one.keep_last()
    for one in owners.values():
        one.give()


def _records(path: Path, columns: Columns) -> Iterator[LogRecord]:
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
        yield from read(data, f"log {path.name}", columns, written)
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


class _Owner:
    """A host that takes records: the last ones of each of its services, and of what fits none."""

    def __init__(self, host: Host) -> None:
        self._host = host
        self._kept: dict[str, list[Event]] = {}
        self._coming: dict[str, deque[Event]] = {}

    @cached_property
    def _names(self) -> dict[str, str]:
        return _names(self._host)

    @cached_property
    def _spoken(self) -> SpokenNames:
        return SpokenNames(self._host)

    def take(self, record: LogRecord) -> None:
        """Give a record to the service that it is about. Of one log only the last ones of each are remembered."""
        event = record.event
        event.service = self._names.get(event.service.casefold(), "") or self._spoken.named_in(event.text)
        self._coming.setdefault(event.service, deque(maxlen=MOST_EACH)).append(event)

    def keep_last(self) -> None:
        """A log is at its end: of all that was taken so far the last ones of each service are kept."""
        for service, events in self._coming.items():
            kept = sorted([*self._kept.get(service, ()), *events], key=lambda event: event.at)
            self._kept[service] = kept[-MOST_EACH:]
        self._coming.clear()

    def give(self) -> None:
        """Add to the facts of the host what was kept."""
        for events in self._kept.values():
            self._host.events += events
        if self._kept and family_of(self._host).numbers_failures:
            for service in self._host.services:
                _recall_number(service, self._kept.get(service.name, []))


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


_WORD = pattern(r"[\w\-]+")


class SpokenNames:
    """The names of the services of a host as they are found within a text: whole words, in any case of letters.

    A text is gone through once, whatever the number of services: each of its words is looked up, and what begins with it is compared.
    """

    def __init__(self, host: Host) -> None:
        self._by_word: dict[str, list[tuple[int, str, str]]] = {}
        self._others: list[tuple[int, str, str]] = []
        """Names that begin with a mark."""
        pairs = {
            (name, s.name) for s in host.services if s.kind == "service" for name in (s.display_name, s.name) if name
        }
        usable = sorted((p for p in pairs if len(p[0]) >= _SHORTEST_NAME), key=lambda p: (-len(p[0]), p))
        for rank, (name, service) in enumerate(usable):
            lowered = name.lower()
            word = _WORD.match(lowered)
            (self._by_word.setdefault(word[0], []) if word else self._others).append((rank, lowered, service))

    def named_in(self, text: str) -> str:
        """The service of which the longest name is in *text*; empty where none is."""
        lowered = text.lower()
        found = [
            (rank, service)
            for word in _WORD.finditer(lowered)
            for rank, name, service in self._by_word.get(word[0], ())
            if _stands_at(lowered, word.start(), name)
        ]
        found += [
            (rank, service)
            for rank, name, service in self._others
            if any(_stands_at(lowered, at, name) for at in _places(lowered, name))
        ]
        return min(found)[1] if found else ""


def _places(text: str, name: str) -> Iterator[int]:
    at = text.find(name)
    while at >= 0:
        yield at
        at = text.find(name, at + 1)


def _stands_at(text: str, at: int, name: str) -> bool:
    """Whether *name* stands there as a whole, and not as a part of a longer word."""
    return text.startswith(name, at) and not (
        _WORD.match(text, at + len(name)) or (at > 0 and _WORD.match(text, at - 1))
    )

"""The event logs of this machine: the newer interface (winevt.h), else the older one (winbase.h, ReadEventLogW)."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any
from xml.etree import ElementTree

import win32evtlog as api

from hollow_chain.reach.control import Declined, LogEntry
from hollow_chain.reach.win32.declining import declining

_MOST_SEEN = 4000
"""Records that are gone through at the most to find those that are wanted."""
_AT_ONCE = 64
"""Records that are fetched together."""
_NAMES = "{http://schemas.microsoft.com/win/2004/08/events/event}"
"""Name space of a rendered record (the documentation of the event schema)."""
_LEVELS = {1: "critical", 2: "error", 3: "warning", 4: "info", 5: "debug"}
_OLD_LEVELS = {1: "error", 2: "warning", 4: "info", 16: "error"}
"""``EVENTLOG_ERROR_TYPE`` and its like; 16 is a refusal that was watched for."""
_LONGEST_TEXT = 2000
"""Characters of a text that are kept, as many as of any record."""


class LocalEventLogs:
    """The event logs of this machine, or of the one called *server*."""

    def __init__(self, server: str | None = None) -> None:
        self._server = server

    def entries(self, log: str, since: datetime, sources: Collection[str] | None, most: int) -> list[LogEntry]:
        """The newest records of *log*."""
        wanted = None if sources is None else {source.casefold() for source in sources}
        try:
            found = list(_kept(_newer(log, since, self._server), since, wanted, most))
        except Declined:
            found = list(_kept(_older(log, self._server), since, wanted, most))
        return found[::-1]


def _kept(entries: Iterator[LogEntry], since: datetime, sources: set[str] | None, most: int) -> Iterator[LogEntry]:
    """Those that are wanted, of entries that come newest first."""
    kept = 0
    for _, entry in zip(range(_MOST_SEEN), entries, strict=False):
        if entry.at < since:
            return
        if sources is None or entry.source.casefold() in sources:
            yield entry
            kept += 1
            if kept >= most:
                return


def _newer(log: str, since: datetime, server: str | None) -> Iterator[LogEntry]:
    path = f"*[System[TimeCreated[@SystemTime>='{since:%Y-%m-%dT%H:%M:%S.000Z}']]]"
    with declining():
        # As whoever is logged on here: no name, no domain and no password (EvtOpenSession, ``EVT_RPC_LOGIN``).
        session = None if server is None else api.EvtOpenSession(Login=(server, None, None, None, 0))
        query = api.EvtQuery(log, api.EvtQueryChannelPath | api.EvtQueryReverseDirection, path, session)
    publishers: dict[str, Any] = {}
    while True:
        with declining():
            some = api.EvtNext(query, _AT_ONCE)
        if not some:
            return
        for one in some:
            entry = _of_xml(one, publishers)
            if entry is not None:
                yield entry


def _of_xml(record: Any, publishers: dict[str, Any]) -> LogEntry | None:
    try:
        with declining():
            root = ElementTree.fromstring(api.EvtRender(record, api.EvtRenderEventXml))
    except (Declined, ElementTree.ParseError):
        return None
    head = root.find(f"{_NAMES}System")
    if head is None:
        return None
    source = _attribute(head, "Provider", "Name")
    at = _moment(_attribute(head, "TimeCreated", "SystemTime"))
    if at is None:
        return None
    inserted = [(data.text or "")[:_LONGEST_TEXT] for data in root.iter(f"{_NAMES}Data")][:30]
    return LogEntry(
        at,
        source,
        _whole(_text(head, "EventID")),
        _LEVELS.get(_whole(_text(head, "Level")), "info"),
        (_rendered(record, source, publishers) or "; ".join(filter(None, inserted)))[:_LONGEST_TEXT],
        inserted,
        _whole(_attribute(head, "Execution", "ProcessID")),
    )


def _rendered(record: Any, source: str, publishers: dict[str, Any]) -> str:
    """The message of a record, where its publisher is there to be asked."""
    with suppress(Declined), declining():
        if source not in publishers:
            publishers[source] = None
            publishers[source] = api.EvtOpenPublisherMetadata(source)
        if publishers[source] is not None:
            return str(api.EvtFormatMessage(publishers[source], record, api.EvtFormatMessageEvent))
    return ""


def _older(log: str, server: str | None) -> Iterator[LogEntry]:
    import win32evtlogutil

    with declining():
        opened = api.OpenEventLog(server, log)
    try:
        while True:
            with declining():
                some = api.ReadEventLog(opened, api.EVENTLOG_BACKWARDS_READ | api.EVENTLOG_SEQUENTIAL_READ, 0)
            if not some:
                return
            for one in some:
                inserted = [str(text)[:_LONGEST_TEXT] for text in one.StringInserts or ()][:30]
                text = "; ".join(filter(None, inserted))
                with suppress(Exception):  # whatever a library of messages does
                    text = win32evtlogutil.SafeFormatMessage(one, log)
                yield LogEntry(
                    datetime.fromtimestamp(one.TimeGenerated.timestamp(), UTC),
                    str(one.SourceName),
                    one.EventID & 0xFFFF,  # the rest says severity and facility
                    _OLD_LEVELS.get(one.EventType, "info"),
                    text[:_LONGEST_TEXT],
                    inserted,
                )
    finally:
        with suppress(Declined), declining():
            api.CloseEventLog(opened)


def _attribute(head: ElementTree.Element, name: str, attribute: str) -> str:
    found = head.find(f"{_NAMES}{name}")
    return found.get(attribute, "") if found is not None else ""


def _text(head: ElementTree.Element, name: str) -> str:
    found = head.find(f"{_NAMES}{name}")
    return (found.text or "") if found is not None else ""


def _whole(text: str) -> int:
    return int(text) if text.isdigit() and len(text) < 12 else 0


def _moment(text: str) -> datetime | None:
    """A moment of a record, whose fractions are finer than ours."""
    whole, _, rest = text.rstrip("Z").partition(".")
    try:
        return datetime.fromisoformat(f"{whole}.{rest[:6]:0<6}+00:00")
    except ValueError:
        return None

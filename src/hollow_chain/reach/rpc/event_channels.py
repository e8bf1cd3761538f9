"""The event logs of a host by the newer protocol ([MS-EVEN6]): over a connection of its own, at a port that the host tells."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime

from hollow_chain.reach.control import Declined, LogEntry
from hollow_chain.reach.rpc.binary_xml import Malformed, XmlElement, document
from hollow_chain.reach.rpc.session import Pipe, Session

from impacket.dcerpc.v5 import even6  # isort: skip - the session says what is lacking where it is not there

_BY_NAME, _NEWEST_FIRST = 0x1, 0x200
"""``EvtQueryChannelName``, ``EvtReadNewestToOldest`` ([MS-EVEN6], 3.1.4.12)."""
_AT_ONCE, _ROUNDS = 64, 80
"""Records that are fetched together, and how often."""
_WAIT = 5000
"""Milliseconds that the host may take for them."""
_NO_MORE = (259, 1460)
"""``ERROR_NO_MORE_ITEMS``, ``ERROR_TIMEOUT``."""
_LONGEST_TEXT, _MOST_INSERTED = 2000, 30
"""Characters of a text, and texts of one record, that are kept."""
_LEVELS = {"1": "critical", "2": "error", "3": "warning", "4": "info", "5": "debug"}
_HEAD = struct.Struct("<5I")
"""At the head of a record: the size of all and of the head, where the record and its bookmark begin, and the size of its bytes (3.1.4.13)."""


class RpcEventChannels:
    """The event logs of a host. Raises :class:`Declined` where it does not answer so."""

    def __init__(self, session: Session) -> None:
        self._pipe: Pipe = session.mapped(even6.MSRPC_UUID_EVEN6)

    def newest_first(self, log: str, since: datetime) -> Iterator[LogEntry]:
        """The records of *log* that are not older than *since*."""
        query = f"*[System[TimeCreated[@SystemTime>='{since:%Y-%m-%dT%H:%M:%S.000Z}']]]"
        opened = self._pipe.ask(even6.hEvtRpcRegisterLogQuery, f"{log}\0", _BY_NAME | _NEWEST_FIRST, f"{query}\0")
        handle = opened["Handle"]
        try:
            for _ in range(_ROUNDS):
                request = even6.EvtRpcQueryNext()
                request["LogQuery"], request["NumRequestedRecords"] = handle, _AT_ONCE
                request["TimeOutEnd"], request["Flags"] = _WAIT, 0
                records = records_of(self._pipe.answer(request.opnum, request))
                if not records:
                    return
                yield from filter(None, map(entry_of, records))
        finally:
            with suppress(Declined):
                self._pipe.ask(even6.hEvtRpcClose, handle)


def records_of(answer: bytes) -> list[bytes]:
    """The documents in an answer; none where there are no more. Raises :class:`Declined`."""
    number = int.from_bytes(answer[-4:], "little")
    if number in _NO_MORE:
        return []
    if number or len(answer) < 32:
        raise Declined(number or 13, "its records are not given")
    count = int.from_bytes(answer[:4], "little")
    places, at = _numbers(answer, 4)
    sizes, at = _numbers(answer, at)
    # The size of the whole, a pointer, and the size again ([C706], 14.3.3.2).
    whole = int.from_bytes(answer[at + 8 : at + 12], "little")
    data = answer[at + 12 : min(at + 12 + whole, len(answer) - 4)]
    pairs = zip(places[:count], sizes[:count], strict=False)
    return [one for place, size in pairs if (one := _document_in(data[place : place + size]))]


def _numbers(answer: bytes, at: int) -> tuple[list[int], int]:
    """The numbers of an array behind a pointer, and where it ends."""
    count = int.from_bytes(answer[at + 4 : at + 8], "little")
    end = at + 8 + 4 * count
    if count > _AT_ONCE or end > len(answer):
        raise Declined(13, "its answer is cut short")
    return list(struct.unpack_from(f"<{count}I", answer, at + 8)), end


def _document_in(record: bytes) -> bytes:
    if len(record) < _HEAD.size:
        return b""
    _, _, begins, _, _ = _HEAD.unpack_from(record)
    size = int.from_bytes(record[begins : begins + 4], "little")
    return record[begins + 4 : begins + 4 + size]


def entry_of(data: bytes) -> LogEntry | None:
    """The record that a document tells of; None where it is none."""
    try:
        root = document(data)
    except Malformed:
        return None
    head = root.find("System")
    at = _moment(_of(head, "TimeCreated", "SystemTime"))
    if head is None or at is None:
        return None
    named = root.find("EventData") or root.find("UserData")
    inserted = [text[:_LONGEST_TEXT] for text in _texts(named)][:_MOST_INSERTED] if named is not None else []
    number, process = _of(head, "EventID"), _of(head, "Execution", "ProcessID")
    return LogEntry(
        at,
        _of(head, "Provider", "EventSourceName") or _of(head, "Provider", "Name"),
        int(number) & 0xFFFF if number.isdigit() else 0,
        _LEVELS.get(_of(head, "Level"), "info"),
        "; ".join(filter(None, inserted))[:_LONGEST_TEXT],
        inserted,
        int(process) if process.isdigit() and len(process) < 12 else 0,
    )


def _of(head: XmlElement | None, name: str, attribute: str = "") -> str:
    found = head.find(name) if head is not None else None
    if found is None:
        return ""
    return found.attributes.get(attribute, "") if attribute else found.text.strip()


def _texts(element: XmlElement) -> Iterator[str]:
    """The texts of what has no elements in it, in their order."""
    if not element.children:
        yield element.text
    for one in element.children:
        yield from _texts(one)


def _moment(text: str) -> datetime | None:
    try:
        return datetime.fromisoformat(text.replace("Z", "+00:00")).astimezone(UTC) if text else None
    except ValueError:
        return None

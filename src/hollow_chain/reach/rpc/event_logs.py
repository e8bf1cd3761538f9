"""The event logs of a host over the network: by the protocol that every such host has answered since the first of its kind ([MS-EVEN]), over
a pipe of the session that is there already; where that is not served, by the newer one ([MS-EVEN6])."""

from __future__ import annotations

import struct
from collections.abc import Collection, Iterator
from contextlib import suppress
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from hollow_chain.reach.control import Declined, LogEntry
from hollow_chain.reach.rpc.session import Pipe, Session

if TYPE_CHECKING:
    from hollow_chain.reach.rpc.event_channels import RpcEventChannels

from impacket.dcerpc.v5 import even  # isort: skip - the session says what is lacking where it is not there

_MOST_SEEN = 4000
"""Records that are gone through at the most to find those that are wanted."""
_AT_ONCE = 0x10000
"""Bytes of records that are fetched together: some hundred of them."""
_ROUNDS = 200
"""Times that records are fetched: more than the records that are gone through take."""
_BACKWARDS, _ONE_AFTER_THE_OTHER = 8, 1
"""``EVENTLOG_BACKWARDS_READ``, ``EVENTLOG_SEQUENTIAL_READ`` ([MS-EVEN], 3.1.4.10)."""
_READ = 10
"""``ElfrReadELW``."""
_AT_ITS_END, _TOO_SMALL = 0xC0000011, 0xC0000023
"""``STATUS_END_OF_FILE``; ``STATUS_BUFFER_TOO_SMALL``."""
_HEAD = struct.Struct("<6I4H6I")
"""``EVENTLOGRECORD`` ([MS-EVEN], 2.2.3) up to the names, which follow."""
_SIGN = 0x654C664C
_LEVELS = {1: "error", 2: "warning", 4: "info", 16: "error"}
"""``EVENTLOG_ERROR_TYPE`` and its like; 16 is a refusal that was watched for."""
_LONGEST_TEXT = 2000
"""Characters of a text that are kept, as many as of any record."""
_MOST_INSERTED = 30
"""Texts of one record that are kept."""


class RpcEventLogs:
    """The event logs of a host."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._pipe: Pipe | None = None
        self._newer: RpcEventChannels | Declined | None = None

    def entries(self, log: str, since: datetime, sources: Collection[str] | None, most: int) -> list[LogEntry]:
        """The newest records of *log*."""
        wanted = None if sources is None else {source.casefold() for source in sources}
        found: list[LogEntry] = []
        for _, entry in zip(range(_MOST_SEEN), self._newest_first(log, since), strict=False):
            if entry.at < since or len(found) >= most:
                break
            if wanted is None or entry.source.casefold() in wanted:
                found.append(entry)
        return found[::-1]

    def _newest_first(self, log: str, since: datetime) -> Iterator[LogEntry]:
        try:
            pipe = self._opened()
        except Declined:
            yield from self._newer_protocol().newest_first(log, since)
            return
        handle = pipe.ask(even.hElfrOpenELW, log)["LogHandle"]
        try:
            for _ in range(_ROUNDS):
                data = _some(pipe, handle)
                if not data:
                    return
                yield from records_in(data)
        finally:
            with suppress(Declined):
                pipe.ask(even.hElfrCloseEL, handle)

    def _newer_protocol(self) -> RpcEventChannels:
        """What asks by the newer protocol; where nobody answers so, that is asked once."""
        if self._newer is None:
            from hollow_chain.reach.rpc.event_channels import RpcEventChannels

            try:
                self._newer = RpcEventChannels(self._session)
            except Declined as declined:
                self._newer = Declined(
                    declined.number, f"its event logs are not told over the network: {declined.strerror}"
                )
        if isinstance(self._newer, Declined):
            raise self._newer
        return self._newer

    def _opened(self) -> Pipe:
        if self._pipe is None:
            self._pipe = self._session.pipe(r"\eventlog", even.MSRPC_UUID_EVEN)
        return self._pipe


def _some(pipe: Pipe, handle: Any) -> bytes:
    """The bytes of the next records; none at the end."""
    room = _AT_ONCE
    while True:
        request = even.ElfrReadELW()
        request["LogHandle"], request["ReadFlags"] = handle, _BACKWARDS | _ONE_AFTER_THE_OTHER
        request["RecordOffset"], request["NumberOfBytesToRead"] = 0, room
        answer = pipe.answer(_READ, request)
        if len(answer) < 12:
            return b""
        read, needed, number = struct.unpack_from("<3I", answer, len(answer) - 12)
        if number == _TOO_SMALL and room < needed < 1 << 19:
            room = needed
            continue
        if number and number != _AT_ITS_END:
            raise Declined(number, "its records are not given")
        size = int.from_bytes(answer[:4], "little")
        return answer[4 : 4 + min(read, size, len(answer) - 16)]


def records_in(data: bytes) -> Iterator[LogEntry]:
    """The records that stand one behind the other; what does not fit ends them."""
    at = 0
    while at + _HEAD.size <= len(data):
        length = int.from_bytes(data[at : at + 4], "little")
        if length < _HEAD.size or length > len(data) - at:
            return
        entry = _record(data[at : at + length])
        if entry is not None:
            yield entry
        at += length


def _record(data: bytes) -> LogEntry | None:
    _, sign, _, made, _, number, kind, count, _, _, _, texts, *_ = _HEAD.unpack_from(data)
    if sign != _SIGN:
        return None
    names = _texts(data, _HEAD.size, 1)
    inserted = _texts(data, texts, min(count, _MOST_INSERTED)) if _HEAD.size <= texts < len(data) else []
    text = "; ".join(filter(None, inserted))[:_LONGEST_TEXT]
    try:
        at = datetime.fromtimestamp(made, UTC)
    except (ValueError, OverflowError, OSError):
        return None
    return LogEntry(at, names[0] if names else "", number & 0xFFFF, _LEVELS.get(kind, "info"), text, inserted)


def _texts(data: bytes, at: int, count: int) -> list[str]:
    """So many texts that end in a zero each."""
    rest = data[at : at + len(data[at:]) // 2 * 2].decode("utf-16-le", "replace")
    return [one[:_LONGEST_TEXT] for one in rest.split("\0", count)[:count]]

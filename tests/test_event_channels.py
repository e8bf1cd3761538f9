"""Event logs by the newer protocol: a stand-in that answers its calls over TCP, with records in the binary form that the protocol's
documentation describes."""

from __future__ import annotations

import struct
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st

pytest.importorskip("impacket")

from impacket.dcerpc.v5 import even6, transport
from impacket.dcerpc.v5.rpcrt import DCERPCServer

from hollow_chain.reach.control import Declined
from hollow_chain.reach.rpc.binary_xml import Malformed, document, text_of
from hollow_chain.reach.rpc.event_channels import entry_of, records_of
from hollow_chain.reach.rpc.event_logs import RpcEventLogs
from hollow_chain.reach.rpc.session import NOT_SERVED, Pipe, Session

WHEN = datetime(2026, 3, 4, 5, 6, 7, 250_000, UTC)
TICKS = (WHEN - datetime(1601, 1, 1, tzinfo=UTC)) // timedelta(microseconds=1) * 10


def name(text: str) -> bytes:
    return struct.pack("<HH", 0x1234, len(text)) + text.encode("utf-16-le") + b"\0\0"


def said(text: str) -> bytes:
    """A text as it stands in a document."""
    return b"\x05\x01" + struct.pack("<H", len(text)) + text.encode("utf-16-le")


def place(number: int, kind: int, optional: bool = False) -> bytes:
    """The place of a value in a template."""
    return struct.pack("<BHB", 0x0E if optional else 0x0D, number, kind)


def element(tag: str, content: bytes = b"", depends: bool = True, **attributes: bytes) -> bytes:
    """An element with texts, places and elements in it."""
    listed = b"".join(b"\x06" + name(key) + value for key, value in attributes.items())
    head = name(tag) + (struct.pack("<I", len(listed)) + listed if listed else b"")
    body = head + (b"\x02" + content + b"\x04" if content else b"\x03")
    return bytes([0x41 if listed else 0x01]) + (b"\xff\xff" if depends else b"") + struct.pack("<I", len(body)) + body


def instance(body: bytes, *values: tuple[int, bytes]) -> bytes:
    """A template with its values."""
    heads = b"".join(struct.pack("<HBB", len(data), kind, 0) for kind, data in values)
    template = b"\x0f\x01\x01\0" + body + b"\0"
    whole = b"\x0c\0" + UUID(int=7).bytes_le + struct.pack("<I", len(template)) + template
    return whole + struct.pack("<I", len(values)) + heads + b"".join(data for _, data in values)


def record(number: int, *inserted: str, at: int = TICKS, depends: bool = True) -> bytes:
    """A record of the service manager's."""
    data = element("EventData", b"".join(element("Data", said(one), depends) for one in inserted), depends)
    system = element(
        "System",
        element("Provider", b"", depends, Name=said("Service Control Manager"), Guid=place(4, 0x0F))
        + element("EventID", place(0, 0x06), depends, Qualifiers=said("49152"))
        + element("Level", place(1, 0x04), depends)
        + element("TimeCreated", b"", depends, SystemTime=place(2, 0x11))
        + element("Execution", b"", depends, ProcessID=place(3, 0x08), ThreadID=place(3, 0x08))
        + element("Computer", said("OFFICE") + b"\x09" + name("amp"), depends),
        depends,
    )
    body = element("Event", system + place(5, 0x21, optional=True), depends, xmlns=said("urn:events"))
    return b"\x0f\x01\x01\0" + instance(
        body,
        (0x06, struct.pack("<H", number)),
        (0x04, b"\x02"),
        (0x11, struct.pack("<Q", at)),
        (0x08, struct.pack("<I", 612)),
        (0x0F, UUID(int=9).bytes_le),
        (0x21, b"\x0f\x01\x01\0" + data + b"\0"),
    )


@pytest.mark.parametrize("depends", [True, False])
def test_a_record_is_read_out_of_its_template(depends: bool) -> None:
    found = entry_of(record(7000, "Tide feed", "%%2", depends=depends))
    assert found is not None
    assert (found.source, found.number, found.level, found.process) == ("Service Control Manager", 7000, "error", 612)
    assert (found.at, found.inserted, found.text) == (WHEN, ["Tide feed", "%%2"], "Tide feed; %%2")
    computer = document(record(1, depends=depends)).children[0].find("Computer")
    assert computer is not None and computer.text == "OFFICE&"


def test_values_of_all_types() -> None:
    for kind, data, text in (
        (0x01, "ä\0".encode("utf-16-le"), "ä"), (0x02, b"x\0", "x"), (0x03, b"\xff", "-1"), (0x0A, b"\1" + b"\0" * 7, "1"),
        (0x0B, struct.pack("<f", 0.5), "0.5"), (0x0D, b"\1\0\0\0", "true"), (0x0E, b"\x0a\xff", "0AFF"), (0x14, b"\x10\0\0\0", "0x10"),
        (0x81, "a\0b\0".encode("utf-16-le"), "a; b"), (0x00, b"", ""), (0x13, b"\1\2", ""), (0x08, b"\1", ""), (0x11, b"\xff" * 8, ""),
    ):  # fmt: skip
        assert text_of(kind, data) == text, hex(kind)


def test_what_is_nested_without_end_is_not_followed() -> None:
    deep = element("Data", said("x"))
    for _ in range(200):
        deep = element("Data", deep)
    with pytest.raises(Malformed):
        document(deep)
    inner = element("Event")
    for _ in range(60):
        inner = instance(element("Event", place(0, 0x21)), (0x21, inner)) if len(inner) < 60_000 else inner
    with pytest.raises(Malformed):
        document(inner)


@given(st.binary(max_size=300))
def test_bytes_that_are_no_document(data: bytes) -> None:
    assert entry_of(data) is None
    try:
        records_of(data)
    except Declined:
        return


@given(st.data())
def test_bytes_that_are_nearly_one(data: st.DataObject) -> None:
    whole = record(7000, "Tide", "%%2")
    at, to = data.draw(st.integers(0, len(whole) - 1)), data.draw(st.integers(0, 255))
    entry_of(whole[:at] + bytes([to]) + whole[at + 1 :])
    entry_of(whole[:at])


# A stand-in of the server.


class StandIn(DCERPCServer):
    """Answers the calls for *records*, newest first, three at a time."""

    def __init__(self, records: list[bytes]) -> None:
        DCERPCServer.__init__(self)
        self.records, self.asked = records, []  # type: ignore[var-annotated]
        self.addCallbacks(
            ("F6BEAFF7-1E19-4FBB-9F8F-B89E2018337C", "1.0"),
            "\\PIPE\\none",
            {5: self.register, 11: self.next, 13: self.close},
        )

    def register(self, data: bytes) -> Any:
        request = even6.EvtRpcRegisterLogQuery(data)
        self.asked.append((request["Path"], request["Query"], request["Flags"]))
        answer = even6.EvtRpcRegisterLogQueryResponse()
        answer["Handle"]["context_handle_uuid"] = b"\7" * 16
        return answer

    def next(self, data: bytes) -> bytes:
        request = even6.EvtRpcQueryNext(data)
        assert request["LogQuery"]["context_handle_uuid"] == b"\7" * 16
        some, self.records = self.records[:3], self.records[3:]
        wrapped = [struct.pack("<5I", 20 + len(one), 16, 16, 20 + len(one), len(one)) + one for one in some]
        places = [sum(map(len, wrapped[:at])) for at in range(len(wrapped))]
        sizes, whole = list(map(len, wrapped)), b"".join(wrapped)
        pointer = struct.pack("<I", 0x20000)
        arrays = b"".join(pointer + struct.pack(f"<{len(some) + 1}I", len(some), *one) for one in (places, sizes))
        whole += b"\0" * (-len(whole) % 4)
        status = 0 if some else 259
        return (
            struct.pack("<I", len(some))
            + arrays
            + struct.pack("<I", len(whole))
            + pointer
            + struct.pack("<I", len(whole))
            + whole
            + struct.pack("<I", status)
        )

    def close(self, data: bytes) -> Any:
        answer = even6.EvtRpcCloseResponse()
        answer["Error"] = 0
        return answer


class OverTcp(Session):
    """A session whose host serves no pipe, and the newer protocol at a port."""

    def __init__(self, port: int) -> None:
        self._lock, self.asked, self.is_open = threading.RLock(), 0, True
        self.address, self._port = "the stand-in", port  # type: ignore[assignment]

    def pipe(self, name: str, interface: Any) -> Pipe:
        raise Declined(NOT_SERVED, "nobody answers")

    def mapped(self, interface: Any) -> Pipe:
        if not self._port:
            raise Declined(NOT_SERVED, "nobody there answers such questions")
        talk = transport.DCERPCTransportFactory(f"ncacn_ip_tcp:127.0.0.1[{self._port}]").get_dce_rpc()
        talk.connect()
        talk.bind(interface)
        return Pipe(self, talk)


@pytest.fixture()
def stand_in() -> Iterator[StandIn]:
    server = StandIn([record(7000 + at, "Tide", f"%%{at}", at=TICKS - at * 10_000_000) for at in range(7)])
    server.daemon = True
    server._sock.listen(10)  # before its thread does: nobody is refused who comes early
    server.start()
    yield server


def test_logs_are_read_where_only_the_newer_protocol_answers(stand_in: StandIn) -> None:
    logs = RpcEventLogs(OverTcp(stand_in.getListenPort()))
    found = logs.entries("System", datetime(2026, 1, 1, tzinfo=UTC), ("service control MANAGER",), 5)
    assert [one.number for one in found] == [7004, 7003, 7002, 7001, 7000] and found[-1].inserted == ["Tide", "%%0"]
    path, query, flags = stand_in.asked[0]
    assert path == "System\0" and "@SystemTime>='2026-01-01T00:00:00.000Z'" in query and flags == 0x201


def test_where_neither_answers_that_is_said() -> None:
    with pytest.raises(Declined, match="not told over the network"):
        RpcEventLogs(OverTcp(0)).entries("System", datetime(2026, 1, 1, tzinfo=UTC), None, 5)

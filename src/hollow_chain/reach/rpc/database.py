"""The service database of a host, as its service control manager tells it over the network ([MS-SCMR])."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

from hollow_chain.reach.control import DRIVERS, Declined, ServiceConfig, ServiceStatus
from hollow_chain.reach.rpc.session import NO_PROCEDURE, Pipe, Session

from impacket.dcerpc.v5 import scmr  # isort: skip - the session says what is lacking where it is not there

_CONNECT, _ENUMERATE, _ALL = 0x0001, 0x0004, 0xF003F
"""Rights on the manager ([MS-SCMR], 3.1.4, "SC_MANAGER_CONNECT" and its like)."""
_QUERY_CONFIG, _QUERY_STATUS = 0x0001, 0x0004
_KINDS = DRIVERS | 0x30
_EVERY_STATE = 3
_MOST_KIND = 0xFFF
"""All bits that kinds of services have ([MS-SCMR], 2.2.47, "dwServiceType")."""
_MORE_DATA = 234
_MOST_BYTES = 1 << 18
"""Of an answer with many services ([MS-SCMR], 3.1.4.42, "cbBufSize"); and how many of them are asked for."""
_MOST_ROUNDS = 64
_RECORD = struct.Struct("<11I")
"""``ENUM_SERVICE_STATUS_PROCESSW``: where the two names stand, and the nine numbers of a status."""
_STATUS = struct.Struct("<9I")
_LONGEST = 512
"""Characters of a name: 256 are the most that the manager takes ([MS-SCMR], 3.1.4.12)."""


class RpcDatabase:
    """The service database of a host."""

    def __init__(self, session: Session) -> None:
        self.pipe = session.pipe(r"\svcctl", scmr.MSRPC_UUID_SCMR)
        self.manager = self.opened_manager(_CONNECT | _ENUMERATE)
        self._lists_processes = True

    def opened_manager(self, rights: int) -> Any:
        """A handle on the manager. Raises :class:`Declined` where that is not allowed."""
        return self.pipe.ask(scmr.hROpenSCManagerW, dwDesiredAccess=rights)["lpScHandle"]

    @property
    def has_all_rights(self) -> bool:
        """Whether everything may be done with it, as an administrator may."""
        with suppress(Declined):
            self._close(self.opened_manager(_ALL))
            return True
        return False

    @contextmanager
    def opened(self, name: str, rights: int) -> Iterator[Any]:
        """A handle on a service. Raises :class:`Declined`."""
        handle = self.pipe.ask(scmr.hROpenServiceW, self.manager, name, dwDesiredAccess=rights)["lpServiceHandle"]
        try:
            yield handle
        finally:
            self._close(handle)

    def _close(self, handle: Any) -> None:
        with suppress(Declined):
            self.pipe.ask(scmr.hRCloseServiceHandle, handle)

    def statuses(self) -> list[ServiceStatus]:
        """All services, drivers among them."""
        if self._lists_processes:
            try:
                return list(self._with_processes())
            except Declined as declined:
                if declined.number != NO_PROCEDURE:
                    raise
                self._lists_processes = False
        found = self.pipe.ask(scmr.hREnumServicesStatusW, self.manager, _KINDS, _EVERY_STATE)
        return [
            _of_numbers(one["lpServiceName"], one["lpDisplayName"], _numbers(one["ServiceStatus"])) for one in found
        ]

    def _with_processes(self) -> Iterator[ServiceStatus]:
        resume = 0
        for _ in range(_MOST_ROUNDS):
            request = scmr.REnumServicesStatusExW()
            request["hSCManager"], request["InfoLevel"] = self.manager, 0
            request["dwServiceType"], request["dwServiceState"] = _KINDS, _EVERY_STATE
            request["cbBufSize"], request["lpResumeIndex"], request["pszGroupName"] = _MOST_BYTES, resume, scmr.NULL
            data, (_, count, resume, number) = _parted(self.pipe.answer(request.opnum, request), 4)
            if number not in (0, _MORE_DATA):
                raise Declined(number, "the list of services is not given")
            yield from listed(data, count)
            if number == 0:
                return

    def status(self, name: str) -> ServiceStatus:
        """One of them."""
        with self.opened(name, _QUERY_STATUS) as handle:
            with suppress(_NotKnown):
                return _of_numbers(name, "", self._with_process(handle))
            return _of_numbers(name, "", _numbers(self.pipe.ask(scmr.hRQueryServiceStatus, handle)["lpServiceStatus"]))

    def _with_process(self, handle: Any) -> tuple[int, ...]:
        request = scmr.RQueryServiceStatusEx()
        request["hService"], request["InfoLevel"], request["cbBufSize"] = handle, 0, _STATUS.size
        try:
            data, (_, number) = _parted(self.pipe.answer(request.opnum, request), 2)
        except Declined as declined:
            raise _NotKnown from declined
        if number or len(data) < _STATUS.size:
            raise _NotKnown
        return _STATUS.unpack_from(data)

    def config(self, name: str) -> ServiceConfig:
        """What is loaded of its definition."""
        with self.opened(name, _QUERY_CONFIG) as handle:
            told = self.pipe.ask(scmr.hRQueryServiceConfigW, handle)["lpServiceConfig"]
        return ServiceConfig(
            int(told["dwServiceType"]),
            int(told["dwStartType"]),
            _text(told["lpBinaryPathName"]),
            _text(told["lpLoadOrderGroup"]),
            [one for one in _whole(told["lpDependencies"]).split("\0") if one],
            _text(told["lpServiceStartName"]),
            _text(told["lpDisplayName"]),
        )

    def description(self, name: str) -> str:
        """Its description, rendered."""
        request = scmr.RQueryServiceConfig2W()
        with self.opened(name, _QUERY_CONFIG) as handle:
            request["hService"], request["dwInfoLevel"], request["cbBufSize"] = handle, 1, 8192
            data, (_, number) = _parted(self.pipe.answer(request.opnum, request), 2)
        if number:
            raise Declined(number, "its description is not given")
        at = int.from_bytes(data[:4], "little")
        return _text_at(data, at) if at else ""


class _NotKnown(Exception):
    """The server does not know the newer form of a question."""


def listed(data: bytes, count: int) -> Iterator[ServiceStatus]:
    """The services that an answer of *count* records tells of; what does not fit into it is left out."""
    for at in range(0, min(count * _RECORD.size, len(data) - _RECORD.size + 1), _RECORD.size):
        name, shown_as, *numbers = _RECORD.unpack_from(data, at)
        if text := _text_at(data, name):
            yield _of_numbers(text, _text_at(data, shown_as), tuple(numbers))


def _text_at(data: bytes, at: int) -> str:
    """The text that begins at a place, up to its zero."""
    return data[at : at + 2 * _LONGEST].decode("utf-16-le", "replace").partition("\0")[0] if 0 < at < len(data) else ""


def _parted(answer: bytes, numbers: int) -> tuple[bytes, tuple[int, ...]]:
    """The bytes that an answer carries, and the numbers behind them ([C706], 14.3.3.2: a conformant array, then whole numbers)."""
    if len(answer) < 4 + 4 * numbers:
        if len(answer) == 4:
            raise Declined(int.from_bytes(answer, "little"), "this is not told")
        raise Declined(13, "its answer is cut short")
    size = int.from_bytes(answer[:4], "little")
    tail = len(answer) - 4 * numbers
    if size > tail - 4:
        raise Declined(13, "its answer is cut short")
    return answer[4 : 4 + size], struct.unpack_from(f"<{numbers}I", answer, tail)


def _numbers(told: Any) -> tuple[int, ...]:
    names = (
        "dwServiceType", "dwCurrentState", "dwControlsAccepted", "dwWin32ExitCode", "dwServiceSpecificExitCode", "dwCheckPoint", "dwWaitHint",
    )  # fmt: skip
    return (*(int(told[name]) for name in names), 0, 0)


def _of_numbers(name: str, shown_as: str, told: tuple[int, ...]) -> ServiceStatus:
    kind, state, accepts, number, own, checkpoint, hint, process, _ = told
    kind = kind if kind <= _MOST_KIND else 0  # what no such server knows of a service it may leave as it was in memory
    return ServiceStatus(
        name.rstrip("\0"), shown_as.rstrip("\0"), kind, state, accepts, number, own, checkpoint, hint, process
    )


def _whole(told: Any) -> str:
    """A text with zeros in it: the needs come as bytes."""
    if isinstance(told, list):
        told = b"".join(told)
    if isinstance(told, bytes):
        return told.decode("utf-16-le", "replace")
    return told if isinstance(told, str) else ""


def _text(told: Any) -> str:
    return told.partition("\0")[0] if isinstance(told, str) else ""


__all__ = ["Pipe", "RpcDatabase", "listed"]

"""The machine's part of the registry of a host, over the network ([MS-RRP])."""

from __future__ import annotations

import struct
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager, suppress
from datetime import UTC, datetime, timedelta
from queue import Empty, SimpleQueue
from typing import Any, NamedTuple

from hollow_chain.reach.control import (
    BYTES,
    EXPANDED_TEXT,
    NOT_THERE,
    NUMBER,
    TEXT,
    TEXTS,
    Declined,
    Key,
    Raw,
)
from hollow_chain.reach.rpc.session import NOT_SERVED, Session
from hollow_chain.reach.unreached import Unreached

from impacket.dcerpc.v5 import rrp  # isort: skip - the session says what is lacking where it is not there

_MOST_VALUES, _MOST_BELOW = 500, 20_000
"""Values and keys of one key that are gone through: the list of services has some hundreds."""
_MOST_BYTES = 1 << 20
"""Bytes of a value that are kept; the documentation of the registry advises against more than 2,048."""
_READ, _WRITE, _WIDE = 0x20019, 0x20006, 0x0100
"""Rights on a key: to read, to write, and to see it as programs of 64 bits do ([MS-RRP], 2.2.3)."""
_BESIDE = 5
"""Sessions more over which keys are asked for that are expected: each answer has a way there and back."""
_FEW = 24
"""Keys that are asked for one after the other all the same: a session takes its time to be made."""
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
_NO_MORE = 259
"""``ERROR_NO_MORE_ITEMS``."""


class RpcRegistry:
    """The registry of a host. *another* makes one more session with it."""

    def __init__(self, session: Session, another: Callable[[], Session]) -> None:
        self._talk = _Talk(session)
        self._another = another
        self._expected: dict[str, Future[Key]] = {}
        self._sessions: list[Session] = []
        self._idle: SimpleQueue[_Talk] = SimpleQueue()

    def expect(self, paths: Iterable[str]) -> None:
        """Ask for all of *paths*, side by side over sessions of their own."""
        wanted = [path for path in dict.fromkeys(paths) if path not in self._expected]
        if len(wanted) < _FEW:
            return
        self._talk.check()  # where nobody answers, nobody is asked six times
        futures: dict[str, Future[Key]] = {path: Future() for path in wanted}
        self._expected |= futures
        waiting: SimpleQueue[tuple[str, Future[Key]]] = SimpleQueue()
        for pair in futures.items():
            waiting.put(pair)
        # Not a pool of the standard library: at its end it would wait for a host that never answers.
        for _ in range(_BESIDE):
            threading.Thread(target=self._ask_all, args=(waiting,), daemon=True).start()

    def _ask_all(self, waiting: SimpleQueue[tuple[str, Future[Key]]]) -> None:
        """Ask for what waits over a session of its own, as long as that stands; the rest is left to whoever wants it."""
        talk: _Talk | None = None
        while True:
            try:
                path, future = waiting.get_nowait()
            except Empty:
                break
            if not future.set_running_or_notify_cancel():
                continue
            try:
                talk = talk or self._one_more()
                future.set_result(talk.key(path))
            except Declined as declined:
                future.set_exception(declined)
            except BaseException as error:
                future.set_exception(error)
                return  # not a login for each key that waits
        if talk is not None:
            self._idle.put(talk)

    def _one_more(self) -> _Talk:
        """A session that nothing is asked over."""
        try:
            return self._idle.get_nowait()
        except Empty:
            session = self._another()
            self._sessions.append(session)
            return _Talk(session)

    def forget(self) -> None:
        """What was told so far may be otherwise by now."""
        for future in self._expected.values():
            future.cancel()
        self._expected.clear()
        self.close()

    def close(self) -> None:
        """End the sessions that were made for it."""
        self._idle = SimpleQueue()
        while self._sessions:
            self._sessions.pop().close()

    def key(self, path: str) -> Key:
        """One key."""
        expected = self._expected.pop(path, None)
        if expected is not None and not expected.cancel():
            with suppress(Unreached):  # a host may take fewer sessions of one user than were asked for
                return expected.result()
        return self._talk.key(path)

    def raw_values(self, path: str) -> dict[str, Raw]:
        """All values of a key, byte for byte."""
        return self._talk.raw_values(path)

    def make(self, path: str) -> None:
        """Make a key, where there is none."""
        self._talk.make(path)

    def put(self, path: str, name: str, value: Raw | None) -> None:
        """Put a value in its place, or take it away."""
        self._talk.put(path, name, value)


class RpcValues:
    """The registry of a host, byte for byte."""

    def __init__(self, registry: RpcRegistry) -> None:
        self._registry = registry

    def all_of(self, path: str) -> dict[str, Raw]:
        """All values of a key; none where there is no such key."""
        try:
            return self._registry.raw_values(path)
        except Declined as declined:
            if declined.number in NOT_THERE:
                return {}
            raise

    def make(self, path: str) -> None:
        """Make a key, where there is none."""
        self._registry.make(path)

    def put(self, path: str, name: str, value: Raw | None) -> None:
        """Put a value in its place, or take it away where it is None."""
        self._registry.put(path, name, value)


class _Talk:
    """What is asked over one session."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._pipe: Any = None
        self._root: Any = None
        self._refused: Declined | None = None

    def check(self) -> None:
        """Raise :class:`Declined` where nobody answers; asked once."""
        if self._refused is not None:
            raise self._refused
        if self._root is not None:
            return
        try:
            self._pipe = self._session.pipe(r"\winreg", rrp.MSRPC_UUID_RRP)
            self._root = self._pipe.ask(rrp.hOpenLocalMachine)["phKey"]
        except Declined as declined:
            number, why = declined.number, declined.strerror or ""
            if number == NOT_SERVED:
                why = "its registry is not told over the network: the service RemoteRegistry does not run there"
            elif number in NOT_THERE:
                number = NOT_SERVED  # the registry as a whole is not to be had, and no key of it is absent
            self._refused = Declined(number, why)
            raise self._refused from None

    @contextmanager
    def _opened(self, path: str, rights: int = _READ) -> Iterator[Any]:
        self.check()
        key = self._pipe.ask(rrp.hBaseRegOpenKey, self._root, path, samDesired=rights | _WIDE)["phkResult"]
        try:
            yield key
        finally:
            with suppress(Declined):
                self._pipe.ask(rrp.hBaseRegCloseKey, key)

    def key(self, path: str) -> Key:
        """One key."""
        with self._opened(path) as key:
            about = self._about(key)
            names = list(self._names(key, min(about.below, _MOST_BELOW)))
            values = {name.lower(): typed(*raw) for name, raw in self._values(key, about)}
        return Key(values, names, about.changed_at)

    def raw_values(self, path: str) -> dict[str, Raw]:
        """All values of a key, byte for byte."""
        with self._opened(path) as key:
            return dict(self._values(key, self._about(key)))

    def _about(self, key: Any) -> AboutKey:
        # A class, which no key of these has, is not asked for.
        return about_key(self._pipe.answer(_ABOUT, _bytes(key) + struct.pack("<HHI", 0, 0, 0)))

    def _names(self, key: Any, count: int) -> Iterator[str]:
        for at in range(count):
            try:
                told = self._pipe.ask(rrp.hBaseRegEnumKey, key, at)
            except Declined as declined:
                if declined.number == _NO_MORE:
                    return
                raise
            yield str(told["lpNameOut"]).rstrip("\0")

    def _values(self, key: Any, about: AboutKey) -> Iterator[tuple[str, Raw]]:
        name_room, room = min(about.longest_name, 32_766) + 2, min(about.longest_value, _MOST_BYTES)
        for at in range(min(about.values, _MOST_VALUES)):
            answer = self._pipe.answer(_ENUM_VALUE, _question(key, at, name_room, room))
            found = value_of(answer)
            if found is None:
                return
            yield found

    def make(self, path: str) -> None:
        """Make a key, where there is none."""
        self.check()
        key = self._pipe.ask(rrp.hBaseRegCreateKey, self._root, path, samDesired=_WRITE | _WIDE)["phkResult"]
        with suppress(Declined):
            self._pipe.ask(rrp.hBaseRegCloseKey, key)

    def put(self, path: str, name: str, value: Raw | None) -> None:
        """Put a value in its place, or take it away where it is None."""
        with self._opened(path, _READ | _WRITE) as key:
            if value is None:
                try:
                    self._pipe.ask(rrp.hBaseRegDeleteValue, key, name)
                except Declined as declined:
                    if declined.number not in NOT_THERE:
                        raise
            else:
                kind, data = value
                self._pipe.ask(_set_value, key, name, kind, data)
            with suppress(Declined):
                self._pipe.ask(rrp.hBaseRegFlushKey, key)


def _set_value(talk: Any, key: Any, name: str, kind: int, data: bytes) -> Any:
    request = rrp.BaseRegSetValue()
    request["hKey"], request["lpValueName"], request["dwType"] = key, f"{name}\0", kind
    request["lpData"], request["cbData"] = data, len(data)
    return talk.request(request)


_ENUM_VALUE, _ABOUT = 10, 16
"""``BaseRegEnumValue``, ``BaseRegQueryInfoKey`` ([MS-RRP], 3.1.5)."""
_KEY_TOLD = struct.Struct("<10I")


class AboutKey(NamedTuple):
    """What is told of a key as a whole."""

    below: int
    values: int
    longest_name: int
    """Bytes, and those of a value."""
    longest_value: int
    changed_at: datetime | None


def about_key(answer: bytes) -> AboutKey:
    """What an answer tells of a key; its numbers stand at its end. Raises :class:`Declined`."""
    if len(answer) < _KEY_TOLD.size:
        raise Declined(int.from_bytes(answer[-4:], "little") or 13, "a key is not told")
    below, _, _, values, longest_name, longest, _, low, high, number = _KEY_TOLD.unpack(answer[-_KEY_TOLD.size :])
    if number:
        raise Declined(number, "a key is not told")
    return AboutKey(below, values, longest_name, longest, _moment((high << 32) + low))


_POINTER = 0x20000
"""Any number but zero says that something stands behind a pointer ([C706], 14.3.10)."""


def _question(key: Any, at: int, name_room: int, room: int) -> bytes:
    """The bytes of a question for a value. The package builds it byte by byte, some thousand of which a host is asked."""
    head = struct.pack("<IHHIIII", at, 0, min(name_room, 0xFFFE), _POINTER, name_room // 2, 0, 0)
    tail = struct.pack("<IIIIIIIIII", _POINTER, 0, _POINTER, room, 0, 0, _POINTER, room, _POINTER, 0)
    return _bytes(key) + head + tail


def _bytes(key: Any) -> bytes:
    return bytes(key.getData() if hasattr(key, "getData") else key)


def value_of(answer: bytes) -> tuple[str, Raw] | None:
    """The name, type and bytes of a value; None where there are no more. Raises :class:`Declined`."""
    number = int.from_bytes(answer[-4:], "little")
    if number == _NO_MORE:
        return None
    if number:
        raise Declined(number, "a value is not told")
    reader = _Reader(answer)
    length = reader.short()
    reader.short()
    name = ""
    if reader.number():
        reader.number(), reader.number()
        name = reader.bytes(2 * reader.number()).decode("utf-16-le", "replace")[: length // 2].rstrip("\0")
    kind = reader.number() if reader.number() else 0
    data = b""
    if reader.number():
        reader.number(), reader.number()
        data = reader.bytes(reader.number())
    return name, (kind, data[:_MOST_BYTES])


class _Reader:
    """Reads what stands one behind the other, each at a place that its size divides ([C706], 14.2.2)."""

    def __init__(self, data: bytes) -> None:
        self._data, self._at = data, 0

    def bytes(self, count: int) -> bytes:
        """So many bytes."""
        if count > len(self._data) - self._at:
            raise Declined(13, "its answer is cut short")
        self._at += count
        return self._data[self._at - count : self._at]

    def short(self) -> int:
        """A whole number of two bytes."""
        self._at += self._at % 2
        return int.from_bytes(self.bytes(2), "little")

    def number(self) -> int:
        """A whole number of four bytes."""
        self._at += -self._at % 4
        return int.from_bytes(self.bytes(4), "little")


def typed(kind: int, data: bytes) -> tuple[Any, int]:
    """A value as it is understood, and its type."""
    if kind in (TEXT, EXPANDED_TEXT):
        return data.decode("utf-16-le", "replace").partition("\0")[0], kind
    if kind == TEXTS:
        texts = data.decode("utf-16-le", "replace").split("\0")
        while texts and not texts[-1]:
            texts.pop()
        return texts, kind
    if kind == NUMBER:
        return int.from_bytes(data[:4], "little"), kind
    return data, kind if kind else BYTES


def _moment(ticks: int) -> datetime | None:
    try:
        return _EPOCH + timedelta(microseconds=ticks // 10) if ticks > 0 else None
    except OverflowError:
        return None

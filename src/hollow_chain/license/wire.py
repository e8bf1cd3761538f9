"""The wire protocol of the license server, version 1: JSON lines of bounded length. Bytes in, messages out; no sockets.

Described in ``docs/license.md``. A request is ``{"v": 1, "id": 7, "do": "status", ...}``; its answer carries the same
``id`` and ``"ok": true``, or ``"ok": false`` with ``error`` (a word for programs) and ``says`` (a sentence).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import msgspec

from hollow_chain import decoding

VERSION = 1
MAX_LINE = 64 << 10
"""Version of the protocol, and bytes of one message: a line that does not end must not fill the memory of who reads it."""
Message = dict[str, Any]
_encoder = msgspec.json.Encoder()
_decoder = msgspec.json.Decoder(dict)


class WireError(Exception):
    """What came is not of this protocol; the connection ends after the answer that says so."""


class Lines:
    """Cuts a stream of bytes into messages; keeps what is not yet whole, and no more than one line of it."""

    def __init__(self) -> None:
        self._kept = bytearray()

    @property
    def half(self) -> bool:
        """Whether a line has been begun and not ended."""
        return bool(self._kept)

    def feed(self, data: bytes) -> Iterator[Message]:
        """The messages that are whole with *data*. Raises :class:`WireError`."""
        self._kept += data
        while (end := self._kept.find(b"\n")) >= 0:
            line = bytes(self._kept[:end])
            del self._kept[: end + 1]
            if len(line) > MAX_LINE:
                raise WireError(f"a line is longer than {MAX_LINE} bytes")
            if line.strip():
                yield _message(line)
        if len(self._kept) > MAX_LINE:
            raise WireError(f"a line is longer than {MAX_LINE} bytes")


def _message(line: bytes) -> Message:
    try:
        found: Message = _decoder.decode(line)
    except (msgspec.MsgspecError, RecursionError, ValueError):
        raise WireError("a line is no JSON object") from None
    if found.get("v") != VERSION:
        raise WireError(f"version {str(found.get('v'))[:20]!r} is not spoken here; {VERSION} is")
    return found


def encode(message: Message) -> bytes:
    """A message as a line."""
    return _encoder.encode({"v": VERSION, **message}) + b"\n"


def refused(request: Message | None, error: str, says: str) -> bytes:
    """The answer to a request that is not carried out."""
    return encode({"id": request.get("id") if request else None, "ok": False, "error": error, "says": says})


def answered(request: Message, **parts: Any) -> bytes:
    """The answer to a request that was carried out."""
    return encode({"id": request.get("id"), "ok": True, **parts})


class Want(msgspec.Struct, frozen=True):
    """What a client wants: ``PRODUCT[/FEATURE][@VERSION][:SEATS]``."""

    product: str
    feature: str = ""
    version: str = ""
    seats: int = 1

    @classmethod
    def parsed(cls, text: str) -> Want:
        """Raises :class:`ValueError` where *text* is not of that form."""
        rest, colon, seats = text.strip().rpartition(":")
        if not colon:
            rest, seats = text.strip(), "1"
        if not (seats.isascii() and seats.isdigit() and 0 < int(seats[:9]) <= 1_000_000):
            raise ValueError(f"{seats!r} is no number of seats")
        rest, _, version = rest.partition("@")
        product, _, feature = rest.partition("/")
        if not product or len(text) > 500:
            raise ValueError(f"{text[:60]!r} is not PRODUCT[/FEATURE][@VERSION][:SEATS]")
        return cls(product, feature, version, int(seats))

    def __str__(self) -> str:
        feature = f"/{self.feature}" if self.feature else ""
        version = f"@{self.version}" if self.version else ""
        return f"{self.product}{feature}{version}" + (f":{self.seats}" if self.seats != 1 else "")


def want_of(request: Message) -> Want:
    """The want that a request carries. Raises :class:`WireError` where it carries none."""
    try:
        found = decoding.of_plain(request.get("want"), Want)
    except msgspec.ValidationError as error:
        raise WireError(f"want: {error}") from None
    if not found.product or not 0 < found.seats <= 1_000_000:
        raise WireError("want: a product and at least one seat are needed")
    return found

"""How long a certificate is valid, by its own words (RFC 5280, section 4.1.2.5); of the rest nothing is read, and nothing is verified."""

from __future__ import annotations

import binascii
from datetime import UTC, datetime

import msgspec

from hollow_chain.lazy import pattern

_SEQUENCE, _VERSION, _SHORT_TIME, _LONG_TIME = 0x30, 0xA0, 0x17, 0x18
"""The tags of a certificate's outer parts (X.690, section 8)."""
_BLOCK = pattern(r"-----BEGIN (?:TRUSTED |X509 )?CERTIFICATE-----([A-Za-z0-9+/=\s]{1,20000})-----END")
"""The text form (RFC 7468, section 5); a certificate is seldom longer than four thousand bytes."""


class Validity(msgspec.Struct, frozen=True):
    """From when to when a certificate is valid."""

    since: datetime
    until: datetime


def validity(data: bytes) -> Validity | None:
    """That of the first certificate in a file, in either form: in a chain that is the holder's own (RFC 8446, section 4.4.2).
    None where there is none, or it cannot be read."""
    block = _BLOCK.search(data.decode("latin-1"))
    try:
        return _of(binascii.a2b_base64(block[1]) if block is not None else data)
    except (ValueError, IndexError, OverflowError):
        return None


def _of(data: bytes) -> Validity | None:
    at = _inside(data, _inside(data, 0, _SEQUENCE), _SEQUENCE)  # the certificate, and what of it is signed
    if data[at] == _VERSION:
        at = _after(data, at)
    for _ in ("serial number", "signature", "issuer"):
        at = _after(data, at)
    first = _inside(data, at, _SEQUENCE)
    return Validity(_time(data, first), _time(data, _after(data, first)))


def _bounds(data: bytes, at: int) -> tuple[int, int]:
    """Where the content of the element at that place begins and ends."""
    length, begins = data[at + 1], at + 2
    if length & 0x80:
        count = length & 0x7F
        if not 1 <= count <= 3:  # nothing of this kind has 16 MB
            raise ValueError("a length that no certificate has")
        length, begins = int.from_bytes(data[begins : begins + count], "big"), begins + count
    if begins + length > len(data):
        raise ValueError("cut off")
    return begins, begins + length


def _after(data: bytes, at: int) -> int:
    return _bounds(data, at)[1]


def _inside(data: bytes, at: int, tag: int) -> int:
    if data[at] != tag:
        raise ValueError("no certificate")
    return _bounds(data, at)[0]


def _time(data: bytes, at: int) -> datetime:
    begins, ends = _bounds(data, at)
    text = data[begins:ends].decode("ascii")
    if data[at] == _SHORT_TIME:  # of years with two digits, 50 and above are of the last century
        text = ("19" if text[:2] >= "50" else "20") + text
    elif data[at] != _LONG_TIME:
        raise ValueError("no time")
    return datetime.strptime(text, "%Y%m%d%H%M%SZ").replace(tzinfo=UTC)

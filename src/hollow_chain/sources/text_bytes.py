"""Bytes of texts that others have written, in whatever of the usual encodings."""

from __future__ import annotations

_WIDE_MARKS = (b"\xff\xfe", b"\xfe\xff")
"""Byte order marks of UTF-16 (RFC 2781, section 3.2)."""
_SAMPLE = 4096
"""Bytes by which it is told whether a text without a mark is one of two bytes each: as much as the usual line of a log."""
_LEAST = 32
"""Bytes of such a text at the least: a shorter one may be anything."""
_MOSTLY = 0.7
"""The least share of the characters of such a text that are of the Latin script, of which every second byte is zero."""


def text_of(data: bytes) -> str:
    """The text of *data*: UTF-16 by its mark, or where nearly every second byte is zero (the end of a log has no mark, and may begin in the
    middle of a character), UTF-8 else; what is not of the encoding is replaced."""
    if data.startswith(_WIDE_MARKS):
        return data.decode("utf-16", "replace").lstrip("\ufeff")
    first = _first_of_wide(data[:_SAMPLE])
    if first is not None:
        return data[first:].decode("utf-16-le", "replace")
    return data.decode("utf-8-sig", "replace")


def _first_of_wide(sample: bytes) -> int | None:
    """Where the first whole character of a text of two bytes each begins, the lower byte first; None where it is none."""
    if b"\0" not in sample or len(sample) < _LEAST:
        return None
    for first in (0, 1):
        lower, upper = sample[first::2], sample[first + 1 :: 2]
        if upper and upper.count(0) >= _MOSTLY * len(upper) and not lower.count(0):
            return first
    return None

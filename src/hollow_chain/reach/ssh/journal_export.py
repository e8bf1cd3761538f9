"""The export format of the journal: records of fields, text in one line each, anything else behind its length.

Source: the documentation of the journal's file formats, "Journal Export Format" (systemd.io/JOURNAL_EXPORT_FORMATS).
"""

from __future__ import annotations

from collections.abc import Iterator

Fields = dict[str, list[str]]
"""The values of each field of a record."""


def records(data: bytes, most_of_field: int) -> Iterator[Fields]:
    """The records that *data* holds, up to *most_of_field* bytes of each value; what breaks off in the middle is left out."""
    fields: Fields = {}
    at, size = 0, len(data)
    while at < size:
        end = data.find(b"\n", at)
        if end < 0:
            return
        line = data[at:end]
        at = end + 1
        if not line:
            if fields:
                yield fields
            fields = {}
            continue
        name, equals, value = line.partition(b"=")
        if not equals:
            length = int.from_bytes(data[at : at + 8], "little")
            if at + 8 + length >= size:
                return
            value, at = data[at + 8 : at + 8 + length], at + 8 + length + 1
        fields.setdefault(name.decode("ascii", "replace"), []).append(value[:most_of_field].decode("utf-8", "replace"))
    if fields:
        yield fields

"""Whether a document could take too much memory, reckoned from its bytes before any of it is read.

Text of the shape ``{"name":"a"},`` takes seventy times its size once it is objects: whoever wrote a file must not decide how much
memory its reader needs. The reckoning is made from the model itself: what an object of each type takes with nothing in it, times how
often the key stands in the text that such an object cannot do without. It is an upper bound, up to twice too high: what is over it is
worth a trial, what is under it needs none.
"""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterator
from functools import cache
from typing import Any

import msgspec

from hollow_chain.facts.host import Snapshot

FACTOR = 8
"""Memory that a document may take, in its own size."""
FREE = 1 << 20
"""Bytes up to which a document is read whatever is in it: seventy times that is no harm."""
_SAMPLES, _SAMPLE = 48, 1 << 14
"""Of a long document this many pieces of this many bytes are looked at, at places that nobody can know beforehand."""
_SCALAR = sys.getsizeof("abcdefgh") + 8
"""A short text or a number, and the place of its reference in a list."""
_COLLECTED = 16
"""Bytes that the garbage collector adds to an object (CPython, ``PyGC_Head``)."""
_DISGUISED = re.compile(rb"\\u00[4-7]")
"""A letter written as an escape, which no writer of JSON does: it could hide a key."""


def could_take_too_much(data: bytes) -> bool:
    """Whether the objects of a JSON document could take more than :data:`FACTOR` times its size."""
    if len(data) <= FREE:
        return False
    places = [int.from_bytes(os.urandom(8), "little") % (len(data) - _SAMPLE) for _ in range(_SAMPLES)]
    sample = b"".join(data[place : place + _SAMPLE] for place in places)
    return memory_of(sample) > FACTOR * len(sample)


def memory_of(data: bytes) -> int:
    """Bytes that the objects of a JSON document take at most, the document itself included."""
    costs = _costs()
    named = sum(cost * data.count(key) for key, cost in costs.items())
    hidden = max(costs.values()) * sum(1 for _ in _DISGUISED.finditer(data))
    return len(data) + named + hidden + _SCALAR * (data.count(b",") + data.count(b"["))


@cache
def _costs() -> dict[bytes, int]:
    """What an object takes beside its scalars, by the key that tells of it: its first required one, else the one it stands under."""
    found: dict[bytes, int] = {}
    for under, kind in _structs(msgspec.inspect.type_info(Snapshot), "", set()):
        required = [field.encode_name for field in kind.fields if field.required]
        key = f'"{required[0] if required else under}"'.encode()
        found[key] = max(found.get(key, 0), _size(kind))
    return found


def _structs(kind: Any, under: str, seen: set[type]) -> Iterator[tuple[str, msgspec.inspect.StructType]]:
    if isinstance(kind, msgspec.inspect.StructType):
        yield under, kind
        if kind.cls not in seen:
            seen.add(kind.cls)
            for field in kind.fields:
                yield from _structs(field.type, field.encode_name, seen)
    for inner in ("item_type", "value_type", "type"):
        if hasattr(kind, inner):
            yield from _structs(getattr(kind, inner), under, seen)
    for one in getattr(kind, "types", ()):
        yield from _structs(one, under, seen)


def _size(kind: msgspec.inspect.StructType) -> int:
    """Of an object of that type with nothing in it: itself, and the empty lists and tables that it begins with."""
    empty = sum(
        (sys.getsizeof([]) + _COLLECTED) * isinstance(_bare(field.type), msgspec.inspect.ListType)
        + (sys.getsizeof({}) + _COLLECTED) * isinstance(_bare(field.type), msgspec.inspect.DictType)
        for field in kind.fields
    )
    return int(kind.cls.__basicsize__) + _COLLECTED + 8 + empty


def _bare(kind: Any) -> Any:
    return kind.type if isinstance(kind, msgspec.inspect.Metadata) else kind

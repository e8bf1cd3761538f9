"""Bytes and plain objects into types of ours, one thread at a time.

The package works out a type when it first decodes one, and crashes the interpreter where two threads do that at once: hosts are read in
several threads, and each of them may be the first that needs a table of the tool's own.
"""

from __future__ import annotations

import gc
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, TypeVar, overload

import msgspec

T = TypeVar("T")
_ONE_AT_A_TIME = threading.RLock()
"""Held while something is decoded into a type."""


def of_json(data: bytes | str, type: type[T]) -> T:
    """The object of *type* that *data* is, JSON. Raises :class:`msgspec.MsgspecError`."""
    with _ONE_AT_A_TIME:
        return msgspec.json.decode(data, type=type)


@overload
def of_plain(found: Any, type: type[T], strict: bool = True) -> T: ...
@overload
def of_plain(found: Any, type: Any, strict: bool = True) -> Any: ...
def of_plain(found: Any, type: Any, strict: bool = True) -> Any:
    """The object of *type* that plain objects mean. Raises :class:`msgspec.ValidationError`."""
    with _ONE_AT_A_TIME:
        return msgspec.convert(found, type, strict=strict)


@contextmanager
def no_collection() -> Iterator[None]:
    """Pause the garbage collector: where objects are made in masses, nearly none of them is garbage yet."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()

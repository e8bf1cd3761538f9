"""Error numbers and signals of the kernel that hosts of the systemd family run on, from a table: the machine that reads the facts
may be one that has others, or none."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import NamedTuple

import msgspec


class Numbered(NamedTuple):
    """An error or a signal."""

    number: int
    name: str
    """As programs spell it: ``ENOENT``, ``SIGTERM``."""
    text: str
    """As the C library words it."""


class _Table(msgspec.Struct):
    about: str
    errors: list[Numbered]
    signals: list[Numbered]
    other_names: dict[str, str]


@cache
def _table() -> _Table:
    return msgspec.json.decode(Path(__file__).with_name("system_errors.json").read_bytes(), type=_Table)


@cache
def errors() -> dict[int, Numbered]:
    """The errors by number."""
    return {one.number: one for one in _table().errors}


@cache
def signals() -> dict[int, Numbered]:
    """The signals by number."""
    return {one.number: one for one in _table().signals}


def signal_named(name: str) -> Numbered | None:
    """The signal of that name, with or without its first three letters; None where there is none."""
    spoken = name if name.startswith("SIG") else f"SIG{name}"
    wanted = _table().other_names.get(spoken, spoken)
    return next((one for one in signals().values() if one.name == wanted), None)

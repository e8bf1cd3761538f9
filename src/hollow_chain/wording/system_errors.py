"""Error numbers of the systems that either family runs on, and the signals of the one that has them, from a table: the machine that
reads the facts may be one that has others, or none."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import NamedTuple

import msgspec

from hollow_chain import decoding


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
    control: list[Numbered]
    signals: list[Numbered]
    other_names: dict[str, str]


@cache
def _table() -> _Table:
    return decoding.of_json(Path(__file__).with_name("system_errors.json").read_bytes(), _Table)


@cache
def errors() -> dict[int, Numbered]:
    """The errors by number."""
    return {one.number: one for one in _table().errors}


@cache
def control_errors() -> dict[int, Numbered]:
    """Those of the system below the control-manager family that have a name here, by number."""
    return {one.number: one for one in _table().control}


_SOCKET_ERRORS = 10_000
"""From here on the numbers of Windows Sockets begin: so high that a bare "error 10048" can be nothing else."""


def spelled(name: str) -> list[str]:
    """The ways in which a log line gives the error of that *name*: its name, its text, its number behind a word that says of which
    system it is. Raises :class:`KeyError` where the table has no such error."""
    for one in _table().errors:
        if one.name == name:
            return [one.name, one.text, f"errno {one.number}", f"os error {one.number}"]
    for one in _table().control:
        if one.name == name:
            words = "winerror error errno code" if one.number >= _SOCKET_ERRORS else "winerror"
            return [one.name, one.text, *(f"{word} {one.number}" for word in words.split())]
    raise KeyError(name)


def error_at_end(text: str) -> str:
    """The name of the error with whose text a line ends, as most programs write it (perror(3)); empty where it ends with none."""
    end = text[-_LONGEST_TEXT:].rstrip(" .)]'\"").lower()
    return next((one.name for one in _table().errors if end.endswith(one.text.lower())), "")


_LONGEST_TEXT = 200
"""Characters in which the text of an error and what closes the line after it have room."""


@cache
def signals() -> dict[int, Numbered]:
    """The signals by number."""
    return {one.number: one for one in _table().signals}


def signal_named(name: str) -> Numbered | None:
    """The signal of that name, with or without its first three letters; None where there is none."""
    spoken = name if name.startswith("SIG") else f"SIG{name}"
    wanted = _table().other_names.get(spoken, spoken)
    return next((one for one in signals().values() if one.name == wanted), None)

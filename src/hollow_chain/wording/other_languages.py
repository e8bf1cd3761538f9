"""What the C library says of error numbers on a host that speaks another language: from its own catalogs, word by word."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import msgspec

from hollow_chain import decoding


class _Table(msgspec.Struct):
    about: str
    by_first_word: dict[str, list[tuple[str, list[str]]]]


@cache
def _table() -> _Table:
    return decoding.of_json(Path(__file__).with_suffix(".json").read_bytes(), _Table)


def by_first_word() -> dict[str, list[tuple[str, list[str]]]]:
    """The errors by the word (in lower case) that their text begins with in some language: name, and the words that follow."""
    return _table().by_first_word

"""What fails in good starts of a service, too: kept from the last one that was watched, so that it is not taken for a cause."""

from __future__ import annotations

import re
from pathlib import Path

import msgspec

from hollow_chain import decoding
from hollow_chain.sources.files import write_atomically

_PLACE = Path("/var/lib/hollow-chain/good-starts")
_MOST, _MOST_BYTES = 5_000, 2 << 20
"""Calls that are kept of a start, and bytes that these take at most: the busiest start seen had some hundred."""
_LONGEST_NAME = 200
"""Letters of a name that are kept: a file name has 255 at most (``NAME_MAX``)."""


def _file(unit: str) -> Path:
    plain = re.sub(r"[^A-Za-z0-9@._:\\-]", "_", unit)[:_LONGEST_NAME]
    return _PLACE / f"{plain}.json"


def known(unit: str) -> frozenset[str]:
    """The calls that fail in good starts of *unit*; empty where none was watched."""
    try:
        with _file(unit).open("rb") as file:
            return frozenset(decoding.of_json(file.read(_MOST_BYTES), list[str]))
    except (OSError, msgspec.MsgspecError):
        return frozenset()


def keep(unit: str, signatures: set[str]) -> None:
    """Keep those of a good start; where that cannot be written, nothing is kept."""
    try:
        _PLACE.mkdir(mode=0o700, parents=True, exist_ok=True)
        write_atomically(_file(unit), msgspec.json.encode(sorted(signatures)[:_MOST]), 0o600, False)
    except OSError:
        return

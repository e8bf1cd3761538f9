"""Numbers of things, as one says them."""

from __future__ import annotations

_ODD = {"clash": "clashes", "try": "tries", "entry": "entries", "process": "processes", "is": "are", "has": "have"}


def plural(number: int, word: str) -> str:
    """*word* as it stands behind *number*."""
    return word if number == 1 else _ODD.get(word, f"{word}s")


def counted(number: int, word: str) -> str:
    """``1 port``, ``2 ports``."""
    return f"{number:,} {plural(number, word)}"


_UNITS = ("bytes", "KiB", "MiB", "GiB", "TiB", "PiB")


def size(number: int) -> str:
    """A number of bytes, as one says it (IEC 80000-13)."""
    value, at = float(number), 0
    while value >= 1024 and at < len(_UNITS) - 1:
        value, at = value / 1024, at + 1
    return f"{number} {'byte' if number == 1 else 'bytes'}" if at == 0 else f"{value:.3g} {_UNITS[at]}"

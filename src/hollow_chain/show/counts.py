"""Numbers of things, as one says them."""

from __future__ import annotations

_ODD = {"clash": "clashes", "try": "tries", "entry": "entries", "process": "processes", "is": "are", "has": "have"}


def plural(number: int, word: str) -> str:
    """*word* as it stands behind *number*."""
    return word if number == 1 else _ODD.get(word, f"{word}s")


def counted(number: int, word: str) -> str:
    """``1 port``, ``2 ports``."""
    return f"{number:,} {plural(number, word)}"

"""Names and log lines are hostile: nothing of them reaches a terminal or a page that is not plain text."""

from __future__ import annotations

import unicodedata
from functools import lru_cache

_HIDDEN = frozenset({"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"})


def clean(text: str, most: int = 300) -> str:
    """*text* on one line: what cannot be seen or would move the cursor is spelled out; cut after *most* characters."""
    if len(text) > most:
        text = text[: most - 1] + "\u2026"
    if text.isascii() and text.isprintable():
        return text
    return "".join(_spelled(character) for character in text)


@lru_cache(maxsize=4096)
def _spelled(character: str) -> str:
    if unicodedata.category(character) not in _HIDDEN:
        return character
    return character.encode("unicode_escape", "backslashreplace").decode("ascii")

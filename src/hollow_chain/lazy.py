"""Patterns that are compiled when they are first used: a call that needs none of them should not pay for all."""

from __future__ import annotations

import re
from typing import Any, cast


class _Lazy:
    """Stands for a compiled pattern until the first use of any of its methods."""

    def __init__(self, text: str, flags: int) -> None:
        self._given = text, flags

    def __getattr__(self, name: str) -> Any:
        compiled = re.compile(*self._given)
        # From now on the methods of the compiled pattern are found at once.
        self.__dict__.update(
            {
                method: getattr(compiled, method)
                for method in ("search", "match", "fullmatch", "finditer", "findall", "sub", "split")
            }
        )
        return getattr(compiled, name)


def pattern(text: str, flags: int = 0) -> re.Pattern[str]:
    """What :func:`re.compile` gives, compiled at its first use."""
    return cast("re.Pattern[str]", _Lazy(text, int(flags)))

"""Accounts by number: what files of other systems carry, and those of this one do not."""

from __future__ import annotations

from typing import Any


class NoNumbers:
    """The accounts of this system have no numbers that a file could carry: whoever asks for one is told that there is none."""

    def user(self, name: str) -> Any:
        """None."""
        raise KeyError(name)

    def user_name(self, number: int) -> str:
        """None."""
        raise KeyError(number)

    group_name = user_name

    def user_number(self, name: str) -> int:
        """None."""
        raise KeyError(name)

    known_group = user_number

    def groups_of(self, user: Any) -> list[int]:
        """None."""
        return []

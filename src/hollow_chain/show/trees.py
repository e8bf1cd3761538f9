"""Trees in text: what hangs beside what."""

from __future__ import annotations

from typing import NamedTuple

from hollow_chain.show.page import Page
from hollow_chain.show.signs import Sign

_FORK = Sign("├─ ", "|- ", "dim")
_END = Sign("└─ ", "`- ", "dim")
_PAST = Sign("│  ", "|  ", "dim")
_NOTHING = "   "


class Branch(NamedTuple):
    """Where a line stands in a tree: for each level above it, and for itself, whether a sibling follows."""

    siblings: tuple[bool, ...] = ()

    def below(self, sibling_follows: bool) -> Branch:
        """The place of a child."""
        return Branch((*self.siblings, sibling_follows))

    def lead(self, page: Page) -> str:
        """What stands before the line."""
        if not self.siblings:
            return ""
        return self.trunk(page, self.siblings[:-1]) + page.sign(_FORK if self.siblings[-1] else _END)

    @staticmethod
    def trunk(page: Page, siblings: tuple[bool, ...]) -> str:
        """What stands before the lines beneath such a place."""
        return "".join(page.sign(_PAST) if follows else _NOTHING for follows in siblings)

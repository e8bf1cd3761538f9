"""A page about one matter, independent of where it will be read: a terminal, a browser, a ticket."""

from __future__ import annotations

from datetime import datetime
from typing import Literal, NamedTuple

import msgspec

BlockKind = Literal["facts", "list", "log", "chain", "steps", "text"]


class SheetLine(NamedTuple):
    """A line of a block: what it is about, what it says, and where that is from or how it stands (of a step: what else belongs to it,
    in sentences of a line each)."""

    text: str
    label: str = ""
    aside: str = ""
    tone: str = ""
    """``well``, ``waits``, ``idle``, ``unwell``, ``cause``; empty: none."""
    code: str = ""
    """Lines to type, one below the other."""


class Block(msgspec.Struct):
    """A part of a page under a heading."""

    title: str
    lines: list[SheetLine]
    kind: BlockKind = "list"
    folded: bool = False
    """Whether it is opened on demand, where a page can do that."""
    left_out: int = 0
    """Lines that were left out because there are too many."""


class Sheet(msgspec.Struct):
    """The whole page. All texts are foreign until whoever shows them has cleaned them."""

    title: str
    lead: str
    """The answer in one sentence."""
    host: str
    read_at: datetime | None = None
    symptom: str = ""
    """What the user saw, in his words."""
    about: list[SheetLine] = msgspec.field(default_factory=list)
    """What else belongs at the head."""
    blocks: list[Block] = msgspec.field(default_factory=list)

    def add(
        self, title: str, lines: list[SheetLine], kind: BlockKind = "list", folded: bool = False, most: int = 200
    ) -> None:
        """Add a block, unless it would be empty."""
        if lines:
            self.blocks.append(Block(title, lines[:most], kind, folded, max(0, len(lines) - most)))

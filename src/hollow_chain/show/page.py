"""The terminal as a page to write on: width, colour and signs as it allows, every foreign word cleaned."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from hollow_chain.causes.words import clock, span
from hollow_chain.lazy import pattern
from hollow_chain.show.signs import MEANINGS, Sign

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text


class Page:
    """Standard output, written line by line."""

    def __init__(self, console: Console | None = None, on_errors: bool = False) -> None:
        """*on_errors*: on standard error, where it stands beside a question."""
        from rich.console import Console

        self.console = console or _steady(Console, on_errors)
        self.rich_signs = "utf" in (self.console.encoding or "").lower()
        self._used: set[Sign] = set()

    @property
    def width(self) -> int:
        """Characters on a line."""
        return self.console.width

    def sign(self, sign: Sign) -> str:
        """The mark of *sign* that the output can carry."""
        self._used.add(sign)
        return sign.mark if self.rich_signs else sign.plain

    def legend(self) -> None:
        """Where letters stand for the marks: what each of those that were used means."""
        said = [f"{sign.plain} {words}" for sign, words in MEANINGS.items() if sign in self._used]
        if not self.rich_signs and said:
            self.line((f"Marks: {', '.join(said)}", "dim"), hang=7)

    @staticmethod
    def _local(text: str) -> str:
        """*text* with its moments in the time of whoever reads it."""
        return MOMENT.sub(lambda found: local(found[0]), text) if "Z" in text else text

    def line(self, *parts: str | tuple[str, str], indent: int = 0, hang: int = 0, under: str = "") -> None:
        """One line of *parts*, each a text or a text with a style; wrapped lines are indented by *hang* more, with *under* in that."""
        from rich.text import Text

        text = Text()
        for part in parts:
            body, style = part if isinstance(part, tuple) else (part, "")
            text.append(self._local(body) if self.rich_signs else _in_letters(self._local(body)), style)
        self._wrapped(text, indent, hang, under)

    def _wrapped(self, text: Text, indent: int, hang: int, under: str) -> None:
        room = max(20, self.width - indent - hang)
        lines = text.wrap(self.console, room) if len(text) > self.width - indent else [text]
        for number, piece in enumerate(lines):
            piece.rstrip()
            if number and under.strip():
                from rich.text import Text

                lead = Text(" " * indent)
                lead.append(under.ljust(hang) if self.rich_signs else _in_letters(under.ljust(hang)), "dim")
                piece = lead + piece
            else:
                piece.pad_left(indent + (hang if number else 0))
            self.console.print(piece, soft_wrap=True, no_wrap=True, crop=False)

    def gap(self) -> None:
        """An empty line."""
        self.console.print()

    def heading(self, text: str) -> None:
        """A heading, set off by a gap."""
        self.gap()
        self.line((text, "bold"))


def _steady(make: Callable[..., Console], on_errors: bool = False) -> Console:
    """A console that is asked for its size and kind once, and not anew for each line."""
    is_terminal = (sys.stderr if on_errors else sys.stdout).isatty()
    width = None if is_terminal or "COLUMNS" in os.environ else 100
    first = make(highlight=False, markup=False, emoji=False, width=width, stderr=on_errors)
    kind = first.is_terminal
    # A console of the old kind is one only where it is a terminal: a pipe has every column.
    old = None if kind else False
    made = make(
        highlight=False,
        markup=False,
        emoji=False,
        width=first.width if kind else width,
        height=first.height,
        force_terminal=kind,
        legacy_windows=old,
        stderr=on_errors,
    )
    made.on_broken_pipe = _leave  # type: ignore[method-assign]  # its own way is to end with status 1
    return made


def _leave() -> None:
    """Whoever reads has seen enough, which is no trouble: the call ends as it would have."""
    raise BrokenPipeError


_LETTERS = str.maketrans({
    "\u2026": "...", "\u201c": '"', "\u201d": '"', "\u2018": "'", "\u2019": "'", "\u2013": "-", "\u2014": "-", "\u2192": "->", "\u00d7": "x",
    "\u00b7": ".", "\u2265": ">=", "\u2264": "<=", "\u00b1": "+-",
})  # fmt: skip


def _in_letters(text: str) -> str:
    """*text* for an output that has ASCII alone: signs of print in letters; of a name, whatever it is made of stays."""
    return text if text.isascii() else text.translate(_LETTERS)


MOMENT = pattern(r"\b\d{4}-\d\d-\d\d \d\d:\d\d:\d\dZ")
"""A moment as sentences have it (``causes.words.clock``)."""


def local(moment: str) -> str:
    """Such a moment in local time, with the zone (the environment variable ``TZ``, else that of the machine)."""
    try:
        here = datetime.strptime(moment, "%Y-%m-%d %H:%M:%SZ").replace(tzinfo=UTC).astimezone()
    except (ValueError, OverflowError, OSError):
        return moment
    return f"{here:%Y-%m-%d %H:%M:%S} {zone_of(here)}"


_LONGEST_ZONE = 5
"""Letters of the abbreviation of a zone; some systems have whole sentences instead."""


def zone_of(moment: datetime) -> str:
    """The zone of a moment in few letters."""
    name = moment.tzname() or ""
    if not moment.utcoffset():
        return "UTC"  # whatever the system calls it
    if name.isascii() and name.isalpha() and len(name) <= _LONGEST_ZONE:
        return name
    return f"UTC{moment:%z}"


def age(read_at: datetime | None, now: datetime | None = None) -> str:
    """When the facts were read, and how long ago that is."""
    if read_at is None:
        return "facts of unknown age"
    past = ((now or datetime.now(UTC)) - read_at).total_seconds()
    ago = f"{span(past)} ago" if past >= 0 else f"{span(-past)} ahead of this clock"
    return f"facts read {clock(read_at)}, {ago}"


def before(moment: datetime | None, read_at: datetime | None) -> str:
    """A moment as evidence shows it: the time, and how long before the reading."""
    if moment is None:
        return ""
    gap = (read_at - moment).total_seconds() if read_at is not None else 0.0
    # What another host was asked a little later is as good as read at the same time.
    return f"{clock(moment)}, {span(gap)} before the reading" if gap > 0 else clock(moment)

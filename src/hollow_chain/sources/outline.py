"""The blocks of a configuration text by its general form: sections, tags, braces, and what stands further in than the line above.

Of no one format: who wants to know what a setting is about needs the names of the blocks around it and its neighbors, and these show
in all of them.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.lazy import pattern

_MOST_LINES = 30_000
"""Lines of a text that are gone through: what has more is data, whatever it is called."""
_DEEPEST = 40
"""Blocks within each other that are told apart: more is no configuration that anybody keeps."""
_TAB = 8
"""Columns of a tab, as terminals and most formats that count them have it."""
_ITEM = 2
"""Columns that the sign of a list's item takes ("- "): what follows it stands that much further in."""
_COMMENT = ("#", ";", "//", "!", "<!--", "*")
_SECTION = pattern(r"^\[{1,2}[ \t]{0,8}(?P<name>[A-Za-z_][^\[\]]{0,200})\]{1,2}[ \t]{0,8}(?:[#;].*)?$")
_TAG = pattern(r"^<(?P<end>/?)(?P<name>[A-Za-z][\w:.\-]{0,60})(?P<rest>[^>]{0,300})>?[ \t]{0,8}$")
_QUOTED = pattern(r"\"[^\"]{0,300}\"|'[^']{0,300}'")
_HEADING = pattern(r"^[\"']?[A-Za-z][\w.\-]{0,60}[\"']?(?:[ \t]{1,8}[A-Za-z_][\w.\-]{0,60}){0,4}[ \t]{0,8}:?$")
_SETTING = pattern(r"^[ \t]*[\"']?(?P<key>[A-Za-z][\w.\-]*)[\"']?(?:[ \t]*[:=][ \t]*|[ \t]+)(?P<value>[^#\r\n]{0,300})")


class OutlineBlock:
    """A part of a configuration text that hangs together, within another one."""

    __slots__ = ("name", "parent", "settings")

    def __init__(self, name: str = "", parent: OutlineBlock | None = None) -> None:
        self.name = name
        self.parent = parent
        self.settings: dict[str, str] = {}
        """What is set in it, by the name in small letters; the last where there are several."""

    def around(self) -> Iterator[OutlineBlock]:
        """The block, and those that it is in, outwards."""
        block: OutlineBlock | None = self
        while block is not None:
            yield block
            block = block.parent


class OutlineSetting(NamedTuple):
    """One line that sets something."""

    key: str
    value: str
    block: OutlineBlock


class _Open(NamedTuple):
    by: str
    indent: int
    block: OutlineBlock


def settings_of(text: str) -> list[OutlineSetting]:
    """The settings of a text in their order, each with its block; comments are left out."""
    outline, found = _Outline(), []
    for line in _in_lines(text).splitlines()[:_MOST_LINES]:
        block, bare = outline.place(line)
        setting = _SETTING.match(bare) if bare else None
        if setting is not None:
            value = setting["value"].strip().rstrip(";,").strip()
            block.settings[setting["key"].lower()] = value
            found.append(OutlineSetting(setting["key"], value, block))
    return found


def _in_lines(text: str) -> str:
    """What stands in braces all in one line, as JSON often does (RFC 8259), with a line for each value; any other text as it is."""
    if text[:1] != "{" or "\n" in text.strip():
        return text
    return _SIGN.sub(
        lambda sign: f"\n{sign[0]}" if sign[0] in "}]" else f"{sign[0]}\n" if sign[0] in "{[," else sign[0], text
    )


_SIGN = pattern(r"\"(?:[^\"\\]|\\.){0,4000}\"?|[{}\[\],]")
"""A text in quotes (of one that has no end, what there is: else each quote would be sought an end for), or a sign at which a line ends."""


class _Outline:
    """Which block a line is in, line after line."""

    def __init__(self) -> None:
        self._root = OutlineBlock()
        self._open: list[_Open] = []

    def place(self, line: str) -> tuple[OutlineBlock, str]:
        """The block of the next line, and what it says; nothing where it only opens or closes one."""
        bare = line.strip()
        if not bare or bare.startswith(_COMMENT):
            return self._top(), ""
        if (section := _SECTION.match(bare)) and "::" not in section["name"]:
            self._open.clear()
            self._push("section", 0, section["name"].strip())
            return self._top(), ""
        expanded = line.expandtabs(_TAB)
        indent = len(expanded) - len(expanded.lstrip())
        while bare.startswith("- ") and ":" in bare:  # the items of a list, each with settings of its own
            self._leave(indent)
            self._push("indent", indent, "")
            bare = bare[_ITEM:].lstrip()
            indent += _ITEM
        if tag := _TAG.match(bare):
            self._take_tag(tag)
            return self._top(), ""
        while bare[:1] in ("}", "]"):
            self._close("brace")
            bare = bare[1:].lstrip(",; \t")
        self._leave(indent)
        block = self._top()
        self._take_braces(bare, indent)
        return block, bare

    def _take_tag(self, tag: re.Match[str]) -> None:
        named, end, rest = tag["name"], tag["end"], tag["rest"]
        if end:
            self._close("tag", named)
        elif not rest.endswith("/"):
            self._push("tag", 0, f"{named}{rest}")

    def _take_braces(self, bare: str, indent: int) -> None:
        plain = _QUOTED.sub("", bare).partition(" #")[0]
        opened = sum(map(plain.count, "{[")) - sum(map(plain.count, "}]"))
        for _ in range(min(opened, _DEEPEST)):
            self._push("brace", indent, _QUOTED.sub(lambda m: m[0][1:-1], bare).partition("{")[0].strip(" \t:=["))
        for _ in range(min(-opened, _DEEPEST)):
            self._close("brace")
        if not opened and _HEADING.match(bare):
            self._push("indent", indent, bare.rstrip(":").strip("\"' "))

    def _top(self) -> OutlineBlock:
        return self._open[-1].block if self._open else self._root

    def _push(self, by: str, indent: int, name: str) -> None:
        if len(self._open) < _DEEPEST:
            self._open.append(_Open(by, indent, OutlineBlock(name, self._top())))

    def _leave(self, indent: int) -> None:
        """End the blocks that were made by standing further in than a line which now stands further out."""
        while self._open and self._open[-1].by == "indent" and self._open[-1].indent >= indent:
            self._open.pop()

    def _close(self, by: str, name: str = "") -> None:
        """End the last block of a kind, and all within it; of tags the one of that name."""
        for place in range(len(self._open) - 1, -1, -1):
            one = self._open[place]
            if one.by == by and (not name or one.block.name.casefold().startswith(name.casefold())):
                del self._open[place:]
                return

"""What a command line tests of the file system before it does anything else (test(1)): a step that only tests ends without a word."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.lazy import pattern

_PARTS = pattern(r"&&|\|\||[;\n]")
_TEST = pattern(
    r"[\s({]{0,8}(?:test|\[{1,2})[ \t]{1,4}(?P<operator>-[abcdefghkprsuwxLOGS])[ \t]{1,4}"
    r"[\"']?(?P<path>/[^\s\"'$*?`;&|<>()\[\]]{1,1000})[\"']?(?:[ \t]{1,4}\]{1,2})?[\s)}]{0,8}"
)
_LEAVES = pattern(r"[\s({]{0,8}(?:exit|return|false|echo|printf|logger)\b")
"""What stands behind "or" where a test that fails is the end, and not another way."""
_LONGEST = 4000
"""Characters of a command that are gone through."""
_OF_SHELL = ("sh", "bash", "dash", "ash", "ksh", "zsh")


class Tested(NamedTuple):
    """A path that a command tests, and what it asks of it."""

    path: str
    operator: str

    @property
    def asks(self) -> str:
        """What the test wants the path to be."""
        return {"-d": "a folder", "-f": "a file", "-S": "a socket", "-b": "a device", "-c": "a device"}.get(
            self.operator, "there"
        )


def tested(words: list[str]) -> Iterator[Tested]:
    """The paths that a command line cannot do without because it tests for them: as ``test`` itself, or as the text that a shell is
    given. Where a failed test leads to another way, it is left out."""
    if not words:
        return
    name = words[0].rpartition("/")[2]
    if name in ("test", "["):
        yield from _of_text(" ".join(["test", *words[1:]]))
    elif name in _OF_SHELL and len(words) > 2 and words[1].startswith("-") and words[1].endswith("c"):
        yield from _of_text(words[2])


def _of_text(text: str) -> Iterator[Tested]:
    text = text[:_LONGEST]
    cut = [match.span() for match in _PARTS.finditer(text)]
    starts, ends = [0, *(end for _, end in cut)], [*(start for start, _ in cut), len(text)]
    for index, (start, end) in enumerate(zip(starts, ends, strict=True)):
        found = _TEST.fullmatch(text, start, end)
        sign = text[end : starts[index + 1]] if index + 1 < len(starts) else ""
        after = text[starts[index + 1] :] if index + 1 < len(starts) else ""
        before = text[ends[index - 1] : start] if index else ""
        if found is None or before == "||" or (sign == "||" and _LEAVES.match(after) is None):
            continue
        if sign in (";", "\n"):
            continue  # what comes of it is not asked there
        yield Tested(found["path"], found["operator"])

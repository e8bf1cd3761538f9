"""Where the keys of a TOML file stand: line and column of each, which no reader of TOML tells."""

from __future__ import annotations

import re
from typing import NamedTuple

from hollow_chain.lazy import pattern

Way = tuple[str | int, ...]
"""The keys and indexes that lead to a value."""
_HEADER = pattern(r"^\s*(?P<open>\[\[?)\s*(?P<name>[\w.\-]+)\s*\]\]?\s*(?:#.*)?$")
_KEY = pattern(r"^(?P<space>\s*)(?P<key>[\w\-]+|\"[^\"]*\")\s*=\s*(?P<value>.*)$")


class Place(NamedTuple):
    """A place in a text, counted from 1."""

    line: int = 0
    column: int = 0


def places(text: str) -> dict[Way, Place]:
    """The place of every table and key of *text*. Of what is no plain table or key (inline tables), the outer one counts."""
    found: dict[Way, Place] = {(): Place(1, 1)}
    counts: dict[Way, int] = {}
    table: Way = ()
    until = ""
    for number, line in enumerate(text.splitlines(), 1):
        if until:  # within a text or list over several lines
            until = "" if until in line else until
            continue
        header = _HEADER.match(line)
        if header:
            name: Way = tuple(header["name"].split("."))
            if header["open"] == "[[":
                counts[name] = counts.get(name, -1) + 1
                name = (*name, counts[name])
            table = name
            found.setdefault(table, Place(number, line.index("[") + 1))
            continue
        key = _KEY.match(line)
        if key:
            found.setdefault((*table, key["key"].strip('"')), Place(number, len(key["space"]) + 1))
            until = _left_open(key["value"])
    return found


def _left_open(value: str) -> str:
    """What has to come for a value that does not end on its line; empty where it does."""
    for mark in ('"""', "'''"):
        if value.count(mark) == 1:
            return mark
    bare = re.sub(r'"(?:[^"\\]|\\.)*"|\'[^\']*\'', "", value).partition("#")[0]
    return "]" if bare.count("[") > bare.count("]") else ""


def place_of(known: dict[Way, Place], way: Way) -> Place:
    """The place of *way*, or of the nearest thing around it that has one."""
    while way not in known and way:
        way = way[:-1]
    return known.get(way, Place(1, 1))

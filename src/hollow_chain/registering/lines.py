"""A definition in the making: its lines, and the reason for each that nobody asked for."""

from __future__ import annotations

from typing import NamedTuple


class DefinitionLine(NamedTuple):
    """One setting of a definition."""

    part: str
    """The section that it stands in; empty in a definition without sections."""
    name: str
    value: str
    why: str = ""
    """Why it is there; empty where somebody asked for it."""


class Piece(NamedTuple):
    """One file of a definition, or the whole of it where it is no file."""

    path: str
    lines: tuple[DefinitionLine, ...]
    text: str
    unit: str = ""
    """The name under which the manager knows it."""

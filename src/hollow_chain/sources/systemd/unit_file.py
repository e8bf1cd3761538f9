"""Unit files as text (systemd.syntax(7)): read for what the manager does not tell over D-Bus."""

from __future__ import annotations

from typing import NamedTuple

from hollow_chain.reach.handles import Walker

MAX_BYTES = 1 << 20
"""Bytes of a definition that are read; definitions are a few KiB long."""


class Setting(NamedTuple):
    """One assignment of a unit file."""

    section: str
    name: str
    value: str
    file: str
    line: int


def parse(text: str, file: str = "") -> list[Setting]:
    """All assignments of *text* in their order; continuation lines joined, comments left out."""
    settings: list[Setting] = []
    section = ""
    pending, started = "", 0
    for number, raw in enumerate(text.splitlines(), 1):
        line = raw.strip()
        if line.startswith(("#", ";")) or (not line and not pending):
            continue
        if not pending:
            started = number
        pending += line
        if pending.endswith("\\"):
            pending = pending[:-1] + " "
            continue
        whole, pending = pending, ""
        if whole.startswith("[") and whole.endswith("]"):
            section = whole[1:-1]
        elif "=" in whole:
            name, _, value = whole.partition("=")
            settings.append(Setting(section, name.strip(), value.strip(), file, started))
    return settings


def read(paths: list[str], walker: Walker) -> list[Setting]:
    """The assignments of several files, one after the other; those that cannot be read are passed over."""
    settings: list[Setting] = []
    for path in paths:
        try:
            text = walker.read(path, MAX_BYTES).data.decode("utf-8", "replace")
        except OSError:
            continue
        settings += parse(text, path)
    return settings


def effective(settings: list[Setting]) -> dict[str, str]:
    """The last word on each name; several words of a list are joined, and an empty one clears what stood before."""
    words: dict[str, list[str]] = {}
    for setting in settings:
        if not setting.value:
            words[setting.name] = []
        elif setting.name in _LISTS:
            words.setdefault(setting.name, []).append(setting.value)
        else:
            words[setting.name] = [setting.value]
    return {name: " ; ".join(values) if name.startswith("Exec") else " ".join(values) for name, values in words.items()}


_LISTS = frozenset(
    [
        "ExecStart",
        "ExecStartPre",
        "ExecStartPost",
        "EnvironmentFile",
        "Environment",
        "Requires",
        "Requisite",
        "Wants",
        "BindsTo",
        "PartOf",
        "StopPropagatedFrom",
        "After",
        "Before",
        "Conflicts",
        "ReadWritePaths",
        "ReadOnlyPaths",
        "InaccessiblePaths",
    ]
)

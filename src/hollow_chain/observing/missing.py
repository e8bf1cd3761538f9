"""What was sought in vain and was meant to be there, which else nobody can tell of what is only sought: what a link says should be there,
and what lies in a folder for data that bears the name of the service."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path
from typing import Literal

from hollow_chain.observing.story import Story
from hollow_chain.observing.weighing import sought_in_vain

_MOST = 2_000
"""Paths that are looked at: a program that seeks more than that seeks them all in the same way."""
_OF_DATA = re.compile(r"(?P<folder>(?:/var/(?:lib|log|spool|cache)|/srv)/(?P<name>[^/]{1,255}))(?:/|$)")
"""Where services keep their data, each in a folder of its own name (hier(7))."""


Missed = Literal["broken_link", "own_folder", "own_data"]
"""Rows of the table of weights."""


def missed(story: Story, names: Iterable[str]) -> dict[str, Missed]:
    """Of what was sought in vain, what is a link that leads nowhere, or lies behind one; and what lies in a folder for data that bears one of
    the *names* of the service, or would if it were there."""
    own = frozenset(names)
    found: dict[str, Missed] = {}
    for path in sorted(sought_in_vain(story))[:_MOST]:
        if _is_behind_a_broken_link(Path(path)):
            found[path] = "broken_link"
        elif (at := _OF_DATA.match(path)) and at["name"] in own:
            found[path] = "own_data" if Path(at["folder"]).exists() else "own_folder"
    return found


def _is_behind_a_broken_link(path: Path) -> bool:
    try:
        nearest = next((one for one in (path, *path.parents) if one.is_symlink() or one.exists()), None)
        return nearest is not None and nearest.is_symlink() and not nearest.exists()
    except (OSError, ValueError):
        return False  # a name that no file can have

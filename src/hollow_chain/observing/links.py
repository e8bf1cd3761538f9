"""Links that lead nowhere: what is sought there was meant to be there, which else nobody can tell of a file that is only sought."""

from __future__ import annotations

from pathlib import Path

from hollow_chain.observing.story import Story
from hollow_chain.observing.weighing import sought_in_vain

_MOST = 2_000
"""Paths that are looked at: a program that seeks more than that seeks them all in the same way."""


def broken_links(story: Story) -> frozenset[str]:
    """Of what was sought in vain, what is a link that leads nowhere, or lies behind one."""
    return frozenset(path for path in sorted(sought_in_vain(story))[:_MOST] if _is_behind_a_broken_link(Path(path)))


def _is_behind_a_broken_link(path: Path) -> bool:
    try:
        nearest = next((one for one in (path, *path.parents) if one.is_symlink() or one.exists()), None)
        return nearest is not None and nearest.is_symlink() and not nearest.exists()
    except (OSError, ValueError):
        return False  # a name that no file can have

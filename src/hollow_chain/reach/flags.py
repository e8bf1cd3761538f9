"""Flags of open(2) by name: none where a system has no such flag, so that modules can be imported there."""

from __future__ import annotations

import os


def flags(*names: str) -> int:
    """All of ``O_`` *names* together."""
    found = 0
    for name in names:
        found |= getattr(os, f"O_{name}", 0)
    return found

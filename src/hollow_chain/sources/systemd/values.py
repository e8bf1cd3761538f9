"""Values as the manager tells them on the bus: moments, durations, words."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from hollow_chain.wording.secrets import mask_text

Properties = dict[str, Any]
FOREVER = (1 << 64) - 1
"""How the manager says that there is no limit (``USEC_INFINITY``)."""
MOST_ARGUMENTS = 200
"""Words of a command line that are kept."""


def moment(microseconds: Any) -> datetime | None:
    """A time stamp of systemd (microseconds since the epoch, 0 for never) as a date-time in UTC."""
    if not isinstance(microseconds, int) or not 0 < microseconds < 1 << 55:
        return None
    return datetime.fromtimestamp(microseconds / 1e6, UTC)


def seconds(microseconds: Any) -> float | None:
    """A duration of systemd in seconds; -1 for no limit, None for not known."""
    if not isinstance(microseconds, int):
        return None
    return -1.0 if microseconds >= FOREVER else min(microseconds / 1e6, 1e10)


def said(text: str) -> str:
    """A text that somebody wrote, as it is kept: its begin, with its secrets masked."""
    return mask_text(text[:500])

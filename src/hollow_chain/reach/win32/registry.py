"""The machine's part of the registry (winreg)."""

from __future__ import annotations

import winreg
from datetime import UTC, datetime, timedelta

from hollow_chain.reach.control import Key
from hollow_chain.reach.win32.declining import declining

_MOST_VALUES, _MOST_BELOW = 500, 20_000
"""Values and keys of one key that are gone through: the list of services has some hundreds."""
_VIEW = winreg.KEY_READ | winreg.KEY_WOW64_64KEY
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
"""Where the system's own time begins (``FILETIME``), in units of 100 nanoseconds."""


class LocalRegistry:
    """The registry of this machine."""

    def key(self, path: str) -> Key:
        """One key."""
        with declining(), winreg.OpenKey(winreg.HKEY_LOCAL_MACHINE, path, 0, _VIEW) as key:
            below, values, changed = winreg.QueryInfoKey(key)
            names = [winreg.EnumKey(key, at) for at in range(min(below, _MOST_BELOW))]
            found = {}
            for at in range(min(values, _MOST_VALUES)):
                name, data, kind = winreg.EnumValue(key, at)
                found[name.lower()] = (data, kind)
        return Key(found, names, _moment(changed))


def _moment(ticks: int) -> datetime | None:
    try:
        return _EPOCH + timedelta(microseconds=ticks // 10) if ticks > 0 else None
    except OverflowError:
        return None

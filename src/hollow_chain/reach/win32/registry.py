"""The machine's part of the registry (winreg)."""

from __future__ import annotations

import winreg
from collections.abc import Iterable
from datetime import UTC, datetime, timedelta

from hollow_chain.reach.control import NOT_THERE, Declined, Key
from hollow_chain.reach.win32.declining import declining

_MOST_VALUES, _MOST_BELOW = 500, 20_000
"""Values and keys of one key that are gone through: the list of services has some hundreds."""
_VIEW = winreg.KEY_READ | winreg.KEY_WOW64_64KEY
_NOT_SERVED = 1722
"""``RPC_S_SERVER_UNAVAILABLE``: nobody answers there."""
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
"""Where the system's own time begins (``FILETIME``), in units of 100 nanoseconds."""


class LocalRegistry:
    """The registry of this machine, or of the one called *server*."""

    def __init__(self, server: str | None = None) -> None:
        self._server = server
        self._root: winreg.HKEYType | int | None = None
        self._refused: Declined | None = None

    def _machine_part(self) -> winreg.HKEYType | int:
        """What keys are opened from; where another machine does not tell it, that is asked once."""
        if self._refused is not None:
            raise self._refused
        if self._root is None:
            try:
                with declining():
                    self._root = machine_part(self._server)
            except Declined as declined:
                # The registry as a whole is not to be had, and no key of it is absent.
                number = _NOT_SERVED if declined.number in NOT_THERE else declined.number
                self._refused = Declined(number, f"its registry is not told over the network: {declined.strerror}")
                raise self._refused from None
        return self._root

    def expect(self, paths: Iterable[str]) -> None:
        """Nothing is asked for beforehand: an answer comes at once."""

    def key(self, path: str) -> Key:
        """One key."""
        with declining(), winreg.OpenKey(self._machine_part(), path, 0, _VIEW) as key:
            below, values, changed = winreg.QueryInfoKey(key)
            names = [winreg.EnumKey(key, at) for at in range(min(below, _MOST_BELOW))]
            found = {}
            for at in range(min(values, _MOST_VALUES)):
                name, data, kind = winreg.EnumValue(key, at)
                found[name.lower()] = (data, kind)
        return Key(found, names, _moment(changed))


def machine_part(server: str | None) -> winreg.HKEYType | int:
    """What keys of the machine's part are opened from. Raises :class:`OSError` where that of *server* is not to be had."""
    return winreg.HKEY_LOCAL_MACHINE if server is None else winreg.ConnectRegistry(server, winreg.HKEY_LOCAL_MACHINE)


def _moment(ticks: int) -> datetime | None:
    try:
        return _EPOCH + timedelta(microseconds=ticks // 10) if ticks > 0 else None
    except OverflowError:
        return None

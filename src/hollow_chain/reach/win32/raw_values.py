"""Values of the registry byte for byte, with their types (winreg.h): what was there can be put back exactly."""

from __future__ import annotations

import ctypes
import winreg
from ctypes import wintypes

from hollow_chain.reach.control import Raw
from hollow_chain.reach.win32.declining import declining
from hollow_chain.reach.win32.registry import machine_part

_MOST_BYTES = 1 << 20
"""Bytes of a value that are kept; the documentation of the registry advises against more than 2,048."""
_VIEW = winreg.KEY_WOW64_64KEY
_api = ctypes.WinDLL("advapi32")
_api.RegQueryValueExW.argtypes = [
    wintypes.HKEY, wintypes.LPCWSTR, ctypes.c_void_p, ctypes.POINTER(wintypes.DWORD), ctypes.c_char_p, ctypes.POINTER(wintypes.DWORD),
]  # fmt: skip
_api.RegSetValueExW.argtypes = [
    wintypes.HKEY, wintypes.LPCWSTR, wintypes.DWORD, wintypes.DWORD, ctypes.c_char_p, wintypes.DWORD,
]  # fmt: skip


class LocalValues:
    """The values of this machine, or of the one called *server*."""

    def __init__(self, server: str | None = None) -> None:
        with declining():
            self._root = machine_part(server)

    def all_of(self, path: str) -> dict[str, Raw]:
        """All values of a key of the machine's part; none where there is no such key. Raises :class:`Declined`."""
        try:
            key = winreg.OpenKey(self._root, path, 0, winreg.KEY_READ | _VIEW)
        except FileNotFoundError:
            return {}
        except OSError:
            with declining():
                raise
        with declining(), key:
            names = [winreg.EnumValue(key, at)[0] for at in range(winreg.QueryInfoKey(key)[1])]
            return {name: _value(key, name) for name in names}

    def make(self, path: str) -> None:
        """Make a key, where there is none. Raises :class:`Declined`."""
        with declining():
            winreg.CreateKeyEx(self._root, path, 0, winreg.KEY_WRITE | _VIEW).Close()

    def put(self, path: str, name: str, value: Raw | None) -> None:
        """Put a value in its place, or take it away where it is None. Raises :class:`Declined`."""
        with (
            declining(),
            winreg.OpenKey(self._root, path, 0, winreg.KEY_SET_VALUE | winreg.KEY_READ | _VIEW) as key,
        ):
            if value is None:
                try:
                    winreg.DeleteValue(key, name)
                except FileNotFoundError:
                    return
            else:
                kind, data = value
                _checked(_api.RegSetValueExW(int(key), name, 0, kind, data, len(data)))
            winreg.FlushKey(key)


def _value(key: winreg.HKEYType, name: str) -> Raw:
    kind, size = wintypes.DWORD(), wintypes.DWORD(0)
    _checked(_api.RegQueryValueExW(int(key), name, None, ctypes.byref(kind), None, ctypes.byref(size)))
    if size.value > _MOST_BYTES:
        raise ValueError(f"the value {name} is too long to be kept")
    data = ctypes.create_string_buffer(max(1, size.value))
    _checked(_api.RegQueryValueExW(int(key), name, None, ctypes.byref(kind), data, ctypes.byref(size)))
    return kind.value, data.raw[: size.value]


def _checked(number: int) -> None:
    if number:
        raise OSError(number, f"error {number} of the registry", None, number)

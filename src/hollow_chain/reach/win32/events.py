"""Events that start or stop services (winsvc.h, ``SERVICE_TRIGGER_INFO``)."""

from __future__ import annotations

import ctypes
import uuid
from ctypes import wintypes

from hollow_chain.reach.control import Declined

_TRIGGER_INFO = 8
"""``SERVICE_CONFIG_TRIGGER_INFO``."""
_api = ctypes.WinDLL("advapi32")
_api.ChangeServiceConfig2W.argtypes = [ctypes.c_void_p, wintypes.DWORD, ctypes.c_void_p]


class _Event(ctypes.Structure):
    _fields_ = (
        ("kind", wintypes.DWORD),
        ("action", wintypes.DWORD),
        ("number", ctypes.c_char_p),
        ("many_data", wintypes.DWORD),
        ("data", ctypes.c_void_p),
    )


class _Events(ctypes.Structure):
    _fields_ = (("many", wintypes.DWORD), ("events", ctypes.POINTER(_Event)), ("reserved", ctypes.c_void_p))


def set_events(handle: int, events: list[tuple[int, int, str]]) -> None:
    """Set the events of the service behind *handle*. Raises :class:`Declined`."""
    numbers = [ctypes.create_string_buffer(uuid.UUID(number).bytes_le, 16) for _, _, number in events]
    array = (_Event * len(events))(
        *(
            _Event(kind, action, ctypes.cast(number, ctypes.c_char_p), 0, None)
            for (kind, action, _), number in zip(events, numbers, strict=True)
        )
    )
    told = _Events(len(events), array, None)
    if not _api.ChangeServiceConfig2W(handle, _TRIGGER_INFO, ctypes.byref(told)):
        number = ctypes.GetLastError()
        raise Declined(number, ctypes.FormatError(number).strip().rstrip("."))

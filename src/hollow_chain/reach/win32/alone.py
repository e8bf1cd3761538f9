"""A file that nobody else may open as long as this process has it: the system's own kind of lock (CreateFile, "dwShareMode")."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pywintypes
import win32con
import win32file

_SHARED_NOT = 32
"""ERROR_SHARING_VIOLATION: another one has it (winerror.h)."""


class OpenAlone:
    """A file held open for nobody but this process; the end of the process lets it go."""

    def __init__(self, path: Path) -> None:
        """Raises :class:`BlockingIOError` where another process has it, and :class:`OSError`."""
        access = win32con.GENERIC_READ | win32con.GENERIC_WRITE
        try:
            self._handle: Any = win32file.CreateFile(str(path), access, 0, None, win32con.OPEN_ALWAYS, 0, None)
        except pywintypes.error as error:
            kind = BlockingIOError if error.winerror == _SHARED_NOT else OSError
            raise kind(0, str(error.strerror), str(path)) from None

    def release(self) -> None:
        """Let it go."""
        self._handle.Close()

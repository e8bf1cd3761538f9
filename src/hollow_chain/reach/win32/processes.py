"""Processes of this machine (processthreadsapi.h, psapi.h)."""

from __future__ import annotations

import ctypes
from ctypes import wintypes
from datetime import UTC, datetime, timedelta

from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.interfaces import Running

_ABOUT = 0x1000
"""``PROCESS_QUERY_LIMITED_INFORMATION``."""
_LIVES = 259
"""``STILL_ACTIVE`` (GetExitCodeProcess)."""
_LONGEST_PATH = 32_768
"""Characters of a path at the most (the documentation of file names, "Maximum Path Length Limitation")."""
_EPOCH = datetime(1601, 1, 1, tzinfo=UTC)
_kernel = ctypes.WinDLL("kernel32", use_last_error=True)
_kernel.OpenProcess.restype = wintypes.HANDLE
_kernel.OpenProcess.argtypes = [wintypes.DWORD, wintypes.BOOL, wintypes.DWORD]
for _call in (
    _kernel.CloseHandle,
    _kernel.GetExitCodeProcess,
    _kernel.GetProcessTimes,
    _kernel.QueryFullProcessImageNameW,
):
    _call.restype = wintypes.BOOL
_kernel.CloseHandle.argtypes = [wintypes.HANDLE]
_kernel.GetExitCodeProcess.argtypes = [wintypes.HANDLE, wintypes.LPDWORD]
_kernel.GetProcessTimes.argtypes = [wintypes.HANDLE, *[ctypes.POINTER(wintypes.FILETIME)] * 4]
_kernel.QueryFullProcessImageNameW.argtypes = [wintypes.HANDLE, wintypes.DWORD, wintypes.LPWSTR, wintypes.LPDWORD]


class _Process:
    """A handle on a process, closed at the end of the block; None where it is gone or may not be asked."""

    def __init__(self, number: int) -> None:
        self._handle = _kernel.OpenProcess(_ABOUT, False, number) if 0 < number < 1 << 32 else None

    def __enter__(self) -> int | None:
        return self._handle or None

    def __exit__(self, *_: object) -> None:
        if self._handle:
            _kernel.CloseHandle(self._handle)


def began(process: int) -> int:
    """When a process began, in units of 100 nanoseconds since 1601; 0 where there is none."""
    with _Process(process) as handle:
        times = [wintypes.FILETIME() for _ in range(4)]
        if handle is None or not _kernel.GetProcessTimes(handle, *map(ctypes.byref, times)):
            return 0
        return times[0].dwHighDateTime << 32 | times[0].dwLowDateTime


class Win32Processes:
    """Processes of this machine."""

    def numbers(self) -> list[int]:
        """All that run now."""
        import psutil

        try:
            return list(psutil.pids())
        except (psutil.Error, OSError):
            return []

    def group(self, process: int) -> str:
        """Nothing: the manager of this family knows the processes of its services by number."""
        return ""

    def program(self, process: int) -> str:
        """The path of its program (QueryFullProcessImageNameW)."""
        with _Process(process) as handle:
            text, size = ctypes.create_unicode_buffer(_LONGEST_PATH), wintypes.DWORD(_LONGEST_PATH)
            if handle is None or not _kernel.QueryFullProcessImageNameW(handle, 0, text, ctypes.byref(size)):
                return ""
            return text.value

    def running(self, process: int) -> Running | None:
        """When it began, and with which arguments, as far as they may be read."""
        ticks = began(process)
        if not ticks:
            return None
        return Running(_EPOCH + timedelta(microseconds=ticks // 10), _arguments(process))

    def runs(self, process: int) -> bool:
        """Whether it runs. One that may not be asked does (``ERROR_ACCESS_DENIED``)."""
        with _Process(process) as handle:
            if handle is None:
                return ctypes.get_last_error() == 5
            status = wintypes.DWORD()
            return not _kernel.GetExitCodeProcess(handle, ctypes.byref(status)) or status.value == _LIVES

    def open_files(self, process: int) -> set[str]:
        """Not told by a documented interface."""
        raise OSError("this system does not tell which files a process has open")

    def locks(self) -> FileLocks:
        """Not told."""
        return FileLocks()


def _arguments(process: int) -> list[str]:
    import psutil

    try:
        return list(psutil.Process(process).cmdline())
    except (psutil.Error, OSError):
        return []

"""A lock on an open file, for one process at a time; the system lets it go when the process ends, however it ends."""

from __future__ import annotations

from typing import IO, Any


def lock(file: IO[Any]) -> None:
    """Take the lock on *file*, without waiting. Raises :class:`OSError` where another process has it."""
    try:
        import fcntl
    except ImportError:
        import msvcrt  # the C library of Win32: _locking, from the place where the file stands

        msvcrt.locking(file.fileno(), msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined,unused-ignore]
        return
    fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)

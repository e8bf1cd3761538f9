"""A lock for one process at a time; the system lets it go when the process ends, however it ends."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any


class Taken(Exception):
    """Another process has the lock."""


def take(path: Path) -> Any:
    """Take the lock that the file *path* stands for, without waiting; its ``release()`` lets it go, and so does the end of the
    process. The file is made where it is not there.

    Raises :class:`Taken`, and :class:`OSError` where the file cannot be made.
    """
    try:
        from filelock import FileLock, Timeout
    except ModuleNotFoundError:
        return _system_lock(path)
    lock = FileLock(path, timeout=0)
    try:
        lock.acquire()
    except Timeout:
        raise Taken(str(path)) from None
    except NotImplementedError as error:  # a file system without locks
        raise OSError(str(error)) from None
    return lock


def _system_lock(path: Path) -> Any:
    """The same without that package, in a run-time environment that somebody put together by hand for a system that has a lock of this
    kind itself."""
    try:
        from hollow_chain.reach.win32.alone import OpenAlone
    except ImportError:
        raise OSError("the package filelock is not installed") from None
    try:
        return OpenAlone(path)
    except BlockingIOError:
        raise Taken(str(path)) from None


@contextmanager
def held(path: Path) -> Iterator[None]:
    """The same for a block."""
    lock = take(path)
    try:
        yield
    finally:
        lock.release()

"""Writing so that it lasts: what was written is on the disk before the call returns, on every system."""

from __future__ import annotations

import os
from pathlib import Path


def write_at(handle: int, data: bytes, at: int) -> int:
    """Write *data* at the byte *at*; how many bytes were taken. Raises :class:`OSError`."""
    if hasattr(os, "pwrite"):
        return os.pwrite(handle, data, at)
    os.lseek(handle, at, os.SEEK_SET)
    return os.write(handle, data)


def sync_folder(folder: Path) -> None:
    """Have the names in *folder* on the disk (fsync(2)); where folders cannot be opened, the file system keeps its own journal of them
    (Win32 opens none without a flag for backups, CreateFileW)."""
    if os.name == "nt":
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)

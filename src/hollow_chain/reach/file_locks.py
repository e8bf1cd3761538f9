"""Which process has a lock on which file, by the kernel's own table of them."""

from __future__ import annotations

import os

from hollow_chain.lazy import pattern
from hollow_chain.reach.handles import kinds_of

# One that waits for a lock stands behind an arrow; of a lock that no process has alone, the kernel tells -1.
_LOCK = pattern(
    r"\d{1,9}: \w{1,20} {1,9}\w{1,20} {1,9}\w{1,20} {1,9}(?P<process>\d{1,10}) "
    r"(?P<major>[0-9a-f]{1,8}):(?P<minor>[0-9a-f]{1,8}):(?P<number>\d{1,20}) "
)
_OF_MANY_DEVICES = ("btrfs", "overlay", "bcachefs")
"""Kinds of file systems whose files do not all bear the number of the device that is mounted (stat(2), "st_dev"; the kernel's
``overlayfs`` documentation, "Inode properties")."""


class FileLocks:
    """The locks of a host: *table* is the text of ``/proc/locks`` (proc_locks(5)), *mounted* that of ``mountinfo``
    (proc_pid_mountinfo(5)). False where there is none."""

    def __init__(self, table: str = "", mounted: str = "") -> None:
        _, self._kinds = kinds_of(mounted)
        self._holders: dict[int, dict[str, int]] = {}
        for line in table.split("\n"):
            found = _LOCK.match(line)
            if found is not None:
                device = f"{int(found['major'], 16)}:{int(found['minor'], 16)}"
                self._holders.setdefault(int(found["number"]), {}).setdefault(device, int(found["process"]))

    def __bool__(self) -> bool:
        return bool(self._holders)

    def holder(self, about: os.stat_result) -> int:
        """The process that has a lock on a file; 0 where none has, or that cannot be told."""
        # Every file system counts its files from the start: a number alone is also that of files elsewhere.
        found = self._holders.get(about.st_ino)
        if found is None:
            return 0
        device = f"{os.major(about.st_dev)}:{os.minor(about.st_dev)}"
        if device in found or device in self._kinds:
            return found.get(device, 0)
        return next((holder for at, holder in found.items() if self._kinds.get(at) in _OF_MANY_DEVICES), 0)

    @property
    def processes(self) -> set[int]:
        """Those that have one."""
        return {process for holders in self._holders.values() for process in holders.values()}

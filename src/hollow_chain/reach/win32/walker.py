"""Files of this machine, found and read through handles: what a handle turns out to stand for decides, not the name that led there.

A link, a junction or a mounted folder on the way (a reparse point) may lead anywhere its maker wants (CWE-59): whatever was opened is
asked for its final path, and is read only where that is the path that was meant.
"""

from __future__ import annotations

import errno
import glob
import msvcrt
import os
import stat
from collections.abc import Iterable
from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import cast

import win32api
import win32con
import win32file

from hollow_chain.reach.control import Declined
from hollow_chain.reach.handles import MAX_PATH, Content, Folder, ForeignLink, Found, NotOpened, Walker, read_all
from hollow_chain.reach.win32.declining import declining

_TO_OPEN = win32con.FILE_FLAG_BACKUP_SEMANTICS
"""Folders are opened too (CreateFileW, "FILE_FLAG_BACKUP_SEMANTICS")."""
_SHARED = win32con.FILE_SHARE_READ | win32con.FILE_SHARE_WRITE | win32con.FILE_SHARE_DELETE
_LOOK = 0x80
"""``FILE_READ_ATTRIBUTES``."""
_LOCAL_DRIVES = (win32con.DRIVE_FIXED, win32con.DRIVE_REMOVABLE, win32con.DRIVE_CDROM, win32con.DRIVE_RAMDISK)
_DEVICES = frozenset(
    {"con", "prn", "aux", "nul", "conin$", "conout$", *(f"{kind}{n}" for kind in ("com", "lpt") for n in range(10))}
)
"""Names that mean a device in any folder (the documentation of file names, "Naming Conventions")."""
_NOT_THERE = (2, 3, 53, 67, 123, 161)
_NOWHERE = cast(Folder, None)
"""A folder of this system is no handle that others are found through."""


class Win32Walker(Walker):
    """Finds and reads files of this machine."""

    def find(self, path: str, follow_last: bool = True) -> Found:
        """Where *path* leads."""
        handle = _opened(path, _LOOK)
        if handle is None:
            return Found(_NOWHERE, path, None)
        try:
            foreign = _led_elsewhere(handle, path)
        finally:
            handle.Close()
        if foreign and not self._any_link:
            raise ForeignLink(errno.ELOOP, "the way leads through a link", path)
        return Found(_NOWHERE, path, Path(path).stat(), foreign)

    def read(self, path: str, most: int, from_end: bool = False) -> Content:
        """Up to *most* bytes of a file, of its end where *from_end*."""
        handle = _opened(path, win32con.GENERIC_READ)
        if handle is None:
            raise FileNotFoundError(errno.ENOENT, "no such file", path)
        if not self._any_link and _led_elsewhere(handle, path):
            raise ForeignLink(errno.ELOOP, "the way leads through a link", path)
        if win32file.GetFileType(handle) != win32file.FILE_TYPE_DISK:
            raise NotOpened(errno.EINVAL, "no file of a disk", path)
        descriptor = msvcrt.open_osfhandle(handle.Detach(), os.O_RDONLY | os.O_BINARY)
        try:
            about = os.fstat(descriptor)
            if not stat.S_ISREG(about.st_mode):
                raise NotOpened(errno.EISDIR, "no plain file", path)
            if about.st_nlink > 1 and not self._any_link:
                raise NotOpened(errno.EMLINK, "a file of several names", path)
            begins = max(0, about.st_size - most) if from_end else 0
            if begins:
                os.lseek(descriptor, begins, os.SEEK_SET)
            return Content(path, about, read_all(descriptor, most), _NOWHERE, False, begins)
        finally:
            os.close(descriptor)

    def names(self, path: str, most: int = 1000) -> list[str]:
        """The names in a folder, sorted; empty where it cannot be listed."""
        with suppress(OSError):
            found = self.find(path)
            if found.about is not None and stat.S_ISDIR(found.about.st_mode):
                with os.scandir(path) as entries:
                    return sorted(entry.name for _, entry in zip(range(most), entries, strict=False))
        return []

    @property
    def off_limits(self) -> frozenset[str]:
        """None by name: drives of other machines are told by their kind, when they are asked for."""
        return frozenset()


def is_plain(path: str) -> bool:
    """Whether *path* names a file of a drive, and no device, stream or other machine."""
    drive, rest = path[:3].replace("/", "\\"), path[3:]
    if len(drive) < 3 or not (drive[0].isascii() and drive[0].isalpha()) or drive[1:] != ":\\":
        return False
    if len(path) > MAX_PATH or any(ord(c) < 32 or c in '<>|"*?:' for c in rest):
        return False
    return not any(part.partition(".")[0].rstrip().lower() in _DEVICES for part in rest.replace("/", "\\").split("\\"))


def _opened(path: str, rights: int) -> win32file.PyHANDLE | None:
    """A handle on what stands at *path*; None where nothing does. Raises :class:`OSError`."""
    if not is_plain(path):
        raise NotOpened(errno.EINVAL, "not a path of a drive", path[:80])
    if _drive_kind(path[0].upper()) not in _LOCAL_DRIVES:
        raise NotOpened(errno.EREMOTE, "on a drive of another machine, not touched", path)
    try:
        with declining():
            return win32file.CreateFile(path, rights, _SHARED, None, win32con.OPEN_EXISTING, _TO_OPEN, None)
    except Declined as declined:
        if declined.number in _NOT_THERE:
            return None
        raise


@lru_cache(maxsize=26)
def _drive_kind(letter: str) -> int:
    """What kind of drive it is, asked once a call: a drive does not change its kind while one looks at it."""
    return int(win32file.GetDriveType(f"{letter}:\\"))


def _led_elsewhere(handle: win32file.PyHANDLE, path: str) -> bool:
    """Whether a handle stands for another path than the one that it was opened by, short names and case apart."""
    try:
        with declining():
            final = win32file.GetFinalPathNameByHandle(handle, 0)
            meant = win32api.GetLongPathName(path)
    except Declined:
        return True
    return _one_form(final.removeprefix("\\\\?\\")) != _one_form(meant)


def _one_form(path: str) -> str:
    return os.path.normpath(path).casefold()


class Win32Files:
    """Files of this machine."""

    def walker(self, any_link: bool = False) -> Walker:
        """What finds and reads files by handle."""
        return Win32Walker(any_link)

    def expect(self, paths: Iterable[str], folders: Iterable[str] = ()) -> None:
        """Nothing is asked for beforehand: an answer comes at once."""

    def text(self, path: str) -> str:
        """The text of a small file of the system's."""
        return Path(path).read_text(errors="replace")

    def link(self, path: str) -> str:
        """Where a symbolic link points."""
        try:
            return str(Path(path).readlink()).removeprefix("\\\\?\\") if is_plain(path) else ""
        except (OSError, ValueError):
            return ""

    def names(self, folder: str) -> list[str]:
        """The names in a folder, sorted."""
        return Win32Walker().names(folder)

    def exists(self, path: str) -> bool:
        """Whether anything is there."""
        return is_plain(path) and os.path.exists(path)  # noqa: PTH110 - also False where it may not be seen

    def is_folder(self, path: str) -> bool:
        """Whether a folder is there."""
        return is_plain(path) and os.path.isdir(path)  # noqa: PTH112

    def changed(self, path: str) -> float | None:
        """When what stands there was changed."""
        try:
            return Path(path).lstat().st_mtime if is_plain(path) else None
        except OSError:
            return None

    def literally(self, text: str) -> str:
        """*text* as a part of a pattern that fits nothing but it."""
        return glob.escape(text)

    def matching(self, pattern: str) -> list[str]:
        """The paths that fit a pattern of the shell."""
        return sorted(glob.glob(pattern))[:1000]  # noqa: PTH207 - the pattern is absolute

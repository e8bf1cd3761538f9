"""Files of a host of the control-manager family through the shares of its drives, which administrators have.

A link or a mounted folder on the way (a reparse point) may lead anywhere its maker wants (CWE-59): each folder on the way is looked
at, and nothing is read through one.
"""

from __future__ import annotations

import errno
import fnmatch
import ntpath
import os
import stat
from abc import ABC, abstractmethod
from collections.abc import Iterable
from contextlib import suppress
from typing import NamedTuple, cast

from hollow_chain.reach.handles import MAX_PATH, Content, Folder, ForeignLink, Found, NotOpened, Walker

_NOWHERE = cast(Folder, None)
"""A folder of such a host is no handle that others are found through."""
READ_ONLY, IS_FOLDER, LEADS_ELSEWHERE = 0x01, 0x10, 0x400
"""Attributes of a file ([MS-FSCC], 2.6)."""
_MOST_NAMES = 20_000
"""Names of a folder that are gone through."""


class FileAttributes(NamedTuple):
    """What is told of a file or folder."""

    attributes: int
    size: int
    changed: float

    @property
    def about(self) -> os.stat_result:
        """What the system would say of it."""
        kind = stat.S_IFDIR if self.attributes & IS_FOLDER else stat.S_IFREG
        rights = 0o555 if self.attributes & READ_ONLY else 0o777
        return os.stat_result((kind | rights, 0, 0, 1, 0, 0, self.size, self.changed, self.changed, self.changed))


_DRIVE = FileAttributes(IS_FOLDER, 0, 0.0)


class Shares(ABC):
    """What stands on the drives of a host, each looked at once until it is forgotten."""

    def __init__(self) -> None:
        self._seen: dict[str, FileAttributes | None] = {}

    @abstractmethod
    def drive(self, letter: str) -> object:
        """The share of a drive. Raises :class:`Declined`."""

    @abstractmethod
    def look(self, letter: str, rest: str) -> FileAttributes | None:
        """What stands at a path of a drive, a link itself; None where nothing does. Raises :class:`OSError`."""

    @abstractmethod
    def listed(self, letter: str, rest: str) -> list[str]:
        """The names in a folder of a drive. Raises :class:`OSError`."""

    @abstractmethod
    def part(self, letter: str, rest: str, begins: int, most: int) -> bytes:
        """Up to *most* bytes of a file of a drive. Raises :class:`OSError`."""

    def forget(self) -> None:
        """It may be otherwise by now."""
        self._seen.clear()

    def seen(self, path: str) -> FileAttributes | None:
        """What stands at *path*; None where nothing does. Raises :class:`OSError`."""
        letter, rest = _parts(path)
        key = f"{letter}:{rest}".casefold()
        if key not in self._seen:
            self.drive(letter)
            self._seen[key] = self.look(letter, rest) if rest else _DRIVE
        return self._seen[key]

    def leads_elsewhere(self, path: str) -> bool:
        """Whether a link stands on the way to *path*, or there itself. Raises :class:`FileNotFoundError` where a folder is missing."""
        letter, rest = _parts(path)
        names = rest.split("\\") if rest else []
        for count in range(1, len(names) + 1):
            seen = self.seen(f"{letter}:\\" + "\\".join(names[:count]))
            if seen is None:
                if count < len(names):
                    raise FileNotFoundError(errno.ENOENT, "no such folder", path)
                return False
            if seen.attributes & LEADS_ELSEWHERE:
                return True
        return False

    def names(self, path: str, most: int) -> list[str]:
        """The names in a folder. Raises :class:`OSError`."""
        letter, rest = _parts(path)
        self.drive(letter)
        return sorted(filter(None, map(_name, self.listed(letter, rest)[:_MOST_NAMES])))[:most]

    def read(self, path: str, begins: int, most: int) -> bytes:
        """Up to *most* bytes of a file. Raises :class:`OSError`."""
        return self.part(*_parts(path), begins, most)


def _name(name: str) -> str:
    """The name of an entry of a folder; empty where it is none that could stand in one."""
    return "" if name in ("", ".", "..") or any(sign in name for sign in "\\/\0") else name


def _parts(path: str) -> tuple[str, str]:
    """The letter of the drive, and the path on it. Raises :class:`NotOpened` where it is no path of a drive."""
    plain = path.replace("/", "\\")
    is_path = len(plain) > 2 and plain[0].isascii() and plain[0].isalpha() and plain[1:3] == ":\\"
    if not is_path or len(plain) > MAX_PATH or any(ord(c) < 32 or c in '<>|"*?:' for c in plain[3:]):
        raise NotOpened(errno.EINVAL, "not a path of a drive", path[:80])
    rest = ntpath.normpath(plain[3:]) if plain[3:].strip("\\") else ""
    if rest.startswith(".."):
        raise NotOpened(errno.EINVAL, "not a path of a drive", path[:80])
    return plain[0].upper(), "" if rest == "." else rest.strip("\\")


class SharesWalker(Walker):
    """Finds and reads files of a host."""

    def __init__(self, shares: Shares, any_link: bool = False) -> None:
        super().__init__(any_link)
        self._shares = shares

    def find(self, path: str, follow_last: bool = True) -> Found:
        """Where *path* leads."""
        foreign = self._shares.leads_elsewhere(path)
        if foreign and not self._any_link:
            raise ForeignLink(errno.ELOOP, "the way leads through a link", path)
        seen = self._shares.seen(path)
        return Found(_NOWHERE, path, seen.about if seen is not None else None, foreign)

    def read(self, path: str, most: int, from_end: bool = False) -> Content:
        """Up to *most* bytes of a file, of its end where *from_end*."""
        if self._shares.leads_elsewhere(path):
            raise ForeignLink(errno.ELOOP, "the way leads through a link", path)
        seen = self._shares.seen(path)
        if seen is None:
            raise FileNotFoundError(errno.ENOENT, "no such file", path)
        if seen.attributes & IS_FOLDER:
            raise NotOpened(errno.EISDIR, "no plain file", path)
        begins = max(0, seen.size - most) if from_end else 0
        return Content(path, seen.about, self._shares.read(path, begins, most), _NOWHERE, False, begins)

    def names(self, path: str, most: int = 1000) -> list[str]:
        """The names in a folder, sorted; empty where it cannot be listed."""
        with suppress(OSError):
            if not self._shares.leads_elsewhere(path):
                return self._shares.names(path, most)
        return []

    @property
    def off_limits(self) -> frozenset[str]:
        """None by name."""
        return frozenset()


class SharesFiles:
    """Files of a host."""

    def __init__(self, shares: Shares) -> None:
        self._shares = shares

    def walker(self, any_link: bool = False) -> Walker:
        """What finds and reads files by their paths."""
        return SharesWalker(self._shares, any_link)

    def expect(self, paths: Iterable[str], folders: Iterable[str] = ()) -> None:
        """Nothing is asked for beforehand."""

    def text(self, path: str) -> str:
        """The text of a small file of the system's."""
        return SharesWalker(self._shares).read(path, 1 << 20).data.decode("utf-8", "replace")

    def link(self, path: str) -> str:
        """Where a link leads is not told over this way."""
        return ""

    def names(self, folder: str) -> list[str]:
        """The names in a folder, sorted."""
        return SharesWalker(self._shares).names(folder)

    def exists(self, path: str) -> bool:
        """Whether anything is there, as far as it may be looked at."""
        with suppress(OSError):
            return self._shares.seen(path) is not None
        return False

    def is_folder(self, path: str) -> bool:
        """Whether a folder is there."""
        with suppress(OSError):
            seen = self._shares.seen(path)
            return seen is not None and bool(seen.attributes & IS_FOLDER)
        return False

    def changed(self, path: str) -> float | None:
        """When what stands there was changed."""
        with suppress(OSError):
            seen = self._shares.seen(path)
            return seen.changed if seen is not None else None
        return None

    def literally(self, text: str) -> str:
        """*text* as a part of a pattern that fits nothing but it."""
        return "".join(f"[{sign}]" if sign in "*?[" else sign for sign in text)

    def matching(self, pattern: str) -> list[str]:
        """The paths that fit a pattern of the shell."""
        plain = pattern.replace("/", "\\")
        found = [plain[:3]]
        for part in filter(None, plain[3:].split("\\")):
            if any(sign in part for sign in "*?["):
                found = [
                    ntpath.join(folder, name)
                    for folder in found
                    for name in self.names(folder)
                    if fnmatch.fnmatch(name, part)
                ]
            else:
                found = [path for folder in found if self.exists(path := ntpath.join(folder, part))]
        return sorted(found)[:1000]

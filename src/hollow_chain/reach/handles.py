"""Files of this machine by handle: found folder by folder from the root, looked at, read and changed through what was opened.

A path that somebody else may move between two looks is no name to work by (CWE-367, CWE-59). Every folder on the way is opened
through the one above it (openat(2), ``O_PATH | O_NOFOLLOW``), and whatever happens afterwards happens to the handle. A symbolic
link is followed only where nobody but root could have put it (or whoever runs the program, where that is not root): such links
are part of the system's own order (``/var/run``, ``/lib``); any other leads where its maker wants.
"""

from __future__ import annotations

import errno
import os
import stat
import sys
import time
from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import lru_cache
from pathlib import Path
from typing import NamedTuple

from hollow_chain.reach.flags import flags

MAX_LINKS = 40
"""As many as the kernel follows (path_resolution(7))."""
MAX_PATH = 4000
"""Bytes of a path that is looked at, a little less than the kernel takes (``PATH_MAX``, 4096), so that a name can be put behind it."""
_MOST_KEPT = 200
"""Handles of folders that a walker keeps open; a process has 1024 by default (getrlimit(2))."""
_MOUNTS_STAND = 2.0
"""Seconds for which the table of mounts is taken to stand: one reading of a host looks at it a thousand times."""
_FOLDER = flags("PATH", "DIRECTORY", "NOFOLLOW", "CLOEXEC")
_ANY = flags("PATH", "NOFOLLOW", "CLOEXEC")
_TO_READ = flags("RDONLY", "NONBLOCK", "NOCTTY", "CLOEXEC")
_OTHERS_WRITE = stat.S_IWGRP | stat.S_IWOTH

PACKAGE_LISTS, PACKAGE_LIST = "/var/lib/dpkg/info", ".list"
"""Where the lists of the files of packages lie, and how their names end (dpkg(1), "FILES")."""
MOST_LISTS = 200_000
"""Packages on one host: distributions have some sixty thousand."""
StatResult = os.stat_result
"""What the system says of a file (stat(3type))."""
NETWORK = frozenset(
    {
        "nfs",
        "nfs4",
        "cifs",
        "smb3",
        "smbfs",
        "9p",
        "ceph",
        "afs",
        "coda",
        "ncpfs",
        "gfs2",
        "ocfs2",
        "lustre",
        "glusterfs",
        "autofs",
    }
)
"""File systems whose answer depends on another machine, and may never come."""
_MADE_UP = frozenset(
    {"proc", "sysfs", "cgroup", "cgroup2", "debugfs", "tracefs", "securityfs", "configfs", "pstore", "bpf", "efivarfs", "mqueue",
     "devpts", "binfmt_misc", "rpc_pipefs", "nsfs", "fusectl", "selinuxfs", "hugetlbfs"}
)  # fmt: skip
"""File systems whose files the kernel makes while they are read: reading one may wait for ever, or change something."""


class NotOpened(OSError):
    """Something is there that is not opened; the text says why."""


class ForeignLink(NotOpened):
    """A link on the way that somebody else than root has made, or could have."""


class Folder:
    """A folder that is held open as long as anybody speaks of it."""

    def __init__(self, handle: int, path: str, alone: bool | None = None, above: Folder | None = None) -> None:
        """*path* is where it really is, without links; *above* the folder that it was found in."""
        self.handle, self.path, self.above = handle, path, above
        self.about = os.fstat(handle)
        self.alone = above.guards(self.about) if above is not None else bool(alone)
        """Whether, from the root down to it, only root could have put things in their places."""

    def __del__(self) -> None:
        with suppress(OSError):
            os.close(self.handle)

    def guards(self, about: os.stat_result) -> bool:
        """Whether nobody but root could have put what *about* tells of into this folder: others may not write in it, or may not
        touch what is not theirs (the sticky bit, unlink(2))."""
        if not self.alone or not self.is_trusted(self.about.st_uid):
            return False
        if self.about.st_mode & _OTHERS_WRITE:
            return bool(self.about.st_mode & stat.S_ISVTX) and self.is_trusted(about.st_uid)
        return True

    def is_trusted(self, user: int) -> bool:
        """Whether a user is root, or the one by whom files are looked at."""
        return user in (0, os.geteuid())

    @property
    def closed(self) -> bool:
        """Whether nobody but root can put anything into it."""
        return self.alone and self.is_trusted(self.about.st_uid) and not self.about.st_mode & _OTHERS_WRITE


class Found(NamedTuple):
    """Where a path leads: the folder, the name in it, and what stands there."""

    folder: Folder
    name: str
    about: os.stat_result | None
    """None: nothing is there."""
    through_link: bool = False
    """Whether the way leads through a link that others than root have made or could have."""

    @property
    def path(self) -> str:
        """The path without links."""
        return f"{self.folder.path.rstrip('/')}/{self.name}" if self.name else self.folder.path

    @property
    def alone(self) -> bool:
        """Whether nobody but root could have put it there."""
        return not self.through_link and self.about is not None and self.folder.guards(self.about)


class Walker:
    """Finds files by their paths. Use as a context manager: it remembers the folders that it has come through.

    *any_link* follows every link, as it is right for a look at what a path means, and at nothing more.
    """

    def __init__(self, any_link: bool = False) -> None:
        self._any_link = any_link
        self._folders: dict[str, Folder] = {}

    def __enter__(self) -> Walker:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the folders that it has come through."""
        self._folders.clear()

    def expect(self, paths: Iterable[str], folders: Iterable[str] = ()) -> None:
        """Say that all of *paths* will be looked at, and the names in *folders*: where an answer has a long way, they are asked for
        together."""

    def find(self, path: str, follow_last: bool = True) -> Found:
        """Where *path* leads; a link in its last place is meant itself where not *follow_last*.

        Raises :class:`FileNotFoundError` or :class:`NotADirectoryError` where a folder on the way is not there,
        :class:`ForeignLink` and :class:`NotOpened` where it is not gone further, :class:`OSError` as the system says.
        """
        rest = parts_of(path)
        folder = self._root()
        links, foreign = 0, False
        while rest:
            name = rest.pop()
            if name == "..":
                folder = self._folder(os.path.dirname(folder.path))  # noqa: PTH120 - text, not the file system
                continue
            self._check_mount(folder, name)
            about = self._about(folder, name, rest)
            if about is None:
                if rest:
                    raise FileNotFoundError(errno.ENOENT, "no such folder", f"{folder.path.rstrip('/')}/{name}")
                return Found(folder, name, None, foreign)
            if stat.S_ISLNK(about.st_mode) and (rest or follow_last):
                if not folder.guards(about):
                    if not self._any_link:
                        if not rest:
                            return Found(folder, name, about, True)
                        raise ForeignLink(errno.ELOOP, "the way leads through a link that others made", path)
                    foreign = True
                links += 1
                if links > MAX_LINKS:
                    raise NotOpened(errno.ELOOP, "too many links", path)
                target = self._target(folder, name)
                folder = self._root() if target.startswith("/") else folder
                rest += parts_of(target, relative=True)
                continue
            if not rest:
                return Found(folder, name, about, foreign)
            folder = self._below(folder, name)
        return Found(folder, "", folder.about, foreign)

    def enter(self, path: str) -> Folder:
        """The folder at *path*. Raises like :meth:`find`."""
        found = self.find(path)
        if found.about is None:
            raise FileNotFoundError(errno.ENOENT, "no such folder", path)
        if found.through_link:
            raise ForeignLink(errno.ELOOP, "the way leads through a link that others made", path)
        return self._below(found.folder, found.name) if found.name else found.folder

    def _about(self, folder: Folder, name: str, rest: Sequence[str]) -> os.stat_result | None:
        """What stands in *folder* under *name*; None where nothing does. *rest* is the way from there, last name first."""
        try:
            return os.stat(name, dir_fd=folder.handle, follow_symlinks=False)
        except FileNotFoundError:
            return None

    def _target(self, folder: Folder, name: str) -> str:
        """Where the symbolic link leads that stands there."""
        return os.readlink(name, dir_fd=folder.handle)

    def _root(self) -> Folder:
        known = self._folders.get("/")
        if known is None:
            known = self._folders["/"] = Folder(os.open("/", _FOLDER), "/", alone=True)
        return known

    def _folder(self, path: str) -> Folder:
        """The folder at a path that was come through before, or is found again from the root without a link."""
        folder = self._root()
        for name in parts_of(path)[::-1]:
            folder = self._below(folder, name)
        return folder

    def _check_mount(self, folder: Folder, name: str) -> None:
        """Stay off a mount that another machine answers for: to ask what is there may already take for ever."""
        path = f"{folder.path.rstrip('/')}/{name}"
        if path in self.off_limits:
            raise NotOpened(errno.EREMOTE, "on a file system of another machine, not touched", path)

    def _below(self, folder: Folder, name: str) -> Folder:
        path = f"{folder.path.rstrip('/')}/{name}"
        known = self._folders.get(path)
        if known is not None:
            return known
        if len(self._folders) >= _MOST_KEPT:
            self._folders = {"/": self._root()}
        made = self._folders[path] = Folder(os.open(name, _FOLDER, dir_fd=folder.handle), path, above=folder)
        return made

    @property
    def off_limits(self) -> frozenset[str]:
        """Mounts that are not entered: those that another machine or a program answers for."""
        return _mounts(int(time.monotonic() / _MOUNTS_STAND))[0]

    def is_made_up(self, about: os.stat_result) -> bool:
        """Whether a file is none of a disk: made by the kernel as it is read, or answered for by somebody else."""
        _, kinds = _mounts(int(time.monotonic() / _MOUNTS_STAND))
        return made_up(kinds.get(f"{os.major(about.st_dev)}:{os.minor(about.st_dev)}", ""))

    def read(self, path: str, most: int, from_end: bool = False) -> Content:
        """Up to *most* bytes of a regular file, of its end where *from_end*.

        Raises :class:`OSError` where that cannot be, :class:`NotOpened` where it is not done: a link of others, what is no plain
        file on a disk, a file with a second name that somebody else may have given it.
        """
        found = self.find(path)
        if found.about is None:
            raise FileNotFoundError(errno.ENOENT, "no such file", path)
        if stat.S_ISLNK(found.about.st_mode):
            raise ForeignLink(errno.ELOOP, "a link that others made", path)
        if self.is_made_up(found.about):
            raise NotOpened(errno.EINVAL, "no file of a disk", path)
        with opened(found, to_read=True) as handle:
            about = os.fstat(handle)
            if about.st_nlink > 1 and not found.alone:
                raise NotOpened(errno.EMLINK, "a file of several names, one of them given by others", path)
            begins = max(0, about.st_size - most) if from_end else 0
            if begins:
                os.lseek(handle, begins, os.SEEK_SET)
            return Content(path, about, read_all(handle, most), found.folder, found.alone, begins)

    def names(self, path: str, most: int = 1000) -> list[str]:
        """The names in a folder, sorted; empty where it cannot be listed."""
        with suppress(OSError):
            found = self.find(path)
            if found.about is None or not stat.S_ISDIR(found.about.st_mode):
                return []
            with opened(found) as handle, os.scandir(handle) as entries:
                return sorted(entry.name for _, entry in zip(range(most), entries, strict=False))
        return []

    def whole_lines(self, folder: str, ending: str, lines: Collection[bytes], most: int) -> Iterator[tuple[str, bytes]]:
        """Which files of *folder* whose names have that *ending* hold which of *lines* as whole lines, up to *most* bytes of each file:
        the name of the file, and the line."""
        wanted = set(lines)
        for name in self.names(folder, MOST_LISTS):
            if name.endswith(ending):
                with suppress(OSError):
                    for line in wanted.intersection(self.read(f"{folder}/{name}", most).data.split(b"\n")):
                        yield name, line

    def attribute(self, found: Found, name: str) -> bytes:
        """An extended attribute of what was found (xattr(7)). Raises :class:`OSError` where it has none."""
        try:
            return os.getxattr(f"/proc/self/fd/{found.folder.handle}/{found.name}", name, follow_symlinks=False)
        except (AttributeError, ValueError) as error:
            raise OSError(errno.ENOTSUP, str(error)) from None

    def fixed(self, found: Found) -> str:
        """The flag that keeps everybody from changing a file or a folder, root included; empty where it has none. Raises
        :class:`OSError` where that cannot be told."""
        from fcntl import ioctl

        with opened(found) as handle:
            flags_of = int.from_bytes(ioctl(handle, _GET_FLAGS, bytes(8))[:4], sys.byteorder)
        return next((name for bit, name in _FIXED.items() if flags_of & bit), "")


_GET_FLAGS = 0x80086601
"""``FS_IOC_GETFLAGS`` (linux/fs.h), of machines with 64 bits."""
_FIXED = {0x10: "immutable", 0x20: "append-only"}
"""``FS_IMMUTABLE_FL`` and ``FS_APPEND_FL`` (ioctl_iflags(2))."""


@lru_cache(maxsize=2)
def _mounts(moment: int) -> tuple[frozenset[str], dict[str, str]]:
    """The places of mounts that are not entered, and the kind of each mounted device (proc(5), "mountinfo"); read anew for each
    *moment*."""
    try:
        return kinds_of(Path("/proc/self/mountinfo").read_text(errors="replace"))
    except OSError:
        return frozenset(), {}


def made_up(kind: str) -> bool:
    """Whether the files of a kind of file system are none of a disk."""
    return kind in _MADE_UP or kind in NETWORK or kind.startswith("fuse")


def kinds_of(mountinfo: str) -> tuple[frozenset[str], dict[str, str]]:
    """The places of mounts that are not entered, and the kind of each mounted device, of the text of ``mountinfo`` (proc(5))."""
    closed, kinds = set(), {}
    for words in (line.split() for line in mountinfo.splitlines()):
        dash = words.index("-") if "-" in words else len(words)
        kind = words[dash + 1] if dash + 1 < len(words) else ""
        if dash > 4:
            kinds[words[2]] = kind
            if kind in NETWORK or kind.startswith("fuse."):
                closed.add(words[4])
    return frozenset(closed), kinds


def parts_of(path: str, relative: bool = False) -> list[str]:
    """The names of a path, last one first. Raises :class:`NotOpened` where it is none that is opened."""
    if (not relative and not path.startswith("/")) or "\0" in path or len(path) > MAX_PATH:
        raise NotOpened(errno.EINVAL, "not an absolute path", path[:80])
    return [part for part in path.split("/") if part not in ("", ".")][::-1]


def identity(about: os.stat_result) -> list[int]:
    """What tells a file from all others as long as it exists: the device, its number there (inode(7)) and its kind, since the
    number of one that is gone is given out again."""
    return [about.st_dev, about.st_ino, stat.S_IFMT(about.st_mode)]


@contextmanager
def opened(found: Found, same: list[int] | None = None, to_read: bool = False) -> Iterator[int]:
    """A handle on what was found: on a regular file or a folder, and on no link, pipe or device, which opening alone may wake.

    *same* is the :func:`identity` that it has to have. Raises :class:`NotOpened` where it is something else by now.
    """
    if not found.name:
        raise NotOpened(errno.EISDIR, "the root folder itself", found.path)
    handle = os.open(found.name, _ANY, dir_fd=found.folder.handle)
    try:
        about = os.fstat(handle)
        if not (stat.S_ISREG(about.st_mode) or (stat.S_ISDIR(about.st_mode) and not to_read)):
            raise NotOpened(errno.EINVAL, "no plain file" if to_read else "neither file nor folder", found.path)
        if same is not None and identity(about) != same:
            raise NotOpened(errno.ESTALE, "something else stands there by now", found.path)
        # The same file once more, this time to work on; not to wait for whoever holds a lease on it (fcntl(2), "F_SETLEASE").
        work = os.open(f"/proc/self/fd/{handle}", _TO_READ)
    finally:
        os.close(handle)
    try:
        yield work
    finally:
        os.close(work)


class Content(NamedTuple):
    """What was read of a file."""

    path: str
    about: os.stat_result
    data: bytes
    folder: Folder
    alone: bool
    """Whether nobody but root could have put the file there."""
    begins: int = 0
    """Where in the file the data begin."""


def read_all(handle: int, most: int) -> bytes:
    """Up to *most* bytes from where the handle stands."""
    pieces: list[bytes] = []
    left = most
    while left > 0 and (piece := os.read(handle, min(left, 1 << 20))):
        pieces.append(piece)
        left -= len(piece)
    return b"".join(pieces)

"""A folder of data with all in it, given to the account of its service, and back.

Only what is root's is given away, only to the one account, and no folder that another device is mounted on. Links are not followed and not
changed; what has a second name, runs as its owner, or is no plain file is for a person (CWE-59, CWE-62). Every file is opened in the
folder that was opened before it, and looked at again by that handle before it is changed.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from hollow_chain.mend.files_kept import Kept, group_number, user_number
from hollow_chain.mend.hands import NotDone
from hollow_chain.reach.flags import flags
from hollow_chain.reach.handles import Walker, identity, opened

MOST = 20_000
"""Files and folders that are given away at once: each is on the journal, so that it can be taken back; more is for a person."""
MOST_DEEP = 40
"""Folders within folders: far more than data is laid out in."""
_TO_READ = flags("RDONLY", "NONBLOCK", "NOFOLLOW", "NOCTTY", "CLOEXEC")
_AS_OWNER = stat.S_ISUID | stat.S_ISGID
Entry = dict[str, Any]


def keep(path: Path) -> Kept:
    """What lies in the folder *path* and belongs to root, itself first. Raises :class:`NotDone` where a machine must not give it away."""
    entries: list[Entry] = []
    for name, about, _ in _walk(path):
        if about.st_uid != 0:
            continue
        if stat.S_ISREG(about.st_mode) and (about.st_nlink > 1 or about.st_mode & _AS_OWNER):
            raise NotDone(f"{path / name} has a second name, or runs as its owner: this has to be done by hand")
        if len(entries) >= MOST:
            raise NotDone(f"{path} holds more than {MOST:,} files of root: this has to be done by hand")
        entries.append({"name": name, "user": about.st_uid, "group": about.st_gid, "is": identity(about)})
    return {"kind": "tree", "entries": entries}


def give(path: Path, kept: Kept, user: str, group: str) -> None:
    """Give what was *kept* to *user* and *group*; whatever is another file by now is left. Raises :class:`NotDone`."""
    try:
        owner = user_number(user), group_number(group)
    except KeyError as error:
        raise NotDone(f"cannot give {path} to {user}:{group}: {error}") from None
    _set(path, {one["name"]: (one["is"], owner) for one in kept["entries"]})


def put_back(path: Path, kept: Kept) -> None:
    """Give back what was *kept* to whom it belonged. Raises :class:`NotDone`."""
    _set(path, {one["name"]: (one["is"], (one["user"], one["group"])) for one in kept["entries"]}, back=True)


def _is_same(about: os.stat_result, kept: list[int], back: bool) -> bool:
    """Whether a file is the one that was kept. The number of the device may be another one after a reboot, and on layered file systems
    so may that of a folder (kernel documentation, "Overlay Filesystem"); to give a folder back to root gives nothing away."""
    now = identity(about)
    return now[2] == kept[2] if back and stat.S_ISDIR(about.st_mode) else now[1:] == kept[1:]


def _set(path: Path, wanted: dict[str, tuple[list[int], tuple[int, int]]], back: bool = False) -> None:
    for name, about, handle in _walk(path):
        same, owner = wanted.get(name, ([], (-1, -1)))
        if not same or not _is_same(about, same, back):
            continue
        if stat.S_ISREG(about.st_mode) and about.st_nlink > 1:
            continue
        bits = stat.S_IMODE(about.st_mode)
        os.fchown(handle, *owner)
        os.fchmod(handle, bits)  # chown(2) takes some of them away


def _walk(path: Path) -> Iterator[tuple[str, os.stat_result, int]]:
    """Folders and plain files from *path* on down: the name below it, what it is, and a handle on it. Raises :class:`NotDone`."""
    try:
        with Walker() as walker:
            found = walker.find(str(path), follow_last=False)
            if found.about is None or not stat.S_ISDIR(found.about.st_mode) or found.through_link:
                raise NotDone(f"{path} is no folder of its own: this has to be done by hand")
            with opened(found) as top:
                device = os.fstat(top).st_dev
                for root, folders, files, handle in os.fwalk(".", dir_fd=top, follow_symlinks=False):
                    about = os.fstat(handle)
                    deep = root.count("/")
                    folders[:] = folders if about.st_dev == device and deep < MOST_DEEP else []
                    if about.st_dev != device:
                        continue
                    yield root, about, handle
                    for name in files:
                        yield from _file(f"{root}/{name}", name, handle)
    except OSError as error:
        raise NotDone(f"cannot go through {path}: {(error.strerror or str(error)).lower()}") from None


def _file(shown: str, name: str, folder: int) -> Iterator[tuple[str, os.stat_result, int]]:
    """A plain file, by a handle on it; nothing for whatever else bears that name."""
    seen = os.stat(name, dir_fd=folder, follow_symlinks=False)
    if not stat.S_ISREG(seen.st_mode):
        return
    handle = os.open(name, _TO_READ, dir_fd=folder)
    try:
        about = os.fstat(handle)
        if identity(about) == identity(seen):
            yield shown, about, handle
    finally:
        os.close(handle)

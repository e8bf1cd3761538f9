"""Files and folders as they were: read before a step, put back byte for byte.

Symbolic links are never followed: what is changed is what was looked at (open(2), ``O_NOFOLLOW``).
"""

from __future__ import annotations

import base64
import contextlib
import errno
import grp
import os
import pwd
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from hollow_chain.mend.hands import NotDone

MAX_KEPT = 4 << 20
"""Larger files are not removed: they could not be put back."""
Kept = dict[str, Any]


def keep(path: Path) -> Kept:
    """What is at *path*: kind, content, mode, owner, times. Raises :class:`NotDone` where it is too large to be kept."""
    try:
        about = path.lstat()
    except (FileNotFoundError, NotADirectoryError):
        return {"kind": "absent"}
    kept: Kept = {
        "mode": stat.S_IMODE(about.st_mode),
        "user": about.st_uid,
        "group": about.st_gid,
        "times": [about.st_atime_ns, about.st_mtime_ns],
    }
    if stat.S_ISLNK(about.st_mode):
        return kept | {"kind": "link", "to": str(path.readlink())}
    if stat.S_ISDIR(about.st_mode):
        return kept | {"kind": "folder"}
    if not stat.S_ISREG(about.st_mode):
        return kept | {"kind": "other"}
    if about.st_size > MAX_KEPT:
        return kept | {"kind": "large"}
    return kept | {"kind": "file", "content": base64.b64encode(path.read_bytes()).decode()}


def put_back(path: Path, kept: Kept) -> None:
    """Make *path* what it was. Raises :class:`NotDone`."""
    try:
        _put_back(path, kept)
    except OSError as error:
        raise NotDone(f"cannot put {path} back: {_words(error)}") from None


def _put_back(path: Path, kept: Kept) -> None:
    kind, now = kept["kind"], keep(path)
    if kind == "absent":
        _clear(path, now)
    elif kind == "link":
        if now.get("to") != kept["to"]:
            _clear(path, now)
            path.symlink_to(kept["to"])
    elif kind == "folder":
        path.mkdir(exist_ok=True)
        _set_rights(path, kept)
    elif kind in ("other", "large"):
        if now["kind"] == "absent":
            raise NotDone(f"{path} is gone, and could not be kept")
        _set_rights(path, kept)
    else:
        if now.get("content") != kept["content"]:
            _write(path, base64.b64decode(kept["content"]))
        _set_rights(path, kept)
        os.utime(path, ns=(kept["times"][0], kept["times"][1]), follow_symlinks=False)


def _clear(path: Path, now: Kept) -> None:
    if now["kind"] == "absent":
        return
    if now["kind"] != "folder":
        path.unlink()
        return
    try:
        path.rmdir()
    except OSError as error:
        if error.errno in (errno.ENOTEMPTY, errno.EEXIST):
            raise NotDone(f"{path} was made by the mend and is left: by now there is something in it") from None
        raise


def _write(path: Path, content: bytes) -> None:
    scratch = path.with_name(f".{path.name[:60]}.hollow-chain")
    with contextlib.suppress(FileNotFoundError):
        scratch.unlink()
    handle = os.open(scratch, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    scratch.replace(path)


def write_new(path: Path, content: bytes, mode: int = 0o644) -> None:
    """A file of ours, whole or not at all. Raises :class:`NotDone`."""
    try:
        _write(path, content)
        path.chmod(mode)
    except OSError as error:
        raise NotDone(f"cannot write {path}: {_words(error)}") from None


@contextlib.contextmanager
def _opened(path: Path) -> Iterator[int]:
    handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        yield handle
    finally:
        os.close(handle)


def _set_rights(path: Path, kept: Kept) -> None:
    with _opened(path) as handle:
        os.fchown(handle, kept["user"], kept["group"])
        os.fchmod(handle, kept["mode"])


def set_mode(path: Path, bits: int) -> None:
    """Set the permission bits. Raises :class:`NotDone`."""
    try:
        with _opened(path) as handle:
            os.fchmod(handle, bits)
    except OSError as error:
        raise NotDone(f"cannot set the mode of {path}: {_words(error)}") from None


def set_owner(path: Path, user: str, group: str) -> None:
    """Set owner and group, by name or number; the permission bits stay (chown(2) takes some away). Raises :class:`NotDone`."""
    try:
        with _opened(path) as handle:
            bits = stat.S_IMODE(os.fstat(handle).st_mode)
            os.fchown(handle, user_number(user), group_number(group))
            os.fchmod(handle, bits)
    except (OSError, KeyError) as error:
        raise NotDone(f"cannot give {path} to {user}:{group}: {_words(error)}") from None


def make_folder(path: Path, user: str, group: str) -> None:
    """Make a folder with all that is missing above it; the last one belongs to *user*. Raises :class:`NotDone`."""
    try:
        for one in missing(path):
            one.mkdir(mode=0o755)
            one.chmod(0o755)
    except OSError as error:
        raise NotDone(f"cannot make {path}: {_words(error)}") from None
    set_owner(path, user, group)


def missing(path: Path) -> list[Path]:
    """*path* and the folders above it that are not there, the highest one first."""
    found = [one for one in (path, *path.parents) if not os.path.lexists(one)]
    return found[::-1]


def user_number(name: str) -> int:
    """The number of a user. Raises :class:`KeyError`."""
    return int(name) if name.isdigit() else pwd.getpwnam(name).pw_uid


def group_number(name: str) -> int:
    """The number of a group. Raises :class:`KeyError`."""
    return int(name) if name.isdigit() else grp.getgrnam(name).gr_gid


def _words(error: Exception) -> str:
    return (getattr(error, "strerror", None) or str(error)).lower()


def links_below(folders: list[Path]) -> Kept:
    """All symbolic links in *folders* and the folders in them, and these folders themselves: what says which units are started
    by which, and which are masked (systemd.unit(5), "Unit File Load Path")."""
    found: Kept = {}
    for folder in folders:
        for root, names, files in os.walk(folder):
            depth = len(Path(root).relative_to(folder).parts)
            for name in list(names):
                path = Path(root) / name
                if path.is_symlink():
                    found[str(path)] = {"kind": "link", "to": str(path.readlink())}
                else:
                    found[str(path)] = {"kind": "folder"}
            for name in files:
                path = Path(root) / name
                if path.is_symlink():
                    found[str(path)] = {"kind": "link", "to": str(path.readlink())}
            if depth >= 1:
                names.clear()
    return found


def put_links_back(folders: list[Path], kept: Kept, units: set[str]) -> None:
    """Make the links that are about *units* what they were, and remove folders that were made for them. Links of others that
    have changed since are somebody else's business."""
    now = links_below(folders)

    def concerned(path: str, one: Kept) -> bool:
        return Path(path).name in units or Path(one.get("to", "")).name in units

    try:
        for path, one in now.items():
            if one["kind"] == "link" and kept.get(path) != one and concerned(path, one):
                Path(path).unlink()
        for path, one in kept.items():
            if one["kind"] == "link" and not os.path.lexists(path) and concerned(path, one):
                Path(path).parent.mkdir(exist_ok=True)
                Path(path).symlink_to(one["to"])
        for path, one in now.items():
            made = one["kind"] == "folder" and path not in kept and path.endswith((".wants", ".requires", ".upholds"))
            if made and not any(Path(path).iterdir()):
                Path(path).rmdir()
    except OSError as error:
        raise NotDone(f"cannot put the links of {', '.join(sorted(units))} back: {_words(error)}") from None

"""Files and folders as they were: kept before a step, changed, and put back, each time by handle.

Between two looks somebody may swap what a path leads to. So every step finds its file anew, folder by folder without the links of
others (:mod:`hollow_chain.reach.handles`), and works on it only if it is still the one that was kept.
"""

from __future__ import annotations

import base64
import contextlib
import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from hollow_chain.mend.hands import NotDone
from hollow_chain.reach.flags import flags
from hollow_chain.reach.handles import Folder, Found, Walker, identity, opened, read_all

MAX_KEPT = 4 << 20
"""Larger files are not removed: they could not be put back."""
Kept = dict[str, Any]
_AS_OWNER = stat.S_ISUID | stat.S_ISGID
_NEW = flags("WRONLY", "CREAT", "EXCL", "NOFOLLOW", "CLOEXEC")


@contextmanager
def _told(what: str) -> Iterator[None]:
    try:
        yield
    except (OSError, KeyError) as error:
        raise NotDone(f"{what}: {_words(error)}") from None


def _words(error: Exception) -> str:
    return (getattr(error, "strerror", None) or str(error)).lower()


@contextmanager
def _found(path: Path) -> Iterator[Found]:
    with Walker() as walker:
        yield walker.find(str(path), follow_last=False)


def _is_shared(found: Found, about: os.stat_result) -> bool:
    """Whether a file may have a second name that somebody gave it in order to have it changed (CWE-62)."""
    return stat.S_ISREG(about.st_mode) and about.st_nlink > 1 and not found.alone


def keep(path: Path, content: bool = False) -> Kept:
    """What is at *path*: kind, mode, owner, times, which file it is; its *content* where that is wanted too.

    Raises :class:`NotDone` where the way leads through a link of others.
    """
    with _told(f"cannot look at {path}"):
        try:
            with _found(path) as found:
                return _kept(found, content)
        except (FileNotFoundError, NotADirectoryError):
            return {"kind": "absent"}


def rights_kept(about: os.stat_result) -> Kept:
    """Mode, owner, times and identity of what *about* tells of, as a journal keeps them."""
    return {
        "mode": stat.S_IMODE(about.st_mode),
        "user": about.st_uid,
        "group": about.st_gid,
        "times": [about.st_atime_ns, about.st_mtime_ns],
        "is": identity(about),
    }


def _kept(found: Found, content: bool) -> Kept:
    about = found.about
    if about is None:
        return {"kind": "absent"}
    kept = rights_kept(about)
    if stat.S_ISLNK(about.st_mode):
        return kept | {"kind": "link", "to": os.readlink(found.name, dir_fd=found.folder.handle)}
    if stat.S_ISDIR(about.st_mode):
        return kept | {"kind": "folder"}
    if not stat.S_ISREG(about.st_mode):
        return kept | {"kind": "socket" if stat.S_ISSOCK(about.st_mode) else "other"}
    if not content:
        return kept | {"kind": "file"}
    with opened(found, kept["is"], to_read=True) as handle:
        about = os.fstat(handle)
        if _is_shared(found, about) or about.st_size > MAX_KEPT:
            return kept | {"kind": "large" if about.st_size > MAX_KEPT else "other"}
        return kept | {"kind": "file", "content": base64.b64encode(read_all(handle, MAX_KEPT)).decode()}


def put_back(path: Path, kept: Kept) -> None:
    """Make *path* what it was. Raises :class:`NotDone`, also where something else stands there by now."""
    with _told(f"cannot put {path} back"):
        try:
            with _found(path) as found:
                _put_back(found, path, kept)
        except (FileNotFoundError, NotADirectoryError):
            if kept["kind"] != "absent":
                raise


def _put_back(found: Found, path: Path, kept: Kept) -> None:
    kind, now = kept["kind"], _kept(found, "content" in kept)
    folder, name = found.folder, found.name
    if kind == "absent":
        _clear(found, path, now)
    elif kind == "link":
        if now.get("to") != kept["to"]:
            _clear(found, path, now)
            os.symlink(kept["to"], name, dir_fd=folder.handle)
    elif "content" in kept:
        if now.get("content") != kept["content"]:
            _write(folder, name, base64.b64decode(kept["content"]), kept)
        else:
            _set_rights(found, kept | {"is": now["is"]})
    elif kind == now["kind"] and kind in ("file", "folder") and _is_same(found, now, kept):
        _set_rights(found, kept | {"is": now["is"]})
    elif kind == "folder" and now["kind"] == "absent" and folder.alone:
        os.mkdir(name, 0o700, dir_fd=folder.handle)
        made = Found(folder, name, os.stat(name, dir_fd=folder.handle, follow_symlinks=False))
        assert made.about is not None
        _set_rights(made, kept | {"is": identity(made.about)})
    elif kind == "socket" and now["kind"] == "absent":
        # Nobody listens on it, so any socket there is what it was. Whose it is, is set only where nobody else could swap it.
        os.mknod(name, stat.S_IFSOCK | kept["mode"], dir_fd=folder.handle)
        if folder.closed:
            os.chown(name, kept["user"], kept["group"], dir_fd=folder.handle, follow_symlinks=False)
    elif kind == now["kind"] == "socket":
        pass
    elif now["kind"] == "absent":
        raise NotDone(f"{path} is gone, and its content could not be kept")
    else:
        raise NotDone(f"{path} is not what it was before the mend any more, and is left as it is")


def _is_same(found: Found, now: Kept, kept: Kept) -> bool:
    """Whether what is there now is what was kept: by its number, or since nobody but root could have put anything else there.

    The number of the device is no part of that: it may be another one after a reboot, and on layered file systems so may the
    number of a folder (kernel documentation, "Overlay Filesystem", "Inode properties"). A journal of version 1 has no numbers.
    """
    return found.alone or now["is"][1:] == kept.get("is", [])[1:]


def _clear(found: Found, path: Path, now: Kept) -> None:
    """Take away what the mend has made. What others could have put there meanwhile is left."""
    if now["kind"] == "absent":
        return
    if now["kind"] != "folder":
        if not found.alone:
            raise NotDone(f"{path} was not there before the mend, and is left: others may have made it")
        os.unlink(found.name, dir_fd=found.folder.handle)
        return
    try:
        os.rmdir(found.name, dir_fd=found.folder.handle)
    except OSError as error:
        if error.errno in (errno.ENOTEMPTY, errno.EEXIST):
            raise NotDone(f"{path} was made by the mend and is left: by now there is something in it") from None
        raise


def _set_rights(found: Found, kept: Kept) -> None:
    if found.about is not None and stat.S_ISLNK(found.about.st_mode):
        raise NotDone(f"{found.path} is a link by now, and is left as it is")
    with opened(found, kept["is"]) as handle:
        if _is_shared(found, os.fstat(handle)):
            raise NotDone(f"{found.path} has a second name by now, and is left as it is")
        os.fchown(handle, kept["user"], kept["group"])
        os.fchmod(handle, kept["mode"])
        if stat.S_ISREG(os.fstat(handle).st_mode) and "content" in kept:
            os.utime(handle, ns=(kept["times"][0], kept["times"][1]))


def _write(folder: Folder, name: str, content: bytes, kept: Kept) -> None:
    """A file with that content and those rights in the place of whatever bears its name: whole, or not at all."""
    scratch = f".{name[:60]}.hollow-chain"
    with contextlib.suppress(FileNotFoundError):
        os.unlink(scratch, dir_fd=folder.handle)
    handle = os.open(scratch, _NEW, 0o600, dir_fd=folder.handle)
    try:
        left = memoryview(content)
        while left:
            left = left[os.write(handle, left) :]
        if "user" in kept:
            os.fchown(handle, kept["user"], kept["group"])
        os.fchmod(handle, kept["mode"])
        if "times" in kept:
            os.utime(handle, ns=(kept["times"][0], kept["times"][1]))
        os.fsync(handle)
    except OSError:
        with contextlib.suppress(OSError):
            os.unlink(scratch, dir_fd=folder.handle)
        raise
    finally:
        os.close(handle)
    os.rename(scratch, name, src_dir_fd=folder.handle, dst_dir_fd=folder.handle)


def write_new(path: Path, content: bytes, mode: int = 0o644) -> None:
    """A file of ours, whole or not at all, in a folder where only root writes. Raises :class:`NotDone`."""
    with _told(f"cannot write {path}"), _found(path) as found:
        if not found.folder.closed or found.through_link:
            raise NotDone(f"cannot write {path}: others may write in its folder")
        _write(found.folder, found.name, content, {"mode": mode})


@contextmanager
def _changing(path: Path, kept: Kept) -> Iterator[int]:
    """A handle on the file or folder that was kept, to change its rights."""
    with _found(path) as found:
        if found.about is None or stat.S_ISLNK(found.about.st_mode):
            raise NotDone(f"{path} is no file or folder of its own")
        with opened(found, kept.get("is")) as handle:
            about = os.fstat(handle)
            if _is_shared(found, about) or (stat.S_ISREG(about.st_mode) and about.st_mode & _AS_OWNER):
                raise NotDone(f"{path} has a second name, or runs as its owner: this has to be done by hand")
            yield handle


def set_mode(path: Path, bits: int, kept: Kept | None = None) -> None:
    """Set the permission bits of what was *kept*. Raises :class:`NotDone`."""
    with _told(f"cannot set the mode of {path}"), _changing(path, kept or {}) as handle:
        os.fchmod(handle, bits)


def set_owner(path: Path, user: str, group: str, kept: Kept | None = None) -> None:
    """Set owner and group of what was *kept*, by name or number; the permission bits stay (chown(2) takes some away).

    Raises :class:`NotDone`.
    """
    with _told(f"cannot give {path} to {user}:{group}"), _changing(path, kept or {}) as handle:
        bits = stat.S_IMODE(os.fstat(handle).st_mode)
        os.fchown(handle, user_number(user), group_number(group))
        os.fchmod(handle, bits)


def make_folder(path: Path, user: str, group: str) -> None:
    """Make a folder with all that is missing above it; the last one belongs to *user*. Raises :class:`NotDone`."""
    with _told(f"cannot make {path}"):
        for one in missing(path):
            with _found(one) as found:
                os.mkdir(found.name, 0o755, dir_fd=found.folder.handle)
            with _changing(one, {}) as handle:
                os.fchmod(handle, 0o755)
    with _told(f"cannot give {path} to {user}:{group}"), _changing(path, {}) as handle:
        # Whoever owns the folder around may have put another one there meanwhile: an empty one is as good as that just made.
        if not stat.S_ISDIR(os.fstat(handle).st_mode) or os.listdir(handle):  # noqa: PTH208
            raise NotDone(f"cannot make {path}: something else stands there by now")
        os.fchown(handle, user_number(user), group_number(group))


def missing(path: Path) -> list[Path]:
    """*path* and the folders above it that are not there, the highest one first."""
    found = [one for one in (path, *path.parents) if not os.path.lexists(one)]
    return found[::-1]


def _aside(name: str, mend: str) -> str:
    return f".{name[:60]}.{mend}.set-aside"


def set_aside(path: Path, kept: Kept, mend: str) -> None:
    """Give a left-over another name in its folder, so that it is out of the way and not lost. Raises :class:`NotDone`."""
    with _told(f"cannot set {path} aside"), _found(path) as found:
        plain = found.about is not None and (stat.S_ISREG(found.about.st_mode) or stat.S_ISSOCK(found.about.st_mode))
        if found.about is None or identity(found.about) != kept["is"] or not plain:
            raise NotDone(f"{path} is not the file any more that was looked at")
        os.rename(found.name, _aside(found.name, mend), src_dir_fd=found.folder.handle, dst_dir_fd=found.folder.handle)


def drop_aside(path: Path, kept: Kept, mend: str) -> None:
    """Destroy what was set aside, now that the mend has held; what stands there instead by now is left."""
    with contextlib.suppress(OSError), _found(path.with_name(_aside(path.name, mend))) as found:
        if found.about is not None and identity(found.about) == kept["is"]:
            os.unlink(found.name, dir_fd=found.folder.handle)


def back_from_aside(path: Path, kept: Kept, mend: str) -> None:
    """Give a left-over its name again; where it is destroyed by now, make it anew from what was kept. Raises :class:`NotDone`."""
    with contextlib.suppress(OSError), _found(path.with_name(_aside(path.name, mend))) as found:
        if found.about is not None and identity(found.about) == kept["is"]:
            os.rename(found.name, path.name, src_dir_fd=found.folder.handle, dst_dir_fd=found.folder.handle)
            return
    put_back(path, kept)


def user_number(name: str) -> int:
    """The number of a user. Raises :class:`KeyError`."""
    from hollow_chain.reach.posix import accounts

    return accounts.user_number(name)


def group_number(name: str) -> int:
    """The number of a group. Raises :class:`KeyError`."""
    from hollow_chain.reach.posix import accounts

    return accounts.group_number(name)


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

    with _told(f"cannot put the links of {', '.join(sorted(units))} back"):
        for path, one in now.items():
            if one["kind"] == "link" and kept.get(path) != one and concerned(path, one):
                with _in_folder_of_root(path) as found:
                    os.unlink(found.name, dir_fd=found.folder.handle)
        for path, one in kept.items():
            if one["kind"] == "link" and not os.path.lexists(path) and concerned(path, one):
                if not Path(path).parent.exists():
                    with _in_folder_of_root(str(Path(path).parent)) as found:
                        os.mkdir(found.name, 0o755, dir_fd=found.folder.handle)
                with _in_folder_of_root(path) as found:
                    os.symlink(one["to"], found.name, dir_fd=found.folder.handle)
        for path, one in now.items():
            made = one["kind"] == "folder" and path not in kept and path.endswith((".wants", ".requires", ".upholds"))
            if made and not any(Path(path).iterdir()):
                with _in_folder_of_root(path) as found:
                    os.rmdir(found.name, dir_fd=found.folder.handle)


@contextmanager
def _in_folder_of_root(path: str) -> Iterator[Found]:
    """The last part of *path* in its folder, where only root writes; a link there is meant itself."""
    with Walker() as walker:
        folder, _, name = path.rpartition("/")
        within = walker.enter(folder)
        if not within.closed:
            raise NotDone(f"{folder} is not root's alone, and is left as it is")
        yield Found(within, name, None)

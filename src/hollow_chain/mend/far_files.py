"""Files of a host over SSH as they were: kept before a step, changed, and put back.

Over that way no folder can be held open (:mod:`hollow_chain.reach.ssh.altering`). So nothing is changed in a folder where anybody but
root may change what a name means: what lies there is for the hands of the host itself, and that is said.
"""

from __future__ import annotations

import base64
import contextlib
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath

from hollow_chain.mend.files_kept import MAX_KEPT, rights_kept
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.kept import Kept
from hollow_chain.reach.handles import Found, identity
from hollow_chain.reach.ssh.machine import FarMachine

_AS_OWNER = stat.S_ISUID | stat.S_ISGID
_UNIT_FOLDERS = (".wants", ".requires", ".upholds")
"""Folders that an enabled unit leaves its link in (systemd.unit(5))."""


class FarFilesKept:
    """Files of one host; *machine* gives it with nothing remembered of what stood where."""

    def __init__(self, machine: Callable[[], FarMachine]) -> None:
        self._machine = machine

    def keep(self, path: Path, content: bool = False) -> Kept:
        """What is at *path*: kind, mode, owner, times, which file it is; its *content* where that is wanted too."""
        with _told(f"cannot look at {path}"):
            machine = self._machine()
            try:
                return self._kept(machine, machine.files.walker().find(str(path), follow_last=False), content)
            except (FileNotFoundError, NotADirectoryError):
                return {"kind": "absent"}

    def _kept(self, machine: FarMachine, found: Found, content: bool) -> Kept:
        about = found.about
        if about is None:
            return {"kind": "absent"}
        kept = rights_kept(about)
        if stat.S_ISLNK(about.st_mode):
            return kept | {"kind": "link", "to": machine.files.link(found.path)}
        if stat.S_ISDIR(about.st_mode):
            return kept | {"kind": "folder"}
        if not stat.S_ISREG(about.st_mode):
            return kept | {"kind": "socket" if stat.S_ISSOCK(about.st_mode) else "other"}
        if not content:
            return kept | {"kind": "file"}
        if about.st_size > MAX_KEPT:
            return kept | {"kind": "large"}
        data = machine.files.walker().read(found.path, MAX_KEPT).data
        return kept | {"kind": "file", "content": base64.b64encode(data).decode()}

    def put_back(self, path: Path, kept: Kept) -> None:
        """Make *path* what it was."""
        now = self.keep(path, "content" in kept)
        with _told(f"cannot put {path} back"):
            if kept["kind"] == "absent":
                if now["kind"] != "absent":
                    self._clear(path, now)
                return
            machine, where = self._closed(path)
            if kept["kind"] == "link":
                if now.get("to") != kept["to"]:
                    if now["kind"] != "absent":
                        self._clear(path, now)
                    machine.altering.link(where, kept["to"])
            elif "content" in kept and now.get("content") != kept["content"]:
                data = base64.b64decode(kept["content"])
                machine.altering.write(where, data, kept["mode"], (kept["user"], kept["group"]))
                machine.altering.set_times(where, kept["times"][0] / 1e9, kept["times"][1] / 1e9)
            elif now["kind"] == kept["kind"] and kept["kind"] in ("file", "folder"):
                machine.altering.set_owner(where, kept["user"], kept["group"], kept["mode"])
            elif kept["kind"] == "folder" and now["kind"] == "absent":
                machine.altering.make_folder(where, 0o700)
                machine.altering.set_owner(where, kept["user"], kept["group"], kept["mode"])
            else:
                raise NotDone(f"{path} is not what it was before the mend any more, and is left as it is")

    def _clear(self, path: Path, now: Kept) -> None:
        """Take away what the mend has made."""
        machine, where = self._closed(path)
        if now["kind"] != "folder":
            machine.altering.remove(where)
        elif machine.files.names(where):
            raise NotDone(f"{path} was made by the mend and is left: by now there is something in it")
        else:
            machine.altering.remove_folder(where)

    def write_new(self, path: Path, content: bytes, mode: int = 0o644) -> None:
        """A file of ours, whole or not at all, in a folder where only root writes."""
        with _told(f"cannot write {path}"):
            machine, where = self._closed(path)
            machine.altering.write(where, content, mode, (0, 0))

    def set_mode(self, path: Path, bits: int, kept: Kept | None = None) -> None:
        """Set the permission bits of what was *kept*."""
        with _told(f"cannot set the mode of {path}"):
            machine, where = self._own(path, kept)
            machine.altering.set_mode(where, bits)

    def set_owner(self, path: Path, user: str, group: str, kept: Kept | None = None) -> None:
        """Set owner and group of what was *kept*, by name or number; the permission bits stay."""
        with _told(f"cannot give {path} to {user}:{group}"):
            machine, where = self._own(path, kept)
            about = machine.files.walker().find(where, follow_last=False).about
            bits = stat.S_IMODE(about.st_mode) if about is not None else 0o600
            machine.altering.set_owner(where, *self._numbers(machine, user, group), bits)

    @staticmethod
    def _numbers(machine: FarMachine, user: str, group: str) -> tuple[int, int]:
        return machine.accounts.user_number(user), machine.accounts.known_group(group) if not group.isdigit() else int(
            group
        )

    def _own(self, path: Path, kept: Kept | None) -> tuple[FarMachine, str]:
        """The file or folder that was kept, where nobody but root can swap it."""
        machine, where = self._closed(path)
        about = machine.files.walker().find(where, follow_last=False).about
        if about is None or not (stat.S_ISREG(about.st_mode) or stat.S_ISDIR(about.st_mode)):
            raise NotDone(f"{path} is no file or folder of its own")
        if kept and identity(about) != kept["is"]:
            raise NotDone(f"something else stands at {path} by now")
        if stat.S_ISREG(about.st_mode) and (about.st_nlink > 1 or about.st_mode & _AS_OWNER):
            raise NotDone(f"{path} has a second name, or runs as its owner: this has to be done by hand")
        return machine, where

    def make_folder(self, path: Path, user: str, group: str) -> None:
        """Make a folder with all that is missing above it; the last one belongs to *user*."""
        with _told(f"cannot make {path}"):
            for one in self.missing(path):
                machine, where = self._closed(one)
                machine.altering.make_folder(where, 0o755)
        if (user, group) not in (("0", "0"), ("root", "root")):
            self.set_owner(path, user, group)

    def missing(self, path: Path) -> list[Path]:
        """*path* and the folders above it that are not there, the highest one first."""
        found = [one for one in (path, *path.parents) if self.keep(one)["kind"] == "absent"]
        return found[::-1]

    def set_aside(self, path: Path, kept: Kept, mend: str) -> None:
        """Give a left-over another name in its folder, so that it is out of the way and not lost."""
        with _told(f"cannot set {path} aside"):
            machine, where = self._closed(path)
            about = machine.files.walker().find(where, follow_last=False).about
            plain = about is not None and (stat.S_ISREG(about.st_mode) or stat.S_ISSOCK(about.st_mode))
            if about is None or identity(about) != kept["is"] or not plain:
                raise NotDone(f"{path} is not the file any more that was looked at")
            machine.altering.rename(where, _aside(where, mend))

    def drop_aside(self, path: Path, kept: Kept, mend: str) -> None:
        """Destroy what was set aside, now that the mend has held; what stands there instead by now is left."""
        with contextlib.suppress(OSError, NotDone):
            machine, where = self._closed(path)
            about = machine.files.walker().find(_aside(where, mend), follow_last=False).about
            if about is not None and identity(about) == kept["is"]:
                machine.altering.remove(_aside(where, mend))

    def back_from_aside(self, path: Path, kept: Kept, mend: str) -> None:
        """Give a left-over its name again; where it is destroyed by now, make it anew from what was kept."""
        with contextlib.suppress(OSError):
            machine, where = self._closed(path)
            about = machine.files.walker().find(_aside(where, mend), follow_last=False).about
            if about is not None and identity(about) == kept["is"]:
                machine.altering.rename(_aside(where, mend), where)
                return
        self.put_back(path, kept)

    def links_below(self, folders: list[Path]) -> Kept:
        """All symbolic links in *folders* and the folders in them, and these folders themselves."""
        files = self._machine().files
        found: Kept = {}
        files.expect((), map(str, folders))
        first = [f"{folder}/{name}" for folder in folders for name in files.names(str(folder))]
        files.expect(first)
        within = [path for path in first if not files.link(path) and files.is_folder(path)]
        files.expect((), within)
        second = [f"{folder}/{name}" for folder in within for name in files.names(folder)]
        files.expect(second)
        for path in (*first, *second):
            if target := files.link(path):
                found[path] = {"kind": "link", "to": target}
        return found | {path: {"kind": "folder"} for path in within}

    def put_links_back(self, folders: list[Path], kept: Kept, units: set[str]) -> None:
        """Make the links that are about *units* what they were, and remove folders that were made for them."""
        now = self.links_below(folders)

        def concerned(path: str, one: Kept) -> bool:
            return PurePosixPath(path).name in units or PurePosixPath(one.get("to", "")).name in units

        with _told(f"cannot put the links of {', '.join(sorted(units))} back"):
            for path, one in now.items():
                if one["kind"] == "link" and kept.get(path) != one and concerned(path, one):
                    machine, where = self._closed(Path(path))
                    machine.altering.remove(where)
            for path, one in kept.items():
                if one["kind"] == "link" and now.get(path) != one and concerned(path, one):
                    folder = Path(path).parent
                    if self.keep(folder)["kind"] == "absent":
                        self.make_folder(folder, "0", "0")
                    if self.keep(Path(path))["kind"] == "absent":
                        machine, where = self._closed(Path(path))
                        machine.altering.link(where, one["to"])
            for path, one in now.items():
                made = one["kind"] == "folder" and path not in kept and path.endswith(_UNIT_FOLDERS)
                if made and self.keep(Path(path))["kind"] == "folder" and not self._machine().files.names(path):
                    machine, where = self._closed(Path(path))
                    machine.altering.remove_folder(where)

    def _closed(self, path: Path) -> tuple[FarMachine, str]:
        """The host and the path without links, where nobody but root can change what it means. Raises :class:`NotDone`."""
        machine = self._machine()
        try:
            found = machine.files.walker().find(str(path), follow_last=False)
        except (FileNotFoundError, NotADirectoryError):
            raise NotDone(f"the folder of {path} is not there") from None
        if found.through_link or not found.name or not found.folder.closed:
            raise NotDone(
                f"others than root may change what {path} means: over the network that is not done; do it on {machine.name} itself"
            )
        return machine, found.path


def _aside(path: str, mend: str) -> str:
    folder, _, name = path.rpartition("/")
    return f"{folder}/.{name[:60]}.{mend}.set-aside"


@contextmanager
def _told(what: str) -> Iterator[None]:
    try:
        yield
    except NotDone:
        raise
    except (OSError, KeyError) as error:
        raise NotDone(f"{what}: {(getattr(error, 'strerror', None) or str(error)).lower()}") from None

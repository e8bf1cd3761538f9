"""Files of a host over SSH, found name by name from the root as on this machine, and read over SFTP.

A path may lead elsewhere between two looks, and over this protocol (draft-ietf-secsh-filexfer-02) nothing holds a folder open. So what
somebody other than root could have moved is compared: the file that was opened has to have the owner, rights, size and moment of the
one that was seen, else nothing is read of it (CWE-367).
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Collection, Iterable, Iterator, Sequence

from hollow_chain.reach.handles import (
    PACKAGE_LIST,
    PACKAGE_LISTS,
    Content,
    Folder,
    ForeignLink,
    Found,
    NotOpened,
    Walker,
)
from hollow_chain.reach.ssh.answers import Answers, FileTold, steps_of
from hollow_chain.reach.ssh.mounts import Mounts
from hollow_chain.reach.ssh.transfer import Read, Transfer

_MOST_LEADS = 3
"""Links behind one another that are asked for beforehand: more are followed one by one."""
_SMALL = 1 << 18
"""Bytes of a file that is read whole: longer than nearly all definitions, settings and programs that are scripts."""
_TRIES = 3
"""Times that a file is read which somebody else could have moved, and which is written to meanwhile."""


class FarFolder(Folder):
    """A folder of a host, by its path."""

    def __init__(self, path: str, about: os.stat_result, user: int, above: FarFolder | None = None) -> None:
        self.path, self.about, self.above, self.user = path, about, above, user
        self.alone = above.guards(about) if above is not None else True

    def __del__(self) -> None:
        """Nothing is held open."""

    def is_trusted(self, user: int) -> bool:
        """Root, and the user by whom the host is asked."""
        return user in (0, self.user)


class FarWalker(Walker):
    """Finds and reads files of a host over SSH."""

    def __init__(self, answers: Answers, mounts: Mounts, transfer: Transfer, user: int, any_link: bool = False) -> None:
        super().__init__(any_link)
        self._answers, self._mounts, self._transfer, self._user = answers, mounts, transfer, user

    def _root(self) -> Folder:
        known = self._folders.get("/")
        if known is None:
            found = self._answers.at("/")
            if found is None:
                raise FileNotFoundError(errno.ENOENT, "no root folder", "/")
            known = self._folders["/"] = FarFolder("/", found.about, self._user)
        return known

    def expect(self, paths: Iterable[str], folders: Iterable[str] = ()) -> None:
        """Ask for all of *paths* at once, with the folders on the way, and for the names in *folders*."""
        closed = self._mounts.closed
        self._answers.expect_names(one for one in folders if not closed or not self._may_lead_away(one, closed))
        wanted = list(paths)
        for _ in range(_MOST_LEADS):
            self._answers.expect(
                step
                for path in wanted
                for step in steps_of(path)
                if not closed or not self._may_lead_away(step, closed)
            )
            wanted = list(dict.fromkeys(lead for path in wanted for lead in self._answers.leads_of(path)))
            if not wanted:
                return

    def _may_lead_away(self, path: str, closed: Collection[str]) -> bool:
        """Whether a look at *path* may touch what another machine answers for."""
        return any(path == mount or path.startswith(mount + "/") for mount in closed) or self._answers.is_behind_link(
            path
        )

    def _about(self, folder: Folder, name: str, rest: Sequence[str]) -> os.stat_result | None:
        here = f"{folder.path.rstrip('/')}/{name}"
        seen = self._answers.at(here, self._ahead(here, rest))
        return seen.about if seen is not None else None

    def _target(self, folder: Folder, name: str) -> str:
        seen = self._answers.at(f"{folder.path.rstrip('/')}/{name}")
        return seen.target if seen is not None else ""

    def _ahead(self, here: str, rest: Sequence[str]) -> list[str]:
        """The paths behind *here* on the way, to be asked for with it: not where one of them might lead to another machine."""
        if self._mounts.closed:
            return []
        found = [here]
        for name in reversed(rest):
            if name == "..":
                break
            found.append(f"{found[-1]}/{name}")
        return found[1:]

    def _below(self, folder: Folder, name: str) -> Folder:
        path = f"{folder.path.rstrip('/')}/{name}"
        known = self._folders.get(path)
        if known is None:
            seen = self._answers.at(path)
            if seen is None:
                raise FileNotFoundError(errno.ENOENT, "no such folder", path)
            if not stat.S_ISDIR(seen.about.st_mode):
                raise NotADirectoryError(errno.ENOTDIR, "not a folder", path)
            known = self._folders[path] = FarFolder(path, seen.about, self._user, folder)  # type: ignore[arg-type]
        return known

    @property
    def off_limits(self) -> frozenset[str]:
        """Mounts that are not entered."""
        return self._mounts.closed

    def is_made_up(self, about: os.stat_result) -> bool:
        """Whether a file is none of a disk."""
        return self._mounts.is_made_up(about.st_dev)

    def read(self, path: str, most: int, from_end: bool = False) -> Content:
        """Up to *most* bytes of a regular file, of its end where *from_end*."""
        found = self.find(path)
        about = found.about
        if about is None:
            raise FileNotFoundError(errno.ENOENT, "no such file", path)
        if stat.S_ISLNK(about.st_mode):
            raise ForeignLink(errno.ELOOP, "a link that others made", path)
        if not stat.S_ISREG(about.st_mode) or self.is_made_up(about):
            raise NotOpened(errno.EINVAL, "no plain file of a disk", path)
        if about.st_nlink > 1 and not found.alone:
            raise NotOpened(errno.EMLINK, "a file of several names, one of them given by others", path)
        for _ in range(_TRIES):
            read = self._read(found.path, most, about.st_size, from_end)
            if found.alone or _is_same(about, read.about):
                return Content(path, about, read.data, found.folder, found.alone, read.begins)
            fresh = self._answers.again(found.path)
            if fresh is None or not stat.S_ISREG(fresh.about.st_mode) or fresh.about.st_ino != about.st_ino:
                break
            about = fresh.about
        raise NotOpened(errno.ESTALE, "something else stands there by now, or it changes all the time", path)

    def _read(self, path: str, most: int, size: int, from_end: bool) -> Read:
        """Small files come many at a time; of larger ones the part that is wanted."""
        whole = self._answers.content(path) if 0 < size <= _SMALL else None
        if whole is None:
            return self._transfer.read(path, most, size, from_end)
        begins = max(0, len(whole.data) - most) if from_end else 0
        return Read(whole.data[begins : begins + most], begins, whole.about)

    def names(self, path: str, most: int = 1000) -> list[str]:
        """The names in a folder, sorted; empty where it cannot be listed."""
        try:
            found = self.find(path)
            if found.about is None or not stat.S_ISDIR(found.about.st_mode):
                return []
            return self._answers.names(found.path)[:most]
        except OSError:
            return []

    def whole_lines(self, folder: str, ending: str, lines: Collection[bytes], most: int) -> Iterator[tuple[str, bytes]]:
        """Which files of *folder* hold which of *lines*: of lists of packages, asked in one question."""
        if (folder, ending) != (PACKAGE_LISTS, PACKAGE_LIST):
            yield from super().whole_lines(folder, ending, lines, most)
            return
        for told in self._answers.packages_naming([line for line in lines if line]):
            path, _, line = told.partition(b".list:")
            yield f"{os.fsdecode(path).rpartition('/')[2]}{ending}", line

    def attribute(self, found: Found, name: str) -> bytes:
        """None: this protocol carries no extended attributes."""
        raise OSError(errno.ENOTSUP, "not told over SSH", name)

    def fixed(self, found: Found) -> str:
        """None: nor flags of files."""
        raise OSError(errno.ENOTSUP, "not told over SSH", found.path)


def _is_same(seen: os.stat_result, opened: FileTold) -> bool:
    return opened == (seen.st_uid, seen.st_gid, seen.st_mode, seen.st_size, int(seen.st_mtime))

"""What stands at paths of a host, and in small files: each asked once, many at a time."""

from __future__ import annotations

import asyncio
import errno
import io
import os
import posixpath
import stat
import tarfile
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future
from typing import NamedTuple

from hollow_chain.reach.ssh.attendant import Attendant

_MOST_AT_ONCE = 20_000
"""Paths in one question: the answer has some two hundred bytes for each."""


Question = tuple[str, str]
"""What is asked: the kind of question, and the path that it is about."""


class AtPath(NamedTuple):
    """What stands at a path."""

    about: os.stat_result
    target: str
    """Where it leads, where it is a symbolic link."""


class FileTold(NamedTuple):
    """What is said of a file as it is read."""

    owner: int
    group: int
    mode: int
    size: int
    changed: int
    """Seconds since 1970."""


class WholeFile(NamedTuple):
    """A file that was read whole."""

    data: bytes
    about: FileTold


class Answers:
    """The answers so far."""

    def __init__(self, attendant: Attendant) -> None:
        self._attendant = attendant
        self.all_rights = True
        """Whether the host is asked with all rights: what is not seen is then not there."""
        self._known: dict[str, AtPath | None] = {}
        self._names: dict[str, list[str]] = {}
        self._contents: dict[str, WholeFile | None] = {}
        self.wait_for: Callable[[Sequence[Question]], None] = lambda questions: self.ask(questions).result()
        """How whoever asks waits for the answers."""

    def at(self, path: str, ahead: Iterable[str] = ()) -> AtPath | None:
        """What stands at *path*; None where nothing does. *ahead* are paths that will be asked for next, and are asked with it.

        Raises :class:`PermissionError` where nobody without more rights can tell.
        """
        if path not in self._known:
            self.expect([path, *ahead])
        found = self._known[path]
        if found is None and not self.all_rights and not self._above_is_open(path):
            raise PermissionError(errno.EACCES, "permission denied", path)
        return found

    def expect(self, paths: Iterable[str]) -> None:
        """Ask for all of *paths* that are not known, in one question."""
        wanted = [path for path in dict.fromkeys(paths) if path not in self._known and is_asked(path)][:_MOST_AT_ONCE]
        if wanted:
            self.wait_for([("stat", path) for path in wanted])

    def names(self, folder: str) -> list[str]:
        """The names in a folder, sorted; none where there is no such folder, or it may not be read."""
        if folder not in self._names:
            self.expect_names([folder])
        return self._names.get(folder, [])

    def expect_names(self, folders: Iterable[str]) -> None:
        """Ask for the names in all of *folders* that are not known, in one question."""
        wanted = [one for one in dict.fromkeys(folders) if one not in self._names and is_asked(one)]
        if wanted:
            self.wait_for([("names", folder) for folder in wanted])

    def content(self, path: str) -> WholeFile | None:
        """A small file with all that is in it; None where it does not come in this way."""
        if path not in self._contents:
            self.wait_for([("content", path)])
        return self._contents.get(path)

    def packages_naming(self, lines: Sequence[bytes]) -> list[bytes]:
        """Which lists of packages hold which of *lines*: the path of the list, a colon, and the line."""
        given = [line.decode("utf-8", "surrogateescape") for line in lines]
        return self._attendant.ask("packages", given).split(b"\n")[:-1] if given else []

    def ask(self, questions: Sequence[Question]) -> Future[None]:
        """Send *questions*; their answers are known when the future is done."""
        return self._attendant.begin(self.fetch(questions))

    async def fetch(self, questions: Sequence[Question]) -> None:
        """The same, in the loop of the connections."""
        asked = {kind: [path for one, path in questions if one == kind] for kind, _ in questions}
        answers = await asyncio.gather(*(self._attendant.answer(kind, paths) for kind, paths in asked.items()))
        told = dict(zip(asked, answers, strict=True))
        if "stat" in told:
            seen = parsed(told["stat"])
            self._known |= {path: seen.get(path) for path in asked["stat"]}
        if "names" in told:
            listed = listed_names(told["names"])
            for folder in asked["names"]:
                place = folder.rstrip("/") or "/"
                within = listed.get(place, {})
                self._names[folder] = sorted(within)
                for name, standing in within.items():
                    self._known.setdefault(f"{place.rstrip('/')}/{name}", standing)
        if "content" in told:
            unpacked = contents(told["content"])
            self._contents |= {path: unpacked.get(path) for path in asked["content"]}

    def again(self, path: str) -> AtPath | None:
        """What stands there now, whatever was seen before."""
        self._known.pop(path, None)
        self._contents.pop(path, None)
        return self.at(path)

    def leads_of(self, path: str) -> list[str]:
        """Where *path* leads by way of the first link on it, as far as is known and not asked yet."""
        for step in steps_of(path):
            found = self._known.get(step)
            if found is None:
                return []
            if found.target:
                rest = path[len(step) :]
                lead = posixpath.normpath(posixpath.join(posixpath.dirname(step), found.target)) + rest
                return [] if lead in self._known else [lead]
        return []

    def is_behind_link(self, path: str) -> bool:
        """Whether a folder on the way to *path* is a link, or may be one, as far as is known."""
        way = steps_of(path)[:-1]
        return any(found is None or found.target for found in map(self._known.get, way))

    def _above_is_open(self, path: str) -> bool:
        """Whether the folder above is there, and everybody may look into it: what is not seen in it is then not there."""
        above = posixpath.dirname(path)
        found = self.at(above) if above != path else None
        return found is None or bool(found.about.st_mode & 0o001)


def contents(answer: bytes) -> dict[str, WholeFile]:
    """The plain files in an archive (tar(5)), by path; what is none of it is passed over."""
    found: dict[str, WholeFile] = {}
    try:
        with tarfile.open(fileobj=io.BytesIO(answer), mode="r:") as archive:
            for one in archive:
                body = archive.extractfile(one) if one.isreg() else None
                if body is not None:
                    mode = stat.S_IFREG | one.mode
                    about = FileTold(one.uid, one.gid, mode, one.size, int(one.mtime))
                    found[one.name] = WholeFile(body.read(), about)
    except (tarfile.TarError, EOFError, ValueError):
        pass  # what has come so far is whole
    return found


_KINDS = {
    "f": stat.S_IFREG,
    "d": stat.S_IFDIR,
    "l": stat.S_IFLNK,
    "s": stat.S_IFSOCK,
    "p": stat.S_IFIFO,
    "c": stat.S_IFCHR,
    "b": stat.S_IFBLK,
}
"""Kinds of files by the letters that find(1) has for them."""


def listed_names(answer: bytes) -> dict[str, dict[str, AtPath]]:
    """What lies in each folder, by name, of an answer in the form of :data:`~hollow_chain.reach.ssh.attendant.LISTED`."""
    fields = answer.decode("utf-8", "surrogateescape").split("\0")
    found: dict[str, dict[str, AtPath]] = {}
    for folder, name, told, target in zip(*(iter(fields),) * 4, strict=False):
        kind, _, rest = told.partition(" ")
        rights, _, rest = rest.partition(" ")
        if kind in _KINDS and rights.isdigit():
            try:
                about = _about(f"{_KINDS[kind] | int(rights, 8):x} {rest}")
            except ValueError:
                continue
            if about is not None:
                found.setdefault(folder, {})[name] = AtPath(about, target)
    return found


def steps_of(path: str) -> list[str]:
    """*path* and the folders on the way to it, from the root down."""
    parts = [part for part in path.split("/") if part]
    return ["/" + "/".join(parts[:depth]) for depth in range(1, len(parts) + 1)]


def is_asked(path: str) -> bool:
    """Whether *path* can be one of a host."""
    return path.startswith("/") and "\0" not in path


def parsed(answer: bytes) -> dict[str, AtPath]:
    """What stands where, of an answer in the form of :data:`~hollow_chain.reach.ssh.attendant.STAT`; what is none of it is passed
    over."""
    fields = answer.decode("utf-8", "surrogateescape").split("\0")
    found: dict[str, AtPath] = {}
    for told, name, whole in zip(*(iter(fields),) * 3, strict=False):
        about = _about(told)
        if about is not None:
            found[name] = AtPath(about, whole.removeprefix(f"{name} -> ") if whole != name else "")
    return found


def _about(told: str) -> os.stat_result | None:
    words = told.split(" ")
    try:
        mode, (number, device, names, owner, group, size) = int(words[0], 16), map(int, words[1:7])
        moments = [_nanoseconds(word) for word in words[7:10]]
    except (ValueError, IndexError):
        return None
    if len(moments) != 3:
        return None
    parts = [divmod(one, 10**9) for one in moments]
    # Reckoned as the interpreter does it, so that the last digit is the same.
    exact = (whole + 1e-9 * rest for whole, rest in parts)
    return os.stat_result(
        (mode, number, device, names, owner, group, size, *(whole for whole, _ in parts), *exact, *moments)
    )


def _nanoseconds(word: str) -> int:
    whole, _, part = word.partition(".")
    sign = -1 if whole.startswith("-") else 1
    return int(whole) * 10**9 + sign * int(part[:9].ljust(9, "0") or 0)

"""What stands at paths of a host, each asked once, many at a time."""

from __future__ import annotations

import asyncio
import errno
import os
import posixpath
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future
from typing import NamedTuple

from hollow_chain.reach.ssh.attendant import Attendant

_MOST_AT_ONCE = 20_000
"""Paths in one question: the answer has some two hundred bytes for each."""


Question = tuple[str, str]
"""What is asked: the kind of question, and the path that it is about."""


class Standing(NamedTuple):
    """What stands at a path."""

    about: os.stat_result
    target: str
    """Where it leads, where it is a symbolic link."""


class Stats:
    """The answers so far. *denied* says of a path that was not seen whether it may not be seen."""

    def __init__(self, attendant: Attendant, all_rights: bool) -> None:
        self._attendant, self._all_rights = attendant, all_rights
        self._known: dict[str, Standing | None] = {}
        self._names: dict[str, list[str]] = {}
        self.wait_for: Callable[[Sequence[Question]], None] = lambda questions: self.ask(questions).result()
        """How whoever asks waits for the answers."""

    def at(self, path: str, ahead: Iterable[str] = ()) -> Standing | None:
        """What stands at *path*; None where nothing does. *ahead* are paths that will be asked for next, and are asked with it.

        Raises :class:`PermissionError` where nobody without more rights can tell.
        """
        if path not in self._known:
            self.expect([path, *ahead])
        found = self._known[path]
        if found is None and not self._all_rights and not self._above_is_open(path):
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

    def ask(self, questions: Sequence[Question]) -> Future[None]:
        """Send *questions*; their answers are known when the future is done."""
        return self._attendant.begin(self._fetch(questions))

    async def _fetch(self, questions: Sequence[Question]) -> None:
        paths, folders = ([path for kind, path in questions if kind == wanted] for wanted in ("stat", "names"))
        answers = await asyncio.gather(*(
            self._attendant.answer(kind, asked) for kind, asked in (("stat", paths), ("names", folders)) if asked
        ))
        if paths:
            told = parsed(answers[0])
            self._known |= {path: told.get(path) for path in paths}
        if folders:
            listed = listed_names(answers[-1])
            self._names |= {folder: listed.get(folder.rstrip("/") or "/", []) for folder in folders}

    def again(self, path: str) -> Standing | None:
        """What stands there now, whatever was seen before."""
        self._known.pop(path, None)
        return self.at(path)

    def is_behind_link(self, path: str) -> bool:
        """Whether a folder on the way to *path* is a link, or may be one, as far as is known."""
        way = steps_of(path)[:-1]
        return any(found is None or found.target for found in map(self._known.get, way))

    def _above_is_open(self, path: str) -> bool:
        """Whether the folder above is there, and everybody may look into it: what is not seen in it is then not there."""
        above = posixpath.dirname(path)
        found = self.at(above) if above != path else None
        return found is None or bool(found.about.st_mode & 0o001)


def listed_names(answer: bytes) -> dict[str, list[str]]:
    """The names in each folder, sorted, of an answer that lists folders and names in turn."""
    words = answer.decode("utf-8", "surrogateescape").split("\0")
    found: dict[str, list[str]] = {}
    for folder, name in zip(words[::2], words[1::2], strict=False):
        found.setdefault(folder, []).append(name)
    return {folder: sorted(names) for folder, names in found.items()}


def steps_of(path: str) -> list[str]:
    """*path* and the folders on the way to it, from the root down."""
    parts = [part for part in path.split("/") if part]
    return ["/" + "/".join(parts[:depth]) for depth in range(1, len(parts) + 1)]


def is_asked(path: str) -> bool:
    """Whether *path* can be one of a host."""
    return path.startswith("/") and "\0" not in path


def parsed(answer: bytes) -> dict[str, Standing]:
    """What stands where, of an answer in the form of :data:`~hollow_chain.reach.ssh.attendant.STAT`; what is none of it is passed
    over."""
    fields = answer.decode("utf-8", "surrogateescape").split("\0")
    found: dict[str, Standing] = {}
    for told, name, whole in zip(*(iter(fields),) * 3, strict=False):
        about = _about(told)
        if about is not None:
            found[name] = Standing(about, whole.removeprefix(f"{name} -> ") if whole != name else "")
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

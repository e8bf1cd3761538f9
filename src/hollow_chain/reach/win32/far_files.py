"""Files of another machine of this kind through the shares of its drives, by the system's own client."""

from __future__ import annotations

import os
from pathlib import Path

from hollow_chain.reach.control import Declined
from hollow_chain.reach.shares import FileAttributes, Shares
from hollow_chain.reach.win32.declining import declining

_NO_SHARE = (53, 67)
"""``ERROR_BAD_NETPATH``, ``ERROR_BAD_NET_NAME``."""


class FarShares(Shares):
    """What stands on the drives of the machine called *server* (``\\\\NAME``)."""

    def __init__(self, server: str) -> None:
        super().__init__()
        self._server = server
        self._drives: dict[str, Declined | None] = {}

    def _path(self, letter: str, rest: str) -> Path:
        return Path(f"{self._server}\\{letter}$\\{rest}")

    def drive(self, letter: str) -> None:
        """The share of a drive."""
        if letter not in self._drives:
            try:
                with declining():
                    self._path(letter, "").stat()
                self._drives[letter] = None
            except Declined as declined:
                number = 67 if declined.number in (2, 3, *_NO_SHARE) else declined.number
                self._drives[letter] = Declined(number, declined.strerror or "")
        if (refused := self._drives[letter]) is not None:
            raise refused

    def look(self, letter: str, rest: str) -> FileAttributes | None:
        """What stands at a path of a drive."""
        try:
            about = self._path(letter, rest).lstat()
        except (FileNotFoundError, NotADirectoryError):
            return None
        return FileAttributes(about.st_file_attributes, about.st_size, about.st_mtime)

    def listed(self, letter: str, rest: str) -> list[str]:
        """The names in a folder of a drive."""
        return os.listdir(self._path(letter, rest))  # noqa: PTH208 - names are wanted, not paths

    def part(self, letter: str, rest: str, begins: int, most: int) -> bytes:
        """Up to *most* bytes of a file of a drive."""
        with self._path(letter, rest).open("rb") as file:
            file.seek(begins)
            return file.read(most)

"""Where a store of readings lies: a folder of this machine, or whatever an address of fsspec means (extra ``fleet``).

Names within it are relative, with ``/`` between their parts. What is written is there whole or not at all: in a folder by a rename, at
an address by an upload under another name and a move.
"""

from __future__ import annotations

import errno
import os
import stat
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import Any, Protocol

from hollow_chain.lacking import needs
from hollow_chain.lazy import pattern
from hollow_chain.reach.flags import flags
from hollow_chain.sources.files import write_atomically
from hollow_chain.trouble import Trouble, wrong_call

EXTRA = "fleet"
"""The extra that brings what stores need."""
_ADDRESS = pattern(r"^[A-Za-z][A-Za-z0-9+.\-]{1,30}://")
_READ = flags("RDONLY", "NOFOLLOW", "NONBLOCK", "CLOEXEC", "BINARY")
"""How what lies in a store is opened (open(2))."""
_OTHERS = stat.S_IWGRP | stat.S_IWOTH
"""The rights of others to write."""
_MADE_HALF = ".part"
"""How names of what is being written end; nothing of that ending is ever read."""


class Shelf(Protocol):
    """Where a store lies."""

    said: str
    """How a person calls it."""
    folder: Path | None
    """The folder on this machine; None where it is elsewhere."""

    def names(self, below: str) -> list[str]:
        """The names in a folder of it, sorted; none where there is no such folder."""

    def read(self, name: str, most: int) -> bytes:
        """Up to *most* bytes of what bears that name. Raises :class:`OSError`."""

    def write(self, name: str, data: bytes) -> None:
        """Put it there, whole or not at all. Raises :class:`~hollow_chain.trouble.Trouble`."""

    def remove(self, name: str) -> None:
        """Take it away; nothing, where it is not there. Raises :class:`~hollow_chain.trouble.Trouble`."""

    def opened(self, name: str) -> Any:
        """What bears that name, opened to be read, as a context. Raises :class:`OSError`."""

    def guard(self, name: str) -> None:
        """Raise :class:`~hollow_chain.trouble.Trouble` where somebody else could lead what is written as *name*, or removed, to another
        place."""


def shelf(named: str) -> Shelf:
    """Where a store lies that is *named* so. Raises :class:`~hollow_chain.trouble.Trouble` (2) where that means nothing."""
    if _ADDRESS.match(named):
        return _Elsewhere(named)
    return _Here(Path(named))


class _Here:
    """A folder of this machine."""

    def __init__(self, folder: Path) -> None:
        self.folder: Path | None = folder
        self.said = str(folder)
        self._root = folder
        self._own: set[Path] = set()

    def names(self, below: str) -> list[str]:
        try:
            found = [entry.name for entry in (self._root / below).iterdir()]
            return sorted(name for name in found if not name.endswith(_MADE_HALF))
        except (FileNotFoundError, NotADirectoryError):
            return []
        except OSError as error:
            raise Trouble(f"cannot read {self._root / below}: {(error.strerror or str(error)).lower()}") from None

    def read(self, name: str, most: int) -> bytes:
        with self.opened(name) as file:
            return bytes(file.read(most))

    def write(self, name: str, data: bytes) -> None:
        path = self._root / name
        try:
            self.guard(name)
            # One by one: with parents=True those on the way would be open to whom the umask leaves them open.
            for folder in (*reversed(path.parent.parents), path.parent):
                if not folder.is_dir():
                    folder.mkdir(mode=0o700, exist_ok=True)
        except OSError as error:
            raise Trouble(f"cannot make {path.parent}: {(error.strerror or str(error)).lower()}") from None
        self.guard(name)  # what was not there before the folders were made may have been put there by somebody else
        write_atomically(path, data, 0o600, named=False)

    def remove(self, name: str) -> None:
        path = self._root / name
        self.guard(name)
        try:
            path.unlink(missing_ok=True)
            if path.parent != self._root and not any(path.parent.iterdir()):
                path.parent.rmdir()
        except FileNotFoundError:
            return
        except OSError as error:
            raise Trouble(f"cannot remove {path}: {(error.strerror or str(error)).lower()}") from None

    def opened(self, name: str) -> Any:
        # Neither a link nor a pipe that somebody has put there: the one leads elsewhere, the other waits for ever.
        handle = os.open(self._root / name, _READ)
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            os.close(handle)
            raise OSError(errno.EINVAL, "it is no file")
        return os.fdopen(handle, "rb")

    def guard(self, name: str) -> None:
        if not hasattr(os, "geteuid") or os.geteuid() != 0:
            return  # with nobody's rights but his own, whoever calls can only be led to what is his
        place = self._root
        for part in ("", *PurePosixPath(name).parent.parts):
            place = place / part
            if place in self._own:
                continue
            try:
                about = place.lstat()
            except FileNotFoundError:
                return  # it is made, and is then root's own
            if not stat.S_ISDIR(about.st_mode):
                raise Trouble(
                    f"{place} is no folder, but something that leads elsewhere: nothing is written there as root"
                )
            if about.st_uid != 0 or about.st_mode & _OTHERS:
                raise Trouble(
                    f"others than root can write into {place}, and could lead root elsewhere: call this as its owner, or name a"
                    " folder that is root's alone"
                )
            self._own.add(place)


class _Elsewhere:
    """What an address of fsspec means."""

    def __init__(self, address: str) -> None:
        with needs(EXTRA, f"a store at {address.partition('://')[0]}://"):
            import fsspec

        self.folder: Path | None = None
        self.said = address
        try:
            self._system, self._root = fsspec.core.url_to_fs(address)
        except ImportError as error:
            raise wrong_call(f"{address}: {error}") from None
        except Exception as error:  # each of its many systems has errors of its own
            raise wrong_call(f"{address} is no place for a store: {error}") from None

    def _at(self, name: str) -> str:
        return f"{self._root.rstrip('/')}/{name}"

    def guard(self, name: str) -> None:
        """Who may write there is that place's business."""

    def names(self, below: str) -> list[str]:
        with self._answering(f"cannot read {self.said}/{below}"):
            try:
                found = self._system.ls(self._at(below), detail=False)
            except (FileNotFoundError, NotADirectoryError):
                return []
        names = (str(one).rstrip("/").rpartition("/")[2] for one in found)
        return sorted(name for name in names if name and not name.endswith(_MADE_HALF))

    def read(self, name: str, most: int) -> bytes:
        with self.opened(name) as file:
            return bytes(file.read(most))

    def write(self, name: str, data: bytes) -> None:
        path = self._at(name)
        half = f"{path}.{uuid.uuid4().hex[:8]}{_MADE_HALF}"
        with self._answering(f"cannot write {self.said}/{name}"):
            self._system.makedirs(path.rpartition("/")[0], exist_ok=True)
            with self._system.open(half, "wb") as file:
                file.write(data)
            self._system.mv(half, path)

    def remove(self, name: str) -> None:
        with self._answering(f"cannot remove {self.said}/{name}"):
            if self._system.exists(self._at(name)):
                self._system.rm_file(self._at(name))

    @contextmanager
    def opened(self, name: str) -> Iterator[Any]:
        try:
            with self._system.open(self._at(name), "rb") as file:
                yield file
        except (OSError, ValueError):
            raise
        except Exception as error:  # each of its many systems has errors of its own
            raise OSError(f"{type(error).__name__}: {error}") from None

    @contextmanager
    def _answering(self, what: str) -> Iterator[None]:
        """Each of the many systems has errors of its own; whatever it is, it becomes one line."""
        try:
            yield
        except Trouble:
            raise
        except Exception as error:
            raise Trouble(f"{what}: {str(error) or type(error).__name__}") from None

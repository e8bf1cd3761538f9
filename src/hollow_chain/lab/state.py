"""What a stand-in host keeps between calls: one file, ``host.json``, that is a snapshot with one more key, ``lab``.

Whatever reads snapshots reads it as any host's; what only the stand-in itself may know (its faults, what will happen next)
stands under ``lab``, and readers of the format pass over it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec

from hollow_chain import decoding
from hollow_chain.facts.codec import SnapshotError, decode
from hollow_chain.facts.host import Host, snapshot
from hollow_chain.facts.part import Moment, Part
from hollow_chain.reach.locks import Taken, held
from hollow_chain.trouble import Trouble

FORMAT = "hollow-chain/lab"
VERSION = 1
"""Version of the file that a stand-in host is kept in."""
FILE = "host.json"
_LOCK = ".lock"


class LabFault(Part):
    """A fault that was put in; see ``faults.KINDS``."""

    kind: str
    service: str
    other: str = ""
    seconds: float = 0.0


class Coming(Part):
    """Something that will happen, once the clock is there."""

    at: Moment
    service: str
    what: str
    """``begins``, ``up``, ``failed`` (a start) or ``ended`` (what was up)."""
    cause: str = ""
    blame: str = ""
    took: float = 0.0
    at_boot: bool = False


class Lab(Part):
    """What only the stand-in itself knows."""

    format: str = FORMAT
    version: int = VERSION
    seed: int = 1
    tries: int = 0
    """Starts and boots so far: each has chances of its own."""
    limit_in_force: float | None = None
    """The one start limit that holds until the next boot, where another one was set since the last."""
    faults: list[LabFault] = []
    coming: list[Coming] = []


class HostFolder:
    """A stand-in host on disk."""

    def __init__(self, path: Path, host: Host, lab: Lab) -> None:
        self.path, self.host, self.lab = path, host, lab

    @property
    def clock(self) -> datetime:
        """Its own time."""
        if self.host.read_at is None:
            raise Trouble(f"{self.path / FILE} has no moment of reading, so the stand-in host has no clock")
        return self.host.read_at

    def save(self) -> None:
        """Write all of it, whole or not at all."""
        from hollow_chain.sources.files import write_atomically

        document: dict[str, Any] = msgspec.to_builtins(snapshot([self.host], "hollow-chain lab"))
        document["lab"] = msgspec.to_builtins(self.lab)
        write_atomically(self.path / FILE, msgspec.json.format(msgspec.json.encode(document), indent=1), 0o600)


def load(path: Path) -> HostFolder:
    """The stand-in host in *path*. Raises :class:`Trouble` where there is none, or it cannot be read."""
    file = path / FILE
    try:
        data = file.read_bytes()
    except OSError as error:
        hint = "" if path.is_dir() else "; make one with 'hollow-chain lab make'"
        raise Trouble(f"no stand-in host in {path}: {(error.strerror or str(error)).lower()}{hint}") from None
    try:
        found = decode(data)
        lab = decoding.of_plain(msgspec.json.decode(data).get("lab"), Lab)
    except (SnapshotError, msgspec.MsgspecError, AttributeError) as error:
        raise Trouble(f"cannot read {file}: {error}") from None
    if lab.format != FORMAT or lab.version != VERSION or len(found.hosts) != 1:
        raise Trouble(f"cannot read {file}: not a stand-in host of version {VERSION}")
    return HostFolder(path, found.hosts[0], lab)


@contextlib.contextmanager
def changing(path: Path) -> Iterator[HostFolder]:
    """The stand-in host in *path*, for one change at a time; written when all went well, left as it was otherwise."""
    if not path.is_dir():
        raise Trouble(f"no stand-in host in {path}: no such folder; make one with 'hollow-chain lab make'")
    with contextlib.ExitStack() as stack:
        try:
            stack.enter_context(held(path / _LOCK))
        except Taken:
            raise Trouble(f"another call changes {path} at this moment; try again when it is done") from None
        except OSError as error:
            raise Trouble(f"cannot write in {path}: {(error.strerror or str(error)).lower()}") from None
        folder = load(path)
        yield folder
        folder.save()


def make(path: Path, host: Host, seed: int) -> HostFolder:
    """Make a stand-in host in *path* from the facts of *host*. Raises :class:`Trouble` where there is one already."""
    if (path / FILE).exists():
        raise Trouble(f"there is a stand-in host in {path} already; name another folder, or remove it")
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise Trouble(f"cannot make the folder {path}: {(error.strerror or str(error)).lower()}") from None
    path.chmod(0o700)
    folder = HostFolder(path, host, Lab(seed=seed))
    folder.save()
    return folder

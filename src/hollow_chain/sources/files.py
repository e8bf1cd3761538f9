"""Snapshot files and folders of them: the disk side of :mod:`hollow_chain.facts.codec`."""

from __future__ import annotations

import contextlib
import os
import stat
import tempfile
from datetime import UTC, datetime
from pathlib import Path

from hollow_chain.facts.bounds import FACTOR, could_take_too_much
from hollow_chain.facts.codec import MAX_BYTES, SnapshotError, decode
from hollow_chain.facts.host import Host, Snapshot, Unread
from hollow_chain.reach.memory import fits
from hollow_chain.trouble import Trouble

STORE_HEADER = "store.json"
"""The file by which a folder is known to be a store of readings."""
SUFFIXES = (".json", ".yaml", ".yml", ".json.gz")
_LONG_AGO = datetime(1, 1, 2, tzinfo=UTC)


def read(place: Path) -> Snapshot:
    """All hosts of the snapshot file *place*, or of every snapshot file in the folder *place*.

    A host that several files of a folder describe is taken from the newest reading. A file of the folder that
    cannot be read is told in ``unread``; if none can, that is a :class:`Trouble`.
    """
    if place.is_dir():
        return _read_folder(place)
    return _read_file(place)


def _read_file(path: Path) -> Snapshot:
    try:
        data = content(path)
        if could_take_too_much(data) and not fits(lambda: decode(data), FACTOR * len(data)):
            raise SnapshotError(f"it would take more than {FACTOR} times its {len(data) >> 20} MiB in memory")
        found = decode(data)
    except OSError as error:
        raise Trouble(f"cannot read {path}: {(error.strerror or str(error)).lower()}") from None
    except SnapshotError as error:
        raise Trouble(f"cannot read {path}: {error}") from None
    return _without_twins(found)


def content(path: Path) -> bytes:
    """What a snapshot file holds, unpacked. Raises :class:`OSError` and :class:`SnapshotError`."""
    with path.open("rb") as file:
        about = os.fstat(file.fileno())
        if not stat.S_ISREG(about.st_mode) and not stat.S_ISFIFO(about.st_mode):
            raise SnapshotError("it is not a file")
        if about.st_size > MAX_BYTES:
            raise SnapshotError(f"it has {about.st_size >> 20} MiB; up to {MAX_BYTES >> 20} MiB are read")
        # As much as is there, and no more: not every system gives out memory that is only asked for without filling it.
        return unpacked(file.read((about.st_size or MAX_BYTES) + 1))


_PACKED = b"\x1f\x8b"
"""How compressed data begin (RFC 1952, 2.3.1)."""


def unpacked(data: bytes) -> bytes:
    """*data*, unpacked where they are compressed, and never more than a snapshot may have. Raises :class:`SnapshotError`."""
    if not data.startswith(_PACKED):
        return data
    import zlib

    worker = zlib.decompressobj(wbits=31)
    try:
        found = worker.decompress(data, MAX_BYTES + 1)
    except zlib.error as error:
        raise SnapshotError(f"it is compressed, and damaged ({error})") from None
    if len(found) > MAX_BYTES:
        raise SnapshotError(f"unpacked it has more than {MAX_BYTES >> 20} MiB")
    if not worker.eof:
        raise SnapshotError("it is compressed, and breaks off in the middle")
    return found


def _read_folder(folder: Path) -> Snapshot:
    try:
        paths = sorted(p for p in folder.iterdir() if p.name.lower().endswith(SUFFIXES))
    except OSError as error:
        raise Trouble(f"cannot read {folder}: {(error.strerror or str(error)).lower()}") from None
    if not paths:
        raise Trouble(f"cannot read {folder}: no snapshot file in it ({', '.join(SUFFIXES)})")
    read_ones: list[Snapshot] = []
    failed: list[str] = []
    for path in paths:
        try:
            read_ones.append(_read_file(path))
        except Trouble as error:
            failed.append(str(error))
    if not read_ones:
        raise Trouble(failed[0] + (f" (and {len(failed) - 1} more)" if len(failed) > 1 else ""))
    whole = merged(read_ones)
    whole.unread += [Unread(what=reason) for reason in failed]
    return whole


def merged(documents: list[Snapshot]) -> Snapshot:
    """All hosts of *documents* in one; of a host that stands in several, the newest reading."""
    whole = documents[0]
    hosts: dict[str, Host] = {}
    for document in documents:
        for host in document.hosts:
            known = hosts.get(host.name)
            if known is None or (known.read_at or _LONG_AGO) < (host.read_at or _LONG_AGO):
                hosts[host.name] = host
        if document is not whole:
            whole.unread += document.unread
            whole.firewalls += document.firewalls
            whole.unreached += document.unreached
    whole.hosts = list(hosts.values())
    return whole


def _without_twins(found: Snapshot) -> Snapshot:
    """Keep the first of several entries of one name, and say so: guessing which is meant would be worse."""
    hosts: dict[str, Host] = {}
    for host in found.hosts:
        if host.name in hosts:
            found.unread.append(Unread(what=f"second entry of host {host.name}", why="the name stands there twice"))
            continue
        hosts[host.name] = host
        names = {service.name: service for service in reversed(host.services)}
        if len(names) < len(host.services):
            twins = len(host.services) - len(names)
            host.services = list(reversed(names.values()))
            host.unread.append(
                Unread(what=f"{twins} services", why="their names stand there twice; the first was kept")
            )
    if len(hosts) < len(found.hosts):
        found.hosts = list(hosts.values())
    return found


def write_atomically(path: Path, data: bytes, mode: int = 0o600, named: bool = True) -> None:
    """Put *data* in the file *path* so that a reader or a power cut sees the old content or the new, never half.

    What a symbolic link points at is replaced, not the link; into a pipe or device the data are simply written: whoever *named*
    the path means that. Where nobody did, the link itself is replaced, and into anything else nothing is written.
    Raises :class:`Trouble` with the reason where that is not possible; what was there is then untouched.
    """
    # A link that the kernel does not let even root follow counts as what it is: nothing that is there.
    if named and os.path.exists(path) and not os.path.isfile(path):  # noqa: PTH110, PTH113
        _write_plainly(path, data)
        return
    if named:
        check_link(path)
        path = Path(os.path.realpath(path))
    elif os.path.lexists(path) and not path.is_symlink() and not path.is_file():
        raise Trouble(f"cannot write {path}: what stands there is no file; name another with --out")
    folder = path.parent
    scratch: str | None = None
    try:
        handle, scratch = tempfile.mkstemp(prefix=f".{path.name[:60]}.", suffix=".part", dir=folder)
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        Path(scratch).chmod(mode)
        Path(scratch).replace(path)
    except OSError as error:
        raise Trouble(f"cannot write {path}: {(error.strerror or str(error)).lower()}") from None
    finally:
        if scratch is not None:
            with contextlib.suppress(OSError):
                Path(scratch).unlink(missing_ok=True)


def check_link(path: Path) -> None:
    """Raise :class:`Trouble` where *path* is a link that somebody else put into a folder that all may write in: whoever it leads to
    is his choice (proc(5), "protected_symlinks", which not every host has on)."""
    with contextlib.suppress(OSError):
        link, folder = path.lstat(), path.parent.stat()
        open_to_all = folder.st_mode & stat.S_ISVTX and folder.st_mode & stat.S_IWOTH
        if stat.S_ISLNK(link.st_mode) and open_to_all and link.st_uid not in (os.geteuid(), folder.st_uid):
            raise Trouble(f"cannot write {path}: it is a link that somebody else made in a folder for all")


def _write_plainly(path: Path, data: bytes) -> None:
    try:
        with path.open("wb", buffering=0) as stream:
            stream.write(data)
    except OSError as error:
        raise Trouble(f"cannot write {path}: {(error.strerror or str(error)).lower()}") from None

"""What is being done to a host, on disk before it is done: so that a crash between any two steps can be resumed or taken back.

One file a mend, JSON Lines, only ever appended to. A record is there as a whole or not at all: each line carries the length of its
record and a checksum over it, is written to its end and is on the disk (fsync(2)) before what it announces is begun. What a crash or
a full disk has left behind the last whole record announced nothing that was begun, and is cut off again. ``docs/mend.md`` documents
the format.
"""

from __future__ import annotations

import contextlib
import os
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

import msgspec

from hollow_chain import decoding
from hollow_chain.facts.part import Moment
from hollow_chain.mend.plan import Step
from hollow_chain.reach.flags import flags
from hollow_chain.reach.lasting import sync_folder, write_at
from hollow_chain.reach.locks import Taken, take
from hollow_chain.trouble import Trouble, wrong_call

FORMAT = "hollow-chain/mend"
VERSION = 2
"""Version of the journal's format."""
_VERSIONS = (1, 2)
"""Version 1 had the records alone, without length and checksum."""
_SUFFIX = ".jsonl"
_LOCK = ".lock"
MAX_BYTES = 64 << 20
"""Bytes of a journal that are read: a mend keeps the files that it changes, each of a few MiB at most."""
What = Literal["begun", "before", "after", "asked", "undoing", "undone", "closed"]


class Record(msgspec.Struct, omit_defaults=True):
    """One line."""

    what: What
    at: Moment
    format: str = ""
    version: int = 0
    id: str = ""
    host: str = ""
    machine: str = ""
    """What tells this machine from all others, however it is called."""
    machines: dict[str, str] = {}
    """The same of each host that steps are for, where they are for others than this one."""
    target: str = ""
    does: str = ""
    """What it does to its target, where that is no mend: ``register``, ``edit`` or ``unregister``."""
    ports: list[int] = []
    """Ports that the target has to hold afterwards."""
    now_only: bool = False
    read_at: Moment | None = None
    """When the facts were read that the plan was made from, by the clock of the host."""
    tries: list[list[Step]] = []
    dependents: list[str] = []
    dependents_at: list[tuple[str, str]] = []
    """The same on other hosts: each with its host."""
    causes: list[str] = []
    attempt: int = 0
    """The try, from 0."""
    step: int = 0
    """The step of the try, from 0."""
    kept: dict[str, Any] = {}
    """What was there before the step: all that is needed to take it back."""
    skipped: bool = False
    by_hand: bool = False
    """Of a step that a person has done."""
    how: str = ""
    """Of the last record: ``held``, ``not held``, ``undone``, or ``left`` (nothing was changed, and another plan took its place)."""


class Line(msgspec.Struct):
    """A record as it stands in the file."""

    length: int
    """Bytes of the record's JSON."""
    crc32: str
    """Checksum over these bytes (ISO/IEC 3309), in hexadecimal."""
    record: msgspec.Raw


def line_of(record: Record) -> bytes:
    """The line that carries *record*."""
    data = msgspec.json.encode(record)
    return msgspec.json.encode(Line(len(data), f"{zlib.crc32(data):08x}", msgspec.Raw(data))) + b"\n"


@dataclass
class MendProgress:
    """How far a mend has come, from its records alone."""

    done: list[tuple[int, int, dict[str, Any]]] = field(default_factory=list)
    """Steps that are carried out, oldest first: the try, the step, what was kept."""
    begun: tuple[int, int, dict[str, Any]] | None = None
    """A step that was begun and of which nobody knows how far it came."""
    closed: str = ""
    undoing: bool = False
    asked: tuple[int, int] | None = None
    """A step for a person that is waited for."""
    by_hand: list[tuple[int, int]] = field(default_factory=list)
    """Steps that a person has done."""

    @property
    def attempt(self) -> int:
        """The try that is under way."""
        places = [one[0] for one in self.done] + [one[0] for one in self.by_hand]
        places += [one[0] for one in (self.begun, self.asked) if one is not None]
        return max(places, default=0)


def standing_of(records: list[Record]) -> MendProgress:
    """How far a mend has come."""
    now = MendProgress()
    for record in records:
        place = (record.attempt, record.step)
        if record.what == "asked":
            now.asked = place
        elif record.what == "before":
            now.begun = (*place, record.kept)
        elif record.what == "after" and now.begun is not None and now.begun[:2] == place:
            if record.by_hand:
                now.by_hand.append(place)
            elif not record.skipped:
                now.done.append(now.begun)
            now.begun = None
            now.asked = None if now.asked == place else now.asked
        elif record.what == "undone":
            now.done = [one for one in now.done if one[:2] != place]
            now.begun = None if now.begun is not None and now.begun[:2] == place else now.begun
            now.asked = None
        elif record.what in ("undoing", "closed"):
            now.undoing = record.what == "undoing"
            now.closed = record.how if record.what == "closed" else now.closed
    return now


class MendJournal:
    """The records of one mend."""

    def __init__(self, path: Path, records: list[Record], whole: int = 0, torn: bool = False) -> None:
        self.path, self.records = path, records
        self.whole = whole
        """Up to which byte of the file its records are whole."""
        self.torn = torn
        """Whether something that is no whole record stood behind them."""

    @property
    def head(self) -> Record:
        """What it is about."""
        return self.records[0]

    @property
    def id(self) -> str:
        """Its name."""
        return self.head.id

    @property
    def standing(self) -> MendProgress:
        """How far it has come."""
        return standing_of(self.records)

    def write(self, record: Record) -> None:
        """Append a record, and wait until the whole of it is on the disk. Raises :class:`Trouble`, and then nothing of it is."""
        line = line_of(record)
        try:
            handle = os.open(self.path, flags("WRONLY", "CREAT", "NOFOLLOW", "CLOEXEC", "BINARY"), 0o600)
            try:
                os.ftruncate(handle, self.whole)  # what a crash has left half
                _append(handle, line, self.whole)
            finally:
                os.close(handle)
            sync_folder(self.path.parent)
        except OSError as error:
            if not self.whole:
                with contextlib.suppress(OSError):
                    self.path.unlink()
            raise Trouble(f"cannot write {self.path}: {(error.strerror or str(error)).lower()}") from None
        self.whole += len(line)
        self.records.append(record)

    def note(self, what: What, attempt: int = 0, step: int = 0, **more: Any) -> None:
        """Write a record of now."""
        self.write(Record(what=what, at=datetime.now(UTC), attempt=attempt, step=step, **more))


def _append(handle: int, line: bytes, at: int) -> None:
    """Write the whole of *line* at the byte *at*, or leave the file as it was. Raises :class:`OSError`."""
    try:
        written = 0
        while written < len(line):  # write(2) may take less than it is given, on a disk that is filling up
            written += write_at(handle, line[written:], at + written)
        os.fsync(handle)
    except OSError:
        with contextlib.suppress(OSError):
            os.ftruncate(handle, at)
            os.fsync(handle)
        raise


def begin(place: Path, head: Record, named: str = "") -> MendJournal:
    """A new journal in the folder *place*. Raises :class:`Trouble` where another mend there is not finished; *named* is the option that
    names the host, for the lines to type."""
    open_ones = []
    for one in all_in(place, told=True):
        standing = one.standing
        if standing.closed:
            continue
        if standing.asked and not (standing.done or standing.by_hand or standing.begun):
            one.note("closed", how="left")  # it waits for a person, and has changed nothing
        else:
            open_ones.append(one)
    if open_ones:
        left = open_ones[-1]
        waits = left.standing.asked
        if waits is not None:
            raise wrong_call(
                f"the mend {left.id} of {left.head.target} waits for step {waits[1] + 1}, which is by hand: first "
                f"'hollow-chain mend --done {waits[1] + 1}{named}' or 'hollow-chain mend --undo {left.id}{named}'"
            )
        raise wrong_call(
            f"the mend {left.id} of {left.head.target} was interrupted: first 'hollow-chain mend --resume {left.id}{named}' or "
            f"'hollow-chain mend --undo {left.id}{named}'"
        )
    head.id = _free_id(place, head.at)
    journal = MendJournal(place / f"{head.id}{_SUFFIX}", [])
    journal.write(head)
    return journal


def _free_id(place: Path, at: datetime) -> str:
    stem = f"{at:%Y%m%d-%H%M%S}"
    names = [stem, *(f"{stem}-{number}" for number in range(2, 1000))]
    return next(name for name in names if not (place / f"{name}{_SUFFIX}").exists())


def all_in(place: Path, told: bool = False) -> list[MendJournal]:
    """All journals in the folder *place*, oldest first; what is none is passed over, or *told* by a :class:`Trouble`."""
    if not place.is_dir():
        return []
    found = []
    for path in place.glob(f"*{_SUFFIX}"):
        try:
            found.append(read(path))
        except Trouble as trouble:
            if told and path.stat().st_size:
                raise Trouble(f"{trouble}; look at it, and move it away before anything else is mended") from None
    return sorted(found, key=lambda one: (one.head.at, one.id))


def find(
    place: Path, name: str = "", interrupted: bool = False, waits: bool = False, does: tuple[str, ...] | None = None
) -> MendJournal:
    """The journal of that name; where none is named, the latest one that can be taken back (or was *interrupted*, or *waits* for a
    person).

    Raises :class:`Trouble`.
    """
    known = all_in(place)
    if name:
        path = place / f"{name}{_SUFFIX}"
        if "/" in name or name.startswith(".") or not path.exists():
            names = ", ".join(one.id for one in known[-5:])
            raise wrong_call(
                f"no mend {name!r} in {place}{f'; there are: {names}' if names else ': none was carried out'}"
            )
        return read(path)
    if interrupted:
        open_ones = [one for one in known if not one.standing.closed]
        if waits:
            open_ones = [one for one in open_ones if one.standing.asked]
        if not open_ones:
            raise wrong_call(
                "no mend waits for a step by hand"
                if waits
                else "no mend was interrupted; there is nothing to go on with"
            )
        return open_ones[-1]
    left = [one for one in known if one.standing.closed != "undone" and (does is None or one.head.does in does)]
    if not left:
        raise wrong_call(f"nothing to undo: {place} holds no mend that was carried out and not undone")
    return left[-1]


def read(path: Path) -> MendJournal:
    """The journal in the file *path*. Raises :class:`Trouble` where it cannot be read, or is none."""
    try:
        if path.stat().st_size > MAX_BYTES:
            raise Trouble(f"cannot read {path}: larger than {MAX_BYTES >> 20} MiB")
        lines = path.read_bytes().split(b"\n")
    except OSError as error:
        raise Trouble(f"cannot read {path}: {(error.strerror or str(error)).lower()}") from None
    records, whole = _whole_records(path, lines)
    if not records or records[0].format != FORMAT or records[0].version not in _VERSIONS or records[0].what != "begun":
        raise Trouble(f"cannot read {path}: not a mend of version {VERSION}")
    size = sum(map(len, lines)) + len(lines) - 1
    return MendJournal(path, records, whole, whole < size)


def _whole_records(path: Path, lines: list[bytes]) -> tuple[list[Record], int]:
    """The records up to the last whole one, and how many bytes they take. Raises :class:`Trouble` where a whole one follows one
    that is damaged: what was in between must not be guessed at."""
    records: list[Record] = []
    whole, damaged = 0, 0
    at = 0
    for number, line in enumerate(lines, 1):
        ended = number < len(lines)  # the last piece has no end of line behind it
        record = _record_of(line) if ended else None
        at += len(line) + 1
        if record is None:
            damaged = damaged or (number if line.strip() else 0)
            if ended and not records and line.strip():
                raise Trouble(f"cannot read {path}, line {number}: no record of a mend")
        elif damaged:
            raise Trouble(f"cannot read {path}, line {damaged}: the record is damaged, and others follow it")
        else:
            records.append(record)
            whole = at
    return records, whole


def _record_of(line: bytes) -> Record | None:
    """The record of a line; None where the line is not whole."""
    try:
        if line.startswith(b'{"what"'):  # version 1
            return decoding.of_json(line, Record)
        found = decoding.of_json(line, Line)
        data = bytes(found.record)
        if len(data) != found.length or f"{zlib.crc32(data):08x}" != found.crc32:
            return None
        return decoding.of_json(data, Record)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        return None


@contextlib.contextmanager
def locked(place: Path) -> Iterator[None]:
    """The folder *place*, made if it is not there, for one mender at a time. Raises :class:`Trouble`."""
    try:
        place.mkdir(parents=True, exist_ok=True, mode=0o700)
        lock = take(place / _LOCK)
    except Taken:
        raise wrong_call(f"somebody else is mending this host at this moment ({place / _LOCK} is locked)") from None
    except OSError as error:
        raise Trouble(f"cannot write in {place}: {(error.strerror or str(error)).lower()}") from None
    try:
        yield
    finally:
        lock.release()

"""A store of readings: snapshots of many hosts at many moments, kept in rounds. Format, version 1; ``docs/fleet.md`` documents it.

A *round* is what one call kept: a file with what belongs to no single host, and a snapshot for each host that was read. The snapshots
are all that counts: the index beside them (:mod:`hollow_chain.fleet.index`) can be made of them at any time.
"""

from __future__ import annotations

import gzip
import hashlib
import secrets
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

import msgspec

from hollow_chain import decoding
from hollow_chain.facts.codec import MAX_BYTES, SnapshotError, decode
from hollow_chain.facts.host import Firewall, Host, Probe, Snapshot, UnreachedHost
from hollow_chain.facts.part import Listed, Long, Moment, Part
from hollow_chain.lazy import pattern
from hollow_chain.sources.files import STORE_HEADER, unpacked
from hollow_chain.sources.shelves import Shelf, shelf
from hollow_chain.trouble import Trouble, wrong_call

FORMAT = "hollow-chain/readings"
VERSION = 1
HEADER = STORE_HEADER
READINGS, ROUNDS = "readings", "rounds"
_END = ".json.gz"
_ROUND = pattern(r"\d{8}T\d{6}\.\d{6}Z-[0-9a-f]{8}")
_MAX_HEADER = 4096
"""Bytes of the header that are read: it has some sixty."""
_MOMENT = "%Y%m%dT%H%M%S.%fZ"
_NUMBER = pattern(r"\d{8}T\d{6}\.\d{6}Z-[0-9a-f]{8}\Z")


class _Header(msgspec.Struct):
    format: str = ""
    version: int = 0


class KeptReading(Part):
    """One reading of a round."""

    host: str
    file: str
    """Where its snapshot lies, from the root of the store on."""
    hangs_on: Listed[str] = []
    """Other hosts that services of it need something of: these are diagnosed together with it."""


class Round(Part):
    """What one call kept: the readings, and what belongs to no single host."""

    format: str
    version: int
    kept_at: Moment
    """By the clock of whoever kept it."""
    written_by: str = ""
    readings: Long[KeptReading] = []
    groups: dict[str, Listed[str]] = {}
    """The groups that each host is a member of."""
    firewalls: Listed[Firewall] = []
    unreached: Long[UnreachedHost] = []
    """Hosts that were asked and could not be read."""
    probes: Listed[Probe] = []


class ReadingFile(NamedTuple):
    """A snapshot in the store, by its name alone."""

    host_folder: str
    round: str

    @property
    def path(self) -> str:
        """Where it lies, from the root of the store on."""
        return f"{READINGS}/{self.host_folder}/{self.round}{_END}"


class Readings:
    """A store of readings."""

    def __init__(self, place: Shelf, is_new: bool = False) -> None:
        """*is_new*: nothing is there yet, and it is made with the first reading."""
        self.place, self._is_new = place, is_new

    def make(self) -> None:
        """Have it there, before anything is put into it. Raises :class:`~hollow_chain.trouble.Trouble`."""
        if self._is_new:
            self.place.write(HEADER, msgspec.json.encode({"format": FORMAT, "version": VERSION}) + b"\n")
            self._is_new = False

    @property
    def said(self) -> str:
        """How a person calls it."""
        return self.place.said

    @property
    def address(self) -> str:
        """How a process with another working folder calls it."""
        return str(self.place.folder.resolve()) if self.place.folder is not None else self.place.said

    def rounds(self) -> list[str]:
        """The rounds that were kept, oldest first."""
        names = (name.removesuffix(_END) for name in self.place.names(ROUNDS))
        return sorted(name for name in names if _ROUND.fullmatch(name))

    def round(self, number: str) -> Round:
        """One round. Raises :class:`~hollow_chain.trouble.Trouble` where its file cannot be read."""
        name = f"{ROUNDS}/{number}{_END}"
        try:
            found = decoding.of_json(_content(self.place, name), Round)
        except OSError as error:
            raise Trouble(f"{self.said}: cannot read {name}: {(error.strerror or str(error)).lower()}") from None
        except (SnapshotError, msgspec.MsgspecError, RecursionError) as error:
            raise Trouble(f"{self.said}: cannot read {name}: {error}") from None
        if found.version > VERSION:
            raise Trouble(
                f"{self.said}: {name} is of version {found.version}; this program reads up to {VERSION}: update it"
            )
        return found

    def files(self) -> Iterator[ReadingFile]:
        """All snapshots that lie there, whether or not a round names them."""
        for folder in self.place.names(READINGS):
            for name in self.place.names(f"{READINGS}/{folder}"):
                number = name.removesuffix(_END)
                if name.endswith(_END) and _ROUND.fullmatch(number):
                    yield ReadingFile(folder, number)

    def snapshot(self, name: str) -> Snapshot:
        """The snapshot in the file *name* of the store. Raises :class:`~hollow_chain.trouble.Trouble`."""
        try:
            return decode(_content(self.place, name))
        except OSError as error:
            raise Trouble(f"{self.said}: cannot read {name}: {(error.strerror or str(error)).lower()}") from None
        except SnapshotError as error:
            raise Trouble(f"{self.said}: cannot read {name}: {error}") from None

    def newest(self) -> Iterator[str]:
        """The files of the newest reading of each host."""
        last = {one.host_folder: one for one in sorted(self.files(), key=lambda one: one.round)}
        for folder in sorted(last):
            yield last[folder].path


def is_store(named: str) -> bool:
    """Whether there is a store at that place of this machine."""
    return "://" not in named and (Path(named) / HEADER).is_file()


def open_store(named: str, make: bool = False) -> Readings:
    """The store that is *named* so; where *make* says so and nothing is there, one that is made with its first reading.

    Raises :class:`~hollow_chain.trouble.Trouble`: 2 where something else is there, 3 where it cannot be read.
    """
    place = shelf(named)
    try:
        data = place.read(HEADER, _MAX_HEADER)
    except (FileNotFoundError, NotADirectoryError):
        if not make:
            raise wrong_call(
                f"{named} is no store of readings; 'hollow-chain capture --keep {named}' makes one"
            ) from None
        return _made(place, named)
    except OSError as error:
        raise Trouble(f"cannot read {named}/{HEADER}: {(error.strerror or str(error)).lower()}") from None
    _check(data, named)
    return Readings(place)


def _made(place: Shelf, named: str) -> Readings:
    if place.folder is not None and place.folder.exists() and not place.folder.is_dir():
        raise wrong_call(f"{named} is a file, not a store of readings: name a folder")
    if place.names(""):
        raise wrong_call(
            f"{named} holds something else than readings: name an empty folder, or one that is not there yet"
        )
    return Readings(place, is_new=True)


def _check(data: bytes, named: str) -> None:
    try:
        header = decoding.of_json(data, _Header)
    except msgspec.MsgspecError as error:
        raise Trouble(
            f'{named}/{HEADER} is damaged ({error}): write {{"format": "{FORMAT}", "version": 1}} into it'
        ) from None
    if header.format != FORMAT:
        raise wrong_call(f"{named}/{HEADER} is of the format {header.format[:60]!r}, not {FORMAT!r}")
    if header.version > VERSION:
        raise Trouble(f"{named} is of version {header.version}; this program reads up to {VERSION}: update it")


def _content(place: Shelf, name: str) -> bytes:
    data = place.read(name, MAX_BYTES + 1)
    if len(data) > MAX_BYTES:
        raise SnapshotError(f"it has more than {MAX_BYTES >> 20} MiB")
    return unpacked(data)


class KeptSnapshots(NamedTuple):
    """What was kept."""

    number: str
    """Of the round."""
    round: Round
    bytes: int


def keep(store: Readings, found: Snapshot, groups: Mapping[str, list[str]], now: datetime) -> KeptSnapshots:
    """Add one reading of each host of *found*.

    What is to be kept is said first, in the file of the round, so that a call that is cut off is known to have been; a disk that fills up
    on the way costs the readings that were not yet written. Raises :class:`~hollow_chain.trouble.Trouble`.
    """
    number = f"{now.astimezone(UTC):{_MOMENT}}-{secrets.token_hex(4)}"
    folders = _apart([host.name for host in found.hosts])
    readings = [
        KeptReading(host=host.name, file=ReadingFile(folder, number).path, hangs_on=hangs_on(host))
        for host, folder in zip(found.hosts, folders, strict=True)
    ]
    known = {host.name: list(groups[host.name]) for host in found.hosts if groups.get(host.name)}
    known |= {one.name: list(groups[one.name]) for one in found.unreached if groups.get(one.name)}
    round_ = Round(
        format=FORMAT,
        version=VERSION,
        kept_at=now,
        written_by=found.written_by,
        readings=readings,
        groups=known,
        firewalls=found.firewalls,
        unreached=found.unreached,
        probes=found.probes,
    )
    store.make()
    size = _put(store.place, f"{ROUNDS}/{number}{_END}", msgspec.json.encode(round_))
    done = 0
    try:
        for host, reading in zip(found.hosts, readings, strict=True):
            size += _put(store.place, reading.file, msgspec.json.encode(_alone(found, host)))
            done += 1
    except Trouble as trouble:
        raise Trouble(
            f"{done} of {len(readings)} readings were kept, the rest not: {trouble}", trouble.status
        ) from None
    return KeptSnapshots(number, round_, size)


def _apart(names: Iterable[str]) -> list[str]:
    """The folders of hosts. There are file systems that take capitals and small letters for the same."""
    taken: set[str] = set()
    found = []
    for name in names:
        folder = folder_of(name)
        if folder.casefold() in taken:
            folder = f"{folder[: _LONGEST - 17]}-{_digest(name)}"
        taken.add(folder.casefold())
        found.append(folder)
    return found


def _digest(name: str) -> str:
    return hashlib.sha256(name.encode("utf-8", "replace")).hexdigest()[:16]


def _alone(found: Snapshot, host: Host) -> Snapshot:
    return msgspec.structs.replace(found, hosts=[host], unreached=[], firewalls=[], probes=[])


def _put(place: Shelf, name: str, data: bytes) -> int:
    packed = gzip.compress(data, 9, mtime=0)
    place.write(name, packed)
    return len(packed)


def hangs_on(host: Host) -> list[str]:
    """The other hosts that services of *host* need something of."""
    found = {link.host for service in host.services for link in service.links}
    found |= {want.host for service in host.services for want in service.seats}
    return sorted(found - {"", host.name})


_SAFE = frozenset("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.")
_LONGEST = 100
"""Characters of the name of a folder; what is longer gets a digest at its end."""


def folder_of(host: str) -> str:
    """The folder of the readings of a host: its name, with what no file system takes everywhere as ``%`` and two digits."""
    name = "".join(
        one if one in _SAFE else "".join(f"%{byte:02X}" for byte in one.encode("utf-8", "replace")) for one in host
    )
    if name.startswith("."):
        name = f"%2E{name[1:]}"
    return name if len(name) <= _LONGEST else f"{name[: _LONGEST - 17]}-{_digest(host)}"


def is_number(number: str) -> bool:
    """Whether that is how a round is called."""
    return bool(_NUMBER.match(number))


def moment_of(number: str) -> datetime:
    """When a round was kept, by its number."""
    return datetime.strptime(number.partition("-")[0], _MOMENT).replace(tzinfo=UTC)

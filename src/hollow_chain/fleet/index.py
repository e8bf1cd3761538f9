"""The index of a store: tables in Parquet (parquet.apache.org), a file of each a round, merged where they become many, and written for many
rounds at once where all is made anew.

It is made of the snapshots and can be made anew of them at any time. What takes the place of other files names them in its metadata, so
that a call that is cut off between writing and removing makes no reading count twice.
"""

from __future__ import annotations

import json
import os
from collections.abc import Collection, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, NamedTuple

from hollow_chain.fleet.columns import (
    FORMAT,
    FORMAT_KEY,
    HOSTS,
    PACKAGES,
    REPLACES_KEY,
    ROUNDS_KEY,
    SERVICES,
    VERSION,
    VERSION_KEY,
)
from hollow_chain.lacking import needs
from hollow_chain.sources.readings import Readings, is_number
from hollow_chain.sources.shelves import EXTRA, Shelf
from hollow_chain.trouble import Trouble

with needs(EXTRA, "an index of readings"):
    import pyarrow as pa
    import pyarrow.parquet as pq

HOSTS_PART, SERVICES_PART, PACKAGES_PART = "index/hosts", "index/services", "index/packages"
_PARTS = {SERVICES_PART: SERVICES, PACKAGES_PART: PACKAGES, HOSTS_PART: HOSTS}
"""The tables in the order in which they are written. The hosts come last: what counts as kept is what stands there."""
_END = ".parquet"
_MANY = 16
"""Files of a table from which on small ones are merged: opening one costs about a millisecond."""
_SMALL = 8 << 20
"""Bytes of a file that is merged with others; what is larger has paid for its opening."""
_MOST_ROWS = 200_000_000
"""Rows of a file that are read: a million hosts of two hundred services, which no memory of today holds as a survey."""
_LOCK = ".lock"
_GROUP = 128 << 10
"""Rows of a row group: as many as are written and held at a time."""
_UNREAD = (pa.ArrowInvalid, pa.ArrowNotImplementedError, pa.ArrowTypeError, pa.ArrowKeyError, OSError, ValueError)


class TableFile(NamedTuple):
    """A file of a table, as its metadata tell."""

    name: str
    rounds: list[str]
    replaces: list[str]
    size: int


class TableWriter:
    """Writes the tables of a row of rounds as their rows come, and puts them in their places at the end."""

    def __init__(self, place: Shelf, known: Collection[str]) -> None:
        """*known*: the sets of packages that are in the index already."""
        self._place = place
        self.sets = set(known)
        """The sets of packages that are in the index once this is written."""
        self.rounds: list[str] = []
        """The rounds whose rows are added."""
        self._tables = {part: _Pending(of) for part, of in _PARTS.items()}

    @property
    def name(self) -> str:
        """What the files are called: after their round, or after the last and the number of them, marked as made anew."""
        many = len(self.rounds)
        return f"{self.rounds[-1]}{_END}" if many == 1 else f"{self.rounds[-1]}-{many}-anew{_END}"

    @property
    def is_large(self) -> bool:
        """Whether a file has paid for its opening, so that further rounds are better off in another."""
        return any(table.written >= _SMALL for table in self._tables.values())

    def add(self, hosts: pa.RecordBatch, services: pa.RecordBatch, packages: pa.RecordBatch) -> None:
        """Add rows of each."""
        self._tables[HOSTS_PART].add(hosts)
        self._tables[SERVICES_PART].add(services)
        new = [place for place, name in enumerate(packages["packages"].to_pylist()) if name not in self.sets]
        if new:
            self.sets.update(map(str, packages["packages"].to_pylist()))
            self._tables[PACKAGES_PART].add(packages.take(pa.array(new)))

    def put(self) -> int:
        """Write the files; how many bytes they have."""
        size = 0
        about = {ROUNDS_KEY: json.dumps(self.rounds).encode()}
        for part, table in self._tables.items():
            data = table.closed(about)
            if part != PACKAGES_PART or table.rows:
                size += len(data)
                self._place.write(f"{part}/{self.name}", data)
        return size


class _Pending:
    """A table that is being written."""

    def __init__(self, of: pa.Schema) -> None:
        self.rows = 0
        self._sink = pa.BufferOutputStream()
        self._writer = _writer(self._sink, of, {})
        self._held: list[pa.RecordBatch] = []
        self._waiting = 0

    @property
    def written(self) -> int:
        """Bytes of the rows that are written already."""
        return int(self._sink.tell())

    def add(self, batch: pa.RecordBatch) -> None:
        self.rows += batch.num_rows
        self._held.append(batch)
        self._waiting += batch.num_rows
        if self._waiting >= _GROUP:
            self._flush()

    def _flush(self) -> None:
        if self._held:
            table = pa.Table.from_batches(self._held).combine_chunks()
            self._writer.write_table(table, row_group_size=_GROUP)
            self._held, self._waiting = [], 0

    def closed(self, about: dict[bytes, bytes]) -> bytes:
        """The whole file, with what it tells of itself."""
        self._flush()
        self._writer.add_key_value_metadata(about)
        self._writer.close()
        return bytes(self._sink.getvalue())


def _writer(sink: Any, of: pa.Schema, about: dict[bytes, bytes]) -> pq.ParquetWriter:
    """A writer that leaves out what a small file would consist of: statistics, and the schema of Arrow beside that of Parquet."""
    told = {FORMAT_KEY: FORMAT, VERSION_KEY: str(VERSION).encode(), **about}
    writer = pq.ParquetWriter(
        sink, of, compression="zstd", compression_level=3, write_statistics=False, store_schema=False
    )
    writer.add_key_value_metadata(told)
    return writer


class Index:
    """The tables of a store."""

    def __init__(self, store: Readings) -> None:
        self._place = store.place
        self.said = store.said
        self.troubles: list[str] = []
        """What could not be read, a line each."""
        self._known: dict[str, list[TableFile]] = {}

    def files(self, part: str) -> list[TableFile]:
        """The files of a table that count, in the order of their names."""
        if part not in self._known:
            self._known[part] = self._of(part)
        return self._known[part]

    def _of(self, part: str) -> list[TableFile]:
        names = [name for name in self._place.names(part) if name.endswith(_END)]
        found = [one for one in (self._file(part, name) for name in names) if one is not None]
        replaced = {name for one in found for name in one.replaces}
        return [one for one in found if one.name not in replaced]

    def _file(self, part: str, name: str) -> TableFile | None:
        where = f"{part}/{name}"
        try:
            with self._place.opened(where) as file, pq.ParquetFile(file) as table:
                told = table.metadata.metadata or {}
                size = file.seek(0, os.SEEK_END)
                if table.metadata.num_rows > _MOST_ROWS:
                    raise ValueError(f"{table.metadata.num_rows:,} rows, more than the {_MOST_ROWS:,} that are read")
        except _UNREAD as error:
            self._cannot(where, str(error))
            return None
        if told.get(FORMAT_KEY) != FORMAT:
            self.troubles.append(f"{self.said}/{where} is no index of readings: left out")
            return None
        version = told.get(VERSION_KEY, b"")
        if not version.isdigit() or int(version) > VERSION:
            said = version.decode("ascii", "replace")[:20]
            self.troubles.append(
                f"{self.said}/{where} is of version {said}; this program reads up to {VERSION}: update it"
            )
            return None
        return TableFile(name, _names_in(told, ROUNDS_KEY), _names_in(told, REPLACES_KEY), size)

    def _cannot(self, where: str, why: str) -> None:
        line = why.splitlines()[0][:200] if why else "it is damaged"
        self.troubles.append(f"{self.said}/{where} cannot be read ({line}): left out; 'keep --index' makes it anew")

    def rounds(self) -> set[str]:
        """The rounds that are in it."""
        hosts, services = (
            {number for one in self.files(part) for number in one.rounds} for part in (HOSTS_PART, SERVICES_PART)
        )
        return hosts & services

    def hosts(self, columns: Sequence[str] | None = None) -> pa.Table:
        """The rows of readings."""
        return self._read(HOSTS_PART, HOSTS, columns)

    def services(
        self, columns: Sequence[str], rounds: Collection[str] | None = None, of_services: Collection[str] | None = None
    ) -> pa.Table:
        """The rows of services; texts as codes into their own lists of words. Files that hold none of *rounds* are left closed; only the
        rows *of_services*, where they are named."""
        only = [("service", "in", sorted(of_services))] if of_services is not None else []
        return self._read(SERVICES_PART, SERVICES, columns, only, rounds)

    def package_sets(self) -> pa.Table:
        """The sets of packages; one may stand there twice."""
        return self._read(PACKAGES_PART, PACKAGES, None)

    def known_sets(self) -> set[str]:
        """What the sets of packages are called."""
        return set(map(str, self._read(PACKAGES_PART, PACKAGES, ["packages"])["packages"].to_pylist()))

    def _read(
        self,
        part: str,
        of: pa.Schema,
        columns: Sequence[str] | None,
        only: Sequence[tuple[str, str, list[str]]] = (),
        rounds: Collection[str] | None = None,
    ) -> pa.Table:
        wanted = list(columns) if columns is not None else of.names
        # Millions of rows have few texts; as codes they need no more room than numbers.
        coded = [name for name in wanted if part == SERVICES_PART and of.field(name).type == pa.string()]
        tables = []
        for one in self.files(part):
            if rounds is not None and not set(rounds).intersection(one.rounds):
                continue
            where = f"{part}/{one.name}"
            apart = self._elsewhere(part, one)
            filters = [*only, ("round", "not in", sorted(apart))] if apart else only
            try:
                with self._place.opened(where) as file:
                    tables.append(pq.read_table(file, columns=wanted, filters=filters or None, read_dictionary=coded))
            except _UNREAD as error:
                self._cannot(where, str(error))
        empty = of.empty_table().select(wanted)
        if not tables:
            return empty
        return pa.concat_tables(tables, promote_options="permissive").unify_dictionaries()

    def _elsewhere(self, part: str, one: TableFile) -> set[str]:
        """Rounds of a file that another one has as well, by whose rows they count: the file of the round alone, else the one that comes
        later. So it is while an index is made anew, or where that was cut off."""
        if part == PACKAGES_PART:
            return set()
        others = [other for other in self.files(part) if other.name != one.name and _counts_before(other, one)]
        return set(one.rounds).intersection(*[{number for other in others for number in other.rounds}])

    def merge(self) -> None:
        """Make one file of many small ones."""
        for part, of in _PARTS.items():
            small = [one for one in self.files(part) if one.size < _SMALL]
            if len(small) > _MANY:
                self._merge(part, of, small)
            self._sweep(part)

    def _merge(self, part: str, of: pa.Schema, files: Sequence[TableFile]) -> None:
        # One after the other: of all together nobody knows whether there is room for them.
        kept: list[TableFile] = []
        sink = pa.BufferOutputStream()
        with _writer(sink, of, {}) as writer:
            for one in files:
                table = self._whole(part, of, one)
                if table is not None:
                    writer.write_table(table, row_group_size=_GROUP)
                    kept.append(one)
            about = {
                ROUNDS_KEY: json.dumps(sorted({number for one in kept for number in one.rounds})),
                REPLACES_KEY: json.dumps([one.name for one in kept]),
            }
            writer.add_key_value_metadata(about)
        if len(kept) < 2:
            return
        name = f"{kept[-1].name.removesuffix(_END)}-{len(kept)}{_END}"
        self._place.write(f"{part}/{name}", sink.getvalue().to_pybytes())
        self._known.pop(part, None)

    def _whole(self, part: str, of: pa.Schema, one: TableFile) -> pa.Table | None:
        """The rows of a file that count; None where it cannot be read."""
        apart = self._elsewhere(part, one)
        try:
            with self._place.opened(f"{part}/{one.name}") as file:
                return pq.read_table(file, schema=of, filters=[("round", "not in", sorted(apart))] if apart else None)
        except _UNREAD:
            return None

    def _sweep(self, part: str) -> None:
        """Remove what others have taken the place of."""
        counts = {one.name for one in self.files(part)}
        replaced = {name for one in self.files(part) for name in one.replaces}
        for name in self._place.names(part):
            if name in replaced and name not in counts:
                self._place.remove(f"{part}/{name}")

    def drop(self, rounds: set[str]) -> None:
        """Take *rounds* out of it: the files that hold any are written anew without them."""
        for part in (HOSTS_PART, SERVICES_PART):  # a set of packages may be another round's, too
            for one in self.files(part):
                gone = rounds.intersection(one.rounds)
                if gone:
                    self._without(part, one, gone)
            self._known.pop(part, None)

    def _without(self, part: str, one: TableFile, gone: set[str]) -> None:
        left, of = sorted(set(one.rounds) - gone), _PARTS[part]
        table = self._whole(part, of, one) if left else None
        if left and table is None:
            raise Trouble(f"{self.said}/{part}/{one.name} is damaged: make the index anew first, with 'keep --index'")
        if table is not None:
            kept = table.filter(pa.compute.is_in(table["round"], pa.array(left)))
            sink = pa.BufferOutputStream()
            about = {
                ROUNDS_KEY: json.dumps(left).encode(),
                REPLACES_KEY: json.dumps([one.name, *one.replaces]).encode(),
            }
            with _writer(sink, of, about) as writer:
                writer.write_table(kept, row_group_size=_GROUP)
            self._place.write(f"{part}/{left[-1]}-{len(left)}-left{_END}", sink.getvalue().to_pybytes())
        self._place.remove(f"{part}/{one.name}")

    def leave(self, names: Collection[str]) -> None:
        """Leave only the files of these *names*: all others have been made anew in them, or hold what is there no more. What others have
        put there is theirs."""
        for part in reversed(_PARTS):
            for name in self._place.names(part):
                if name not in names and _is_ours(name):
                    self._place.remove(f"{part}/{name}")
        self._known.clear()


def _is_ours(name: str) -> bool:
    return name.endswith(_END) and is_number("-".join(name.removesuffix(_END).split("-")[:2]))


def _counts_before(other: TableFile, one: TableFile) -> bool:
    return (len(other.rounds) == 1, other.name) > (len(one.rounds) == 1, one.name)


def _names_in(told: dict[bytes, bytes], key: bytes) -> list[str]:
    try:
        found = json.loads(told.get(key, b"[]"))
    except ValueError:
        return []
    return [one for one in found if isinstance(one, str)] if isinstance(found, list) else []


@contextmanager
def alone_on(store: Readings) -> Iterator[bool]:
    """Hold the store so that nobody else merges it or takes something out meanwhile; whether that is so. What adds to it needs no lock,
    since no two rounds have one name. Where the store is none of this machine's, nobody can be kept out."""
    folder = store.place.folder
    if folder is None:
        yield True
        return
    from filelock import FileLock, Timeout

    store.place.guard(_LOCK)
    lock = FileLock(folder / _LOCK, timeout=0)
    try:
        lock.acquire()
    except Timeout:
        yield False
        return
    except OSError as error:
        raise Trouble(f"cannot lock {folder}: {(error.strerror or str(error)).lower()}") from None
    try:
        yield True
    finally:
        lock.release()

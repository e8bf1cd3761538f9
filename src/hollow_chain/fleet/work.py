"""Diagnosing hosts in pieces: what a piece of work is, and what comes of it. Both are plain data that go to another process, or to another
machine, and back."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple, Protocol

from hollow_chain.decoding import no_collection
from hollow_chain.facts.host import Firewall, Probe, Snapshot, UnreachedHost, Unread
from hollow_chain.fleet.columns import HOSTS, PACKAGES, SERVICES
from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA
from hollow_chain.trouble import Trouble

with needs(EXTRA, "diagnosing many hosts"):
    import pyarrow as pa

if TYPE_CHECKING:
    from hollow_chain.causes import Facts
    from hollow_chain.fleet.rows import RoundOf, Rows
    from hollow_chain.sources.readings import Readings


class HostPiece(NamedTuple):
    """A host of a piece: where its facts are."""

    host: str
    file: str = ""
    """From the root of the store on; or a path of this machine, where there is no store."""
    data: bytes = b""
    """The snapshot itself, where it lies nowhere."""


class HostWork(NamedTuple):
    """A row of parts, each of hosts that hang together."""

    parts: Sequence[Sequence[HostPiece]]
    store: str = ""
    number: str = ""
    kept_at: datetime | None = None
    groups: dict[str, list[str]] = {}  # noqa: RUF012 - never changed
    firewalls: Sequence[Firewall] = ()
    probes: Sequence[Probe] = ()
    boots: int = 0
    """How often the next boot of each host is rehearsed; 0: not at all."""


class Done(NamedTuple):
    """What came of a piece of work: rows of all tables in the format of Arrow, and what could not be read."""

    hosts: bytes
    services: bytes
    packages: bytes
    troubles: list[str]

    @property
    def batches(self) -> tuple[pa.RecordBatch, pa.RecordBatch, pa.RecordBatch]:
        """The rows of each table."""
        return _batch(self.hosts), _batch(self.services), _batch(self.packages)


class Spreader(Protocol):
    """Does pieces of work."""

    def __call__(self, work: Sequence[HostWork], told: Callable[[int], None]) -> Iterator[Done]:
        """What comes of each of *work*, in their order; *told* how many are done."""


def done(work: HostWork) -> Done:
    """Read and diagnose the hosts of *work*. What cannot be read is left out, and told."""
    from hollow_chain.fleet.rows import RoundOf, Rows

    rows = Rows([], [], {})
    troubles: list[str] = []
    with no_collection():
        for part in work.parts:
            found, files = _read(work, part, troubles)
            if found is not None:
                about = RoundOf(work.number, work.kept_at, files, work.groups)
                of_part = _diagnosed(work, found, about, troubles)
                rows.hosts.extend(of_part.hosts)
                rows.services.extend(of_part.services)
                rows.packages.update(of_part.packages)
        return of_rows(rows, troubles)


def _diagnosed(work: HostWork, found: Snapshot, about: RoundOf, troubles: list[str]) -> Rows:
    """The rows of the hosts of a part. A fault of the program costs these hosts, and not all others."""
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.fleet.rows import Rows, rows_of, unreached_rows

    names = [host.name for host in found.hosts]
    found.firewalls = [*found.firewalls, *(one for one in work.firewalls if set(names).intersection(one.between))]
    found.probes = [*found.probes, *(one for one in work.probes if one.to in names)]
    try:
        facts = Facts(Graph(found))
        rows = rows_of(facts, names, about)
        if work.boots:
            _rehearse(facts, rows, work.boots)
        return rows
    except Exception as error:
        if os.environ.get("HOLLOW_CHAIN_TRACE"):
            raise
        why = (
            f"this is a fault of the program itself ({type(error).__name__}: {error}); HOLLOW_CHAIN_TRACE=1 shows where"
        )
        troubles += [f"{name}: {why}" for name in names]
        away = [UnreachedHost(name=host.name, why=why, tried_at=host.read_at) for host in found.hosts]
        return Rows(unreached_rows(away, about), [], {})


def _rehearse(facts: Facts, rows: Rows, boots: int) -> None:
    """Mark in *rows* what runs now and will be down after the next boot in most rehearsals of it."""
    from hollow_chain.boot.families import as_it_stands, foreseen, plan_of
    from hollow_chain.boot.rehearsal import rehearse

    for host in rows.hosts:
        owner = facts.graph.hosts[host["host"]]
        graph = as_it_stands(facts, [owner.name])
        plan = plan_of(graph, graph.hosts[owner.name], foreseen(facts, owner))
        if not plan.units:
            continue
        lost = {odds.service for odds in rehearse(plan, boots).services if odds.change == "lost"}
        own = [row for row in rows.services if row["host"] == owner.name]
        for row in own:
            row["down_after_boot"] = row["down_after_boot"] or row["service"] in lost
        host["down_after_boot"] = sum(row["down_after_boot"] for row in own)


def of_rows(rows: Rows, troubles: list[str]) -> Done:
    """Rows as they are handed on."""
    sets = [{"packages": name, "package": packages} for name, packages in rows.packages.items()]
    tables = ((rows.hosts, HOSTS), (rows.services, SERVICES), (sets, PACKAGES))
    hosts, services, packages = (as_bytes(pa.RecordBatch.from_pylist(found, of)) for found, of in tables)
    return Done(hosts, services, packages, troubles)


def _read(work: HostWork, part: Sequence[HostPiece], troubles: list[str]) -> tuple[Snapshot | None, dict[str, str]]:
    from hollow_chain.sources import files
    from hollow_chain.sources.readings import open_store

    store = open_store(work.store) if work.store else None
    found: list[Snapshot] = []
    places: dict[str, str] = {}
    for piece in part:
        try:
            one = _snapshot(piece, store)
        except Trouble as trouble:
            troubles.append(str(trouble))
            continue
        for item in one.unread:
            troubles.append(_said(item))
        found.append(one)
        places |= {host.name: piece.file for host in one.hosts}
    return (files.merged(found) if found else None), places


def _snapshot(piece: HostPiece, store: Readings | None) -> Snapshot:
    if piece.data:
        from hollow_chain.facts.codec import decode

        return decode(piece.data)
    if store is not None:
        return store.snapshot(piece.file)
    from pathlib import Path

    from hollow_chain.sources import files

    return files.read(Path(piece.file))


def _said(item: Unread) -> str:
    return f"{item.what}{f' ({item.why})' if item.why else ''}"


def as_bytes(batch: pa.RecordBatch) -> bytes:
    """A batch in the format of Arrow."""
    sink = pa.BufferOutputStream()
    with pa.ipc.new_stream(sink, batch.schema) as writer:
        writer.write_batch(batch)
    return bytes(sink.getvalue())


def _batch(data: bytes) -> pa.RecordBatch:
    with pa.ipc.open_stream(data) as reader:
        return reader.read_next_batch()

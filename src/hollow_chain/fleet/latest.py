"""The newest reading of each host as tables: from the index of a store, or diagnosed just now."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any, NamedTuple

import msgspec
import numpy as np

from hollow_chain.chain.find import NEAR, rank_of
from hollow_chain.facts.host import Snapshot, UnreachedHost, snapshot
from hollow_chain.facts.service import Program, Service
from hollow_chain.fleet.coded import coded
from hollow_chain.fleet.columns import HOSTS, PACKAGES, SERVICES
from hollow_chain.fleet.holding import unindexed
from hollow_chain.fleet.index import Index
from hollow_chain.fleet.keeping import BATCH
from hollow_chain.fleet.parts import Hanging, batches, parts_of
from hollow_chain.fleet.rows import RoundOf, Rows, unreached_rows
from hollow_chain.fleet.surveying import OF_HOSTS, OF_SERVICES, UNREAD, UNWELL, WELL, Latest
from hollow_chain.fleet.work import HostPiece, HostWork, Spreader, of_rows
from hollow_chain.lacking import needs
from hollow_chain.sources.readings import Readings, hangs_on
from hollow_chain.sources.shelves import EXTRA
from hollow_chain.trouble import wrong_call
from hollow_chain.wording.counts import counted

with needs(EXTRA, "a survey"):
    import pyarrow as pa
    import pyarrow.compute as pc

_MOST_OFFERED, _LIKE = 8, 68
"""Near names that are offered where none fits, and how like they are at least, as where a target is looked for."""


class LatestFound(NamedTuple):
    """The newest readings, and what could not be read."""

    latest: Latest
    troubles: list[str]
    history: pa.Table | None = None
    """The rows of all readings of a store."""


def of_store(store: Readings, words: str = "") -> LatestFound:
    """The newest reading of each host in *store*, by its index; only the services that fit *words*, where there are any."""
    index = Index(store)
    history = index.hosts(OF_HOSTS)
    if history.num_rows:
        history = history.sort_by([("kept_at", "ascending"), ("round", "ascending")])
    hosts = _last_rows(history)
    rounds = set(hosts["round"].to_pylist())
    services = index.services(OF_SERVICES, rounds=rounds)
    services = services.filter(pa.array(_of_rows(services, hosts)))
    wanted = _fitting(services, words) if words else None
    if wanted is not None:
        services = services.filter(pc.is_in(services["service"].cast(pa.string()), pa.array(sorted(wanted))))
    stood = _stood_by_service(index, wanted) if wanted is not None else _stood(history)
    troubles = [*unindexed(store, index), *index.troubles]
    packages = _sets(index.package_sets())
    latest = Latest(hosts, services, packages, since_of(stood))
    return LatestFound(latest, list(dict.fromkeys(troubles)), history)


def _last_rows(history: pa.Table) -> pa.Table:
    """Of each host the row that was kept last; by the names of the hosts."""
    last = {name: place for place, name in enumerate(history["host"].to_pylist())}
    return history.take(pa.array([last[name] for name in sorted(last)], pa.int64()))


def _of_rows(services: pa.Table, hosts: pa.Table) -> Any:
    """Which rows are of a reading that is one of *hosts*."""
    if not services.num_rows:
        return np.zeros(0, dtype=bool)
    rounds, names = (coded(services[name], is_unified=True) for name in ("round", "host"))
    place = {name: code for code, name in enumerate(rounds.words.to_pylist())}
    newest = dict(zip(hosts["host"].to_pylist(), hosts["round"].to_pylist(), strict=True))
    wanted = np.array([place.get(newest.get(name, ""), -1) for name in names.words.to_pylist()], dtype=np.int64)
    return wanted[names.codes] == rounds.codes


def _sets(table: pa.Table) -> dict[str, list[str]]:
    return dict(zip(table["packages"].to_pylist(), table["package"].to_pylist(), strict=True))


class Stood(NamedTuple):
    """How a host stood at a reading."""

    host: str
    stands: str
    at: datetime | None


def _stood(history: pa.Table) -> Iterator[Stood]:
    columns = (history[name].to_pylist() for name in ("host", "read", "unwell", "read_at", "kept_at"))
    for host, read, unwell, read_at, kept_at in zip(*columns, strict=True):
        yield Stood(host, UNREAD if not read else UNWELL if unwell else WELL, read_at or kept_at)


def _stood_by_service(index: Index, wanted: set[str]) -> Iterator[Stood]:
    """The same of some services only."""
    rows = index.services(["round", "host", "service", "read_at", "causes"], of_services=wanted)
    at: dict[tuple[str, str], datetime | None] = {}
    sick: dict[tuple[str, str], bool] = {}
    many = pc.list_value_length(rows["causes"]).to_pylist()
    for number, host, read_at, causes in zip(
        rows["round"].to_pylist(), rows["host"].to_pylist(), rows["read_at"].to_pylist(), many, strict=True
    ):
        at[number, host] = read_at
        sick[number, host] = sick.get((number, host), False) or bool(causes)
    for key in sorted(at):
        yield Stood(key[1], UNWELL if sick[key] else WELL, at[key])


def since_of(stood: Iterable[Stood]) -> dict[str, datetime]:
    """Since which reading each host has stood as it does, of rows in the order of their moments; none where it always has."""
    now: dict[str, str] = {}
    since: dict[str, datetime] = {}
    for one in stood:
        known = now.get(one.host)
        if known is not None and known != one.stands and one.at is not None:
            since[one.host] = one.at
        now[one.host] = one.stands
    return since


def _fitting(services: pa.Table, words: str) -> set[str]:
    """The names of services that fit *words*, as everywhere. Raises :class:`~hollow_chain.trouble.Trouble` (2) where none does."""
    wanted = " ".join(words.split()).casefold()
    known: dict[str, Service] = {}
    columns = ("service", "kind", "title", "program")
    for name, kind, title, program in (
        zip(*(services[column].to_pylist() for column in columns), strict=True)
        if services.num_rows < _FEW
        else _distinct(services, columns)
    ):
        if name not in known:
            known[name] = Service(name=name, kind=kind, description=title or "", program=Program(path=program or ""))
    fits = {name for name, service in known.items() if rank_of(service, wanted) not in (None, NEAR)}
    if not fits:
        from hollow_chain.wording.near import nearest

        names = list(known)
        stems = [name.removesuffix(".service").casefold() for name in names]
        near = [names[one.place] for one in nearest(wanted, stems, _MOST_OFFERED, _LIKE)]
        trouble = wrong_call(f"no service fits {words!r}" + ("; the nearest names:" if near else ""))
        trouble.rows = tuple(near)
        raise trouble
    return fits


_FEW = 20_000
"""Rows up to which each is looked at; of more only one of each name."""


def _distinct(services: pa.Table, columns: Sequence[str]) -> Iterator[Any]:
    _, first = np.unique(coded(services["service"]).codes, return_index=True)
    rows = services.select(list(columns)).take(pa.array(first))
    yield from zip(*(rows[column].to_pylist() for column in columns), strict=True)


def of_work(
    work: Sequence[HostWork],
    unreached: Sequence[UnreachedHost],
    groups: Mapping[str, list[str]],
    spread: Spreader,
    told: Callable[[int, int], None],
    words: str = "",
) -> LatestFound:
    """Hosts that are diagnosed now."""
    held: list[list[pa.RecordBatch]] = [[], [], []]
    troubles: list[str] = []
    for done in spread(work, lambda many: told(many, len(work))):
        for kept, batch in zip(held, done.batches, strict=True):
            kept.append(batch)
        troubles += done.troubles
    rows = unreached_rows(unreached, RoundOf(groups=dict(groups)))
    held[0].append(of_rows(Rows(rows, [], {}), []).batches[0])
    hosts, services, packages = (
        pa.Table.from_batches(batches_, of) for batches_, of in zip(held, (HOSTS, SERVICES, PACKAGES), strict=True)
    )
    if words:
        wanted = _fitting(services, words)
        services = services.filter(pc.is_in(services["service"], pa.array(sorted(wanted))))
    return LatestFound(Latest(_last_rows(hosts), services, _sets(packages), {}), troubles)


def work_of_store(store: Readings) -> tuple[list[HostWork], list[UnreachedHost], dict[str, list[str]]]:
    """The pieces of work that the newest readings of a store are diagnosed in anew, the hosts that were not read at their last round, and
    the groups of all."""
    index = Index(store)
    history = index.hosts(["round", "kept_at", "host", "read", "why", "read_at", "file", "hangs_on", "groups"])
    rows = (
        _last_rows(history.sort_by([("kept_at", "ascending"), ("round", "ascending")])).to_pylist()
        if history.num_rows
        else []
    )
    groups = {row["host"]: row["groups"] for row in rows if row["groups"]}
    away = [
        UnreachedHost(name=row["host"], why=row["why"] or "", tried_at=row["read_at"])
        for row in rows
        if not row["read"]
    ]
    there = [row for row in rows if row["read"]]
    parts = parts_of([Hanging(row["host"], row["hangs_on"] or ()) for row in there])
    work = [
        HostWork(
            parts=[[HostPiece(there[place]["host"], there[place]["file"]) for place in part] for part in row],
            store=store.address,
            groups={name: groups[name] for part in row for place in part if (name := there[place]["host"]) in groups},
        )
        for row in batches(parts, BATCH)
    ]
    return work, away, groups


def work_in(found: Snapshot, groups: Mapping[str, list[str]]) -> list[HostWork]:
    """The pieces of work that hosts which were just read are diagnosed in."""
    from hollow_chain.facts.codec import encode

    parts = parts_of([Hanging(host.name, hangs_on(host)) for host in found.hosts])

    def piece(place: int) -> HostPiece:
        host = found.hosts[place]
        return HostPiece(host.name, data=encode(snapshot([host], found.written_by)))

    return [
        HostWork(
            parts=[[piece(place) for place in part] for part in row],
            groups=dict(groups),
            firewalls=found.firewalls,
            probes=found.probes,
        )
        for row in batches(parts, BATCH)
    ]


class _Link(msgspec.Struct):
    host: str = ""


class _Service(msgspec.Struct):
    links: list[_Link] = []
    seats: list[_Link] = []


class _Host(msgspec.Struct):
    name: str = ""
    services: list[_Service] = []


class _Names(msgspec.Struct):
    hosts: list[_Host] = []


def work_on(folder: Path) -> tuple[list[HostWork], list[str]]:
    """The pieces of work that a folder of snapshot files is diagnosed in, and what is to be said of it. Files that cannot be read tell so
    when they are."""
    from hollow_chain.sources.files import SUFFIXES

    paths = sorted(path for path in folder.iterdir() if path.name.lower().endswith(SUFFIXES))
    # Hosts of one file are read at once, so that they are of one part: each hangs on the name of the file.
    hanging = [(path, Hanging(one.host, [*one.hangs_on, f"\0{path.name}"])) for path in paths for one in _hanging(path)]
    many = Counter(one.host for _, one in hanging)
    doubled = [
        f"{name} stands in {counted(number, 'file')} of {folder}: its newest reading counts"
        for name, number in many.items()
        if number > 1
    ]
    hanging += [(path, Hanging(f"\0{path.name}", ())) for path in paths]
    parts = parts_of([one for _, one in hanging])
    work = [
        HostWork(parts=[_pieces([hanging[place][0] for place in part]) for part in row])
        for row in batches(parts, BATCH)
    ]
    return work, doubled


def _pieces(paths: Iterable[Path]) -> list[HostPiece]:
    return [HostPiece(path.name, str(path)) for path in dict.fromkeys(paths)]


def _hanging(path: Path) -> list[Hanging]:
    """The hosts of a snapshot file, and what each hangs on; none where it cannot be read."""
    from hollow_chain import decoding
    from hollow_chain.facts.codec import SnapshotError, decode
    from hollow_chain.sources.files import content

    try:
        data = content(path)
        if data.lstrip()[:1] != b"{":  # YAML, of which there is never much
            return [Hanging(host.name, hangs_on(host)) for host in decode(data).hosts]
        found = decoding.of_json(data, _Names)
    except (msgspec.MsgspecError, OSError, SnapshotError, RecursionError):
        return []
    return [
        Hanging(
            host.name,
            [link.host for service in host.services for link in (*service.links, *service.seats) if link.host],
        )
        for host in found.hosts
    ]

"""Keeping readings in a store with their index, making the index anew, and dropping what is old."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from itertools import islice
from typing import NamedTuple

from hollow_chain.facts.host import Snapshot
from hollow_chain.fleet.index import Index, TableWriter, alone_on
from hollow_chain.fleet.parts import Hanging, batches, parts_of
from hollow_chain.fleet.rows import RoundOf, Rows, unreached_rows
from hollow_chain.fleet.work import HostPiece, HostWork, Spreader, of_rows
from hollow_chain.sources.readings import (
    FORMAT,
    ROUNDS,
    VERSION,
    KeptReading,
    ReadingFile,
    Readings,
    Round,
    hangs_on,
    keep,
    moment_of,
)
from hollow_chain.trouble import Trouble

BATCH = 16
"""Hosts of a piece of work: some tenths of a second, beside which handing it over is nothing."""
_NAMED = 4
"""Hosts that a line names: a round that was cut off may lack thousands."""
_END = ".json.gz"
Told = Callable[[int, int], None]
"""Is told how many pieces of how many are done."""


class KeptRound(NamedTuple):
    """What a call has kept."""

    number: str
    hosts: int
    bytes: int
    troubles: list[str]


def keep_round(
    store: Readings, found: Snapshot, groups: Mapping[str, list[str]], now: datetime, spread: Spreader, told: Told
) -> KeptRound:
    """Keep one reading of each host of *found*, diagnosed. Raises :class:`~hollow_chain.trouble.Trouble`."""
    troubles = list(_odd(store, found, now))
    kept = keep(store, found, groups, now)
    indexed = _index(store, [(kept.number, kept.round)], spread, told, Index(store).known_sets())
    with alone_on(store) as alone:
        if alone:
            index = Index(store)
            index.merge()
            troubles += index.troubles
    return KeptRound(kept.number, len(found.hosts), kept.bytes + indexed.bytes, troubles + indexed.troubles)


def _odd(store: Readings, found: Snapshot, now: datetime) -> Iterable[str]:
    """What does not go with what was kept before: a clock that went back, another machine of the same name."""
    machines: dict[str, str] = {}
    for host in found.hosts:
        if host.machine and machines.setdefault(host.machine, host.name) != host.name:
            yield f"{host.name} and {machines[host.machine]} are one machine: it was kept under both names"
    rounds = store.rounds()
    if rounds and moment_of(rounds[-1]) > now:
        yield (
            f"{store.said} has a round of {moment_of(rounds[-1]):%Y-%m-%d %H:%M:%SZ}, which is later than now: the clock of this"
            " machine, or of one that kept it, is wrong; the newest reading of a host is the one of the latest round"
        )
    if not rounds:
        return
    known = Index(store).hosts(["host", "kept_at", "read_at", "machine"]).sort_by("kept_at").to_pylist()
    before = {row["host"]: row for row in known}
    for host in found.hosts:
        row = before.get(host.name)
        if row is None:
            continue
        if host.read_at is not None and row["read_at"] is not None and host.read_at < row["read_at"]:
            yield f"{host.name}: its clock went back by {row['read_at'] - host.read_at} since its last reading"
        if host.machine and row["machine"] and host.machine != row["machine"]:
            yield f"{host.name}: another machine than at its last reading bears this name"


class _Indexed(NamedTuple):
    """What came of writing rounds into the index."""

    bytes: int
    files: list[str]
    troubles: list[str]


def _index(
    store: Readings, rounds: Sequence[tuple[str, Round]], spread: Spreader, told: Told, known: set[str]
) -> _Indexed:
    """Diagnose the readings of *rounds*, all in one go, and write the tables as soon as what is done is worth a file. *known*: the sets of
    packages that need not be written again."""
    pieces = [(number, work) for number, about in rounds for work in work_of(store, number, about)]
    done = spread([work for _, work in pieces], lambda many: told(many, len(pieces)))
    size, files, troubles = 0, [], []
    many = Counter(number for number, _ in pieces)
    writer = TableWriter(store.place, known)
    for number, about in rounds:
        writer.rounds.append(number)
        for found in islice(done, many[number]):
            writer.add(*found.batches)
            troubles += found.troubles
        rows = unreached_rows(about.unreached, RoundOf(number, about.kept_at, {}, about.groups))
        writer.add(*of_rows(Rows(rows, [], {}), []).batches)
        if writer.is_large or number == rounds[-1][0]:
            size += writer.put()
            files.append(writer.name)
            writer = TableWriter(store.place, writer.sets)
    return _Indexed(size, files, troubles)


def work_of(store: Readings, number: str, about: Round) -> list[HostWork]:
    """The pieces of work that a round is diagnosed in."""
    readings = about.readings
    parts = parts_of([Hanging(one.host, one.hangs_on) for one in readings])
    return [
        _work(store, number, about, [[readings[place] for place in part] for part in row])
        for row in batches(parts, BATCH)
    ]


def _work(store: Readings, number: str, about: Round, parts: Sequence[Sequence[KeptReading]]) -> HostWork:
    names = {one.host for part in parts for one in part}
    return HostWork(
        parts=[[HostPiece(one.host, one.file) for one in part] for part in parts],
        store=store.address,
        number=number,
        kept_at=about.kept_at,
        groups={name: groups for name, groups in about.groups.items() if name in names},
        firewalls=[one for one in about.firewalls if names.intersection(one.between)],
        probes=[one for one in about.probes if one.to in names],
    )


def index_anew(store: Readings, spread: Spreader, told: Told) -> list[str]:
    """Make the whole index anew of the snapshots; what could not be read, a line each. Raises :class:`~hollow_chain.trouble.Trouble`
    where somebody else works on the store."""
    with alone_on(store) as alone:
        if not alone:
            raise Trouble(f"{store.said}: somebody else works on its index at the moment: try again")
        troubles: list[str] = []
        by_round: dict[str, list[ReadingFile]] = {}
        for one in store.files():
            by_round.setdefault(one.round, []).append(one)
        numbers = sorted({*store.rounds(), *by_round})
        rounds = []
        for number in numbers:
            about, said = _round_of(store, number, by_round.get(number, []))
            rounds.append((number, about))
            troubles += said
        # Beside the old files, which go when all is there: a call that is cut off leaves what there was.
        indexed = _index(store, rounds, spread, told, set())
        troubles += indexed.troubles
        index = Index(store)
        index.leave(indexed.files)
        index.merge()
        return troubles


def _round_of(store: Readings, number: str, files: Sequence[ReadingFile]) -> tuple[Round, list[str]]:
    """A round as its file tells it; where that is gone, as its snapshots do."""
    troubles = []
    there = {one.path for one in files}
    try:
        about = store.round(number)
        gone = [one for one in about.readings if one.file not in there]
        if gone:
            few = ", ".join(one.host for one in gone[:_NAMED]) + (
                f" and {len(gone) - _NAMED} more" if len(gone) > _NAMED else ""
            )
            troubles.append(f"{few}: read {moment_of(number):%Y-%m-%d %H:%M:%SZ}, and never written, or gone")
        about.readings = [one for one in about.readings if one.file in there]
        return about, troubles
    except Trouble as trouble:
        if any(name == f"{number}{_END}" for name in store.place.names(ROUNDS)):
            troubles.append(f"{trouble}; its readings are taken without it")
    readings = []
    for file in files:
        try:
            found = store.snapshot(file.path)
        except Trouble as trouble:
            troubles.append(str(trouble))
            continue
        readings += [KeptReading(host=host.name, file=file.path, hangs_on=hangs_on(host)) for host in found.hosts]
    return Round(format=FORMAT, version=VERSION, kept_at=moment_of(number), readings=readings), troubles


class Thinned(NamedTuple):
    """What was dropped, and what is left."""

    rounds: int
    readings: int
    hosts_left: int
    hosts_gone: list[str]
    """Hosts of which nothing is left."""


def thin(store: Readings, before: datetime) -> Thinned:
    """Drop all rounds that were kept *before* then. Raises :class:`~hollow_chain.trouble.Trouble`."""
    with alone_on(store) as alone:
        if not alone:
            raise Trouble(f"{store.said}: somebody else works on its index at the moment: try again")
        files = list(store.files())
        known = {*store.rounds(), *(one.round for one in files)}
        old = {number for number in known if moment_of(number) < before}
        gone = [one for one in files if one.round in old]
        left = {one.host_folder for one in files if one.round not in old}
        # The file of a round goes last: as long as it is there, another call finishes what this one has begun.
        for one in gone:
            store.place.remove(one.path)
        Index(store).drop(old)
        for number in sorted(old):
            store.place.remove(f"{ROUNDS}/{number}{_END}")
        return Thinned(len(old), len(gone), len(left), sorted({one.host_folder for one in gone} - left))

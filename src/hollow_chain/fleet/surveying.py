"""A survey of many hosts: how each stands, and what is wrong where, the commonest first, with what those hosts have in common."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from datetime import datetime
from typing import Any, NamedTuple

import numpy as np

from hollow_chain.fleet.association import RATE, Counts, Interval, chances, corrected, interval
from hollow_chain.fleet.factors import KINDS, SETTINGS, Codes, Factor, Held, Mask, Population
from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

with needs(EXTRA, "a survey"):
    import pyarrow as pa
    import pyarrow.compute as pc

WELL, UNWELL, UNREAD = "well", "not well", "not read"
OF_SERVICES = (
    "round",
    "host",
    "service",
    "kind",
    "title",
    "standing",
    "causes",
    "needs",
    "up_after",
    "begun_after",
    *SETTINGS,
)
"""Columns of services that a survey reads."""
_SURE = 0.5
"""Confidence from which on a further cause of a service counts; its surest always does."""
_LEAST = 2
"""Hosts from which on a cause may have something in common."""
_MOST_SHARED = 3
"""Factors of one cause that are told; what the very same hosts have stands with each."""
_EARLY = 900.0
"""Seconds after the boot within which a start is one of the boot."""


class HostLine(NamedTuple):
    """How one host stands."""

    host: str
    stands: str
    """``well``, ``not well`` or ``not read``."""
    read_at: datetime | None
    since: datetime | None
    """Since when it has not been well, or not read, as far as readings or records tell."""
    services: list[str]
    """The services of it that are not well."""
    why: str
    """Why it was not read."""
    groups: list[str]
    family: str
    system: str
    down_after_boot: int


class Shared(NamedTuple):
    """What hosts with a cause have that well ones have not."""

    factor: Factor
    counts: Counts
    chance: float
    """How likely chance alone does that, corrected for all that was tried."""
    odds: Interval
    same: list[Factor]
    """What the very same hosts have."""


class CauseOver(NamedTuple):
    """One cause on one service, over all hosts that it sits on."""

    cause: str
    service: str
    hosts: list[str]
    takes_along: list[str]
    """Other hosts whose services are not well for it."""
    services: int
    """Services that are not well for it, on all of them."""
    says: str
    """What is said of it on the first of them."""
    confidence: float
    """The greatest."""
    compared: int
    """Well hosts that have the service, too."""
    shared: list[Shared]


class Survey(NamedTuple):
    """The whole of it."""

    lines: list[HostLine]
    causes: list[CauseOver]
    tests: int
    """Associations that were tried."""


class Latest(NamedTuple):
    """The newest reading of each host, and what is known of those before."""

    hosts: pa.Table
    """A row a host."""
    services: pa.Table
    """The services of these readings that are asked about."""
    packages: dict[str, list[str]]
    since: dict[str, datetime]
    """Since which reading a host has been as it is."""


class _Group:
    """What is gathered of one cause."""

    def __init__(self) -> None:
        self.places: dict[str, float] = {}
        self.targets: set[tuple[str, str]] = set()
        self.says = ""


def survey(latest: Latest) -> Survey:
    """The survey of *latest*."""
    causes = list(_causes_of(latest.services))
    unwell: dict[str, list[str]] = {}
    for one in causes:
        of_host = unwell.setdefault(one.host, [])
        if one.service not in of_host:
            of_host.append(one.service)
    lines = sorted((_line(row, unwell, latest.since) for row in latest.hosts.to_pylist()), key=_rank)
    groups = _grouped(causes)
    shared, tests = _shared_by(latest, groups, set(unwell)) if groups else ({}, 0)
    found = []
    for (cause, service), group in groups.items():
        hosts = sorted(group.places)
        compared, what = shared.get((cause, service), (0, []))
        along = sorted({host for host, _ in group.targets} - set(hosts))
        sure = max(group.places.values())
        found.append(CauseOver(cause, service, hosts, along, len(group.targets), group.says, sure, compared, what))
    found.sort(key=lambda one: (-len(one.hosts) - len(one.takes_along), -one.confidence, one.cause, one.service))
    return Survey(lines, found, tests)


def begun_since(whole: Survey, start: datetime) -> Survey:
    """Of *whole* what has begun since then; hosts that are well stay."""
    old = {line.host for line in whole.lines if line.stands != WELL and (line.since is None or line.since < start)}
    causes = []
    for one in whole.causes:
        hosts = [name for name in one.hosts if name not in old]
        along = [name for name in one.takes_along if name not in old]
        if hosts or along:
            causes.append(one._replace(hosts=hosts or one.hosts, takes_along=along))
    return Survey([line for line in whole.lines if line.host not in old], causes, whole.tests)


_ORDER = {UNWELL: 0, UNREAD: 1, WELL: 2}


def _rank(line: HostLine) -> tuple[int, int, str]:
    return _ORDER[line.stands], -len(line.services), line.host


def _line(row: dict[str, Any], unwell: dict[str, list[str]], since: dict[str, datetime]) -> HostLine:
    name = row["host"]
    services = unwell.get(name, [])
    stands = UNREAD if not row["read"] else UNWELL if services else WELL
    moment = since.get(name) or (row["failing_since"] if stands == UNWELL else None)
    if stands == UNWELL and row["failing_since"] is not None and moment is not None:
        moment = min(moment, row["failing_since"])
    return HostLine(
        name,
        stands,
        row["read_at"],
        moment if stands != WELL else None,
        services,
        row["why"] or "",
        row["groups"] or [],
        row["family"] or "",
        row["system"] or "",
        row["down_after_boot"] or 0,
    )


class _Told(NamedTuple):
    """A cause of one service of one host."""

    host: str
    service: str
    cause: str
    at_host: str
    at_service: str
    confidence: float
    says: str


def _causes_of(services: pa.Table) -> Iterator[_Told]:
    """What is wrong with each service: its surest cause, and the others that are likelier than not."""
    troubled = services.filter(pc.greater(pc.list_value_length(services["causes"]), 0)).select(
        ["host", "service", "causes"]
    )
    for row in troubled.to_pylist():
        for place, one in enumerate(row["causes"]):
            if place == 0 or one["confidence"] >= _SURE:
                yield _Told(
                    row["host"],
                    row["service"],
                    one["cause"],
                    one["host"],
                    one["service"],
                    one["confidence"],
                    one["says"],
                )


def _grouped(causes: Sequence[_Told]) -> dict[tuple[str, str], _Group]:
    groups: dict[tuple[str, str], _Group] = {}
    for one in causes:
        group = groups.setdefault((one.cause, one.at_service), _Group())
        group.places[one.at_host] = max(group.places.get(one.at_host, 0.0), one.confidence)
        group.targets.add((one.host, one.service))
        group.says = group.says or one.says
    return groups


_Found = dict[tuple[str, str], tuple[int, list[Shared]]]


def _shared_by(latest: Latest, groups: dict[tuple[str, str], _Group], unwell: Collection[str]) -> tuple[_Found, int]:
    """What the hosts of each group have in common; of all tests together the false discovery rate is held down."""
    hosts = latest.hosts.filter(latest.hosts["read"])
    row_of = {name: place for place, name in enumerate(hosts["host"].to_pylist())}
    services = _Services(latest.services, row_of)
    tried: list[tuple[tuple[str, str], Held, Counts]] = []
    compared: dict[tuple[str, str], int] = {}
    populations: dict[tuple[str, str], tuple[Mask, Mask]] = {}
    host_factors: list[Held] = []
    population = Population(hosts, latest.packages)
    for key, group in groups.items():
        cause, service = key
        sick = np.zeros(population.size, dtype=bool)
        sick[[row_of[name] for name in group.places if name in row_of]] = True
        if np.count_nonzero(sick) < _LEAST:
            continue
        well = services.well_with(service) & ~sick
        compared[key] = int(np.count_nonzero(well))
        populations[key] = sick, well
        if not compared[key]:
            continue
        host_factors = host_factors or [*population.of_hosts(), *population.packages()]
        own = [
            held
            for name in services.around(service)
            for held in services.factors(population, name, _apart(cause) if name == service else ())
        ]
        orders = services.orders(service, population.size)
        for held in (*host_factors, *own, *orders):
            counts = _counted(held.hosts, sick, well)
            if _is_a_test(counts):
                tried.append((key, held, counts))
    return _claimed(tried, compared, populations), len(tried)


def _counted(having: Mask, sick: Mask, well: Mask) -> Counts:
    return Counts(
        int(np.count_nonzero(having & sick)),
        int(np.count_nonzero(sick)),
        int(np.count_nonzero(having & well)),
        int(np.count_nonzero(well)),
    )


def _is_a_test(counts: Counts) -> bool:
    """Whether it differs between any two of the hosts: what all have, or none, says nothing."""
    return 0 < counts.sick_with + counts.well_with < counts.sick + counts.well


def _apart(cause: str) -> tuple[str, ...]:
    """Columns that say of the very service nothing but the cause itself."""
    from hollow_chain.causes.rule import rule_of

    try:
        return ("startup",) if rule_of(cause).family in ("startup", "dependency") else ()
    except KeyError:  # of a newer program
        return ()


def _claimed(
    tried: Sequence[tuple[tuple[str, str], Held, Counts]],
    compared: dict[tuple[str, str], int],
    populations: dict[tuple[str, str], tuple[Mask, Mask]],
) -> _Found:
    by_counts = list(dict.fromkeys(counts for _, _, counts in tried))
    chance_of = dict(zip(by_counts, chances(by_counts), strict=True))
    held_down = corrected([chance_of[counts] for _, _, counts in tried])
    of_group: dict[tuple[str, str], list[tuple[float, Held, Counts]]] = {}
    for (key, held, counts), chance in zip(tried, held_down, strict=True):
        if chance <= RATE:
            of_group.setdefault(key, []).append((chance, held, counts))
    return {key: (many, _told(of_group.get(key, []), populations[key])) for key, many in compared.items()}


def _told(claimed: list[tuple[float, Held, Counts]], population: tuple[Mask, Mask]) -> list[Shared]:
    """The strongest first; those of the very same hosts together, and those left out that only go with a stronger one."""
    claimed.sort(key=lambda one: (one[0], -one[2].sick_with, KINDS.index(one[1].factor.kind), one[1].factor))
    found: list[tuple[float, Held, Counts, list[Factor]]] = []
    for chance, held, counts in claimed:
        twin = next((one for one in found if one[2] == counts and np.array_equal(one[1].hosts, held.hosts)), None)
        if twin is not None:
            twin[3].append(held.factor)
        elif len(found) < _MOST_SHARED and all(_adds(held.hosts, one[1].hosts, *population) for one in found):
            found.append((chance, held, counts, []))
    return [Shared(held.factor, counts, chance, interval(counts), same) for chance, held, counts, same in found]


def _adds(one: Mask, stronger: Mask, sick: Mask, well: Mask) -> bool:
    """Whether it tells the sick from the well also among hosts that have the stronger factor, or among those that have not."""
    strata = [_counted(one & stratum, sick & stratum, well & stratum) for stratum in (stronger, ~stronger)]
    return any(chance * len(strata) <= RATE for chance in chances(strata))


class _Services:
    """The rows of services, by service."""

    def __init__(self, services: pa.Table, row_of: dict[str, int]) -> None:
        self._table = services
        self._hosts = len(row_of)
        names, hosts = (_coded(services[column]) for column in ("service", "host"))
        self._names = {name: code for code, name in enumerate(names[1])}
        self._service = names[0]
        places = np.array([row_of.get(name, -1) for name in hosts[1]] or [-1], dtype=np.int64)
        self._place: Codes = places[hosts[0]] if len(hosts[0]) else np.zeros(0, dtype=np.int64)
        self._known = np.argsort(self._service, kind="stable")
        self._starts = np.searchsorted(self._service[self._known], np.arange(len(self._names) + 1))

    def _rows(self, name: str) -> Codes:
        code = self._names.get(name)
        if code is None:
            return np.zeros(0, dtype=np.int64)
        rows = self._known[self._starts[code] : self._starts[code + 1]]
        return rows[self._place[rows] >= 0]

    def well_with(self, name: str) -> Mask:
        """The hosts that have the service, and have it well."""
        found = np.zeros(self._hosts, dtype=bool)
        rows = self._rows(name)
        standing = self._table["standing"].take(pa.array(rows)).to_pylist()
        sick = pc.list_value_length(self._table["causes"].take(pa.array(rows))).to_pylist()
        well = [stands not in ("down", "unstable") and not many for stands, many in zip(standing, sick, strict=True)]
        found[self._place[rows][np.array(well, dtype=bool)]] = True
        return found

    def around(self, name: str) -> list[str]:
        """The service and what it needs, on any host."""
        needs_ = self._table["needs"].take(pa.array(self._rows(name))).to_pylist()
        return list(dict.fromkeys([name, *sorted({one for row in needs_ for one in row or ()})]))

    def factors(self, population: Population, name: str, apart: Sequence[str]) -> Iterator[Held]:
        """What is set of a service."""
        rows = self._rows(name)
        return population.of_service(name, self._table.take(pa.array(rows)), self._place[rows], apart)

    def orders(self, name: str, size: int) -> Iterator[Held]:
        """Before which others it was begun at the boot."""
        begun = np.full(size, np.nan)
        rows = self._rows(name)
        begun[self._place[rows]] = _numbers(self._table["begun_after"].take(pa.array(rows)))
        if not np.any(begun < _EARLY):
            return
        for other in [one for one in self._names if one != name]:
            rows = self._rows(other)
            up = np.full(size, np.nan)
            up[self._place[rows]] = _numbers(self._table["up_after"].take(pa.array(rows)))
            both = (begun < _EARLY) & (up < _EARLY)
            before = both & (begun < up)
            if 0 < np.count_nonzero(before) < np.count_nonzero(both):
                yield Held(Factor("order", name, "begun before", other), before)


def _numbers(column: Any) -> Any:
    return np.array([np.nan if one is None else one for one in column.to_pylist()], dtype=float)


def _coded(column: Any) -> tuple[Codes, list[str]]:
    whole = column.combine_chunks()
    if isinstance(whole, pa.ChunkedArray):
        whole = whole.chunk(0) if whole.num_chunks else pa.array([], whole.type)
    coded = whole if pa.types.is_dictionary(whole.type) else pc.dictionary_encode(whole)
    return np.asarray(coded.indices.to_numpy(zero_copy_only=False), dtype=np.int64), coded.dictionary.to_pylist()

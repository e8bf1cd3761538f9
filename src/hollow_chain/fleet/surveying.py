"""A survey of many hosts: how each stands, and what is wrong where, the commonest first, with what those hosts have in common."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from hollow_chain.fleet.coded import CodedColumn, coded
from hollow_chain.fleet.common_ground import Ground, Shared, common_ground
from hollow_chain.fleet.factors import HOST_COLUMNS, SETTINGS
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
    "down_after_boot",
    *SETTINGS,
)
"""Columns of services that a survey reads."""
STALE = timedelta(days=1)
"""How much older than the newest a reading may be: hosts are read in turns, and every day at least."""
_SURE = 0.5
"""Confidence from which on a further cause of a service counts; its surest always does."""
OF_HOSTS = (
    "round", "kept_at", "host", "read", "why", "file", "read_at", "family", "unwell", "failing_since", *HOST_COLUMNS,
)  # fmt: skip
"""Columns of readings that a survey reads."""


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
    at_risk: list[str]
    """Services that run, and will be down after the next boot."""


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
    earlier: int = 0
    """Hosts that are left out, since they have not been well for longer than was asked."""

    @property
    def stale(self) -> list[HostLine]:
        """Hosts that were last read long before the newest reading: how they stand now nobody knows, the longest ago first."""
        read = [(line.read_at, line) for line in self.lines if line.read_at is not None]
        newest = max((at for at, _ in read), default=None)
        old = [(at, line) for at, line in read if newest is not None and newest - at > STALE]
        return [line for _, line in sorted(old, key=lambda one: (one[0], one[1].host))]


class Latest(NamedTuple):
    """The newest reading of each host, and what is known of those before."""

    hosts: pa.Table
    """A row a host."""
    services: pa.Table
    """The services of these readings that are asked about."""
    packages: dict[str, list[str]]
    since: dict[str, datetime]
    """Since which reading a host has been as it is."""


class _Cause(NamedTuple):
    """What is gathered of one cause on one service."""

    places: dict[str, float]
    """The hosts that it sits on, with the greatest confidence there."""
    target_hosts: set[str]
    services: int
    says: str


def survey(latest: Latest) -> Survey:
    """The survey of *latest*."""
    troubles = _troubles(latest.services)
    unwell = _unwell(troubles)
    at_risk = _at_risk(latest.services)
    lines = sorted((_line(row, unwell, at_risk, latest.since) for row in latest.hosts.to_pylist()), key=_rank)
    groups = _grouped(troubles)
    read = latest.hosts.filter(latest.hosts["read"])
    places = {key: sorted(group.places) for key, group in groups.items()}
    ground, tests = common_ground(read, latest.services, latest.packages, places) if groups else ({}, 0)
    found = []
    for (cause, service), group in groups.items():
        hosts = sorted(group.places)
        what = ground.get((cause, service), Ground(0, []))
        along = sorted(group.target_hosts - set(hosts))
        sure = max(group.places.values())
        found.append(
            CauseOver(cause, service, hosts, along, group.services, group.says, sure, what.compared, what.shared)
        )
    found.sort(key=lambda one: (-len(one.hosts) - len(one.takes_along), -one.confidence, one.cause, one.service))
    return Survey(lines, found, tests)


def begun_since(whole: Survey, start: datetime) -> Survey:
    """Of *whole* what has begun since then; hosts that are well stay, and those of which nobody knows since when they are not."""
    old = {line.host for line in whole.lines if line.stands != WELL and line.since is not None and line.since < start}
    causes = []
    for one in whole.causes:
        hosts = [name for name in one.hosts if name not in old]
        along = [name for name in one.takes_along if name not in old]
        if hosts or along:
            causes.append(one._replace(hosts=hosts or one.hosts, takes_along=along))
    return Survey([line for line in whole.lines if line.host not in old], causes, whole.tests, len(old))


_ORDER = {UNWELL: 0, UNREAD: 1, WELL: 2}


def _rank(line: HostLine) -> tuple[int, int, str]:
    return _ORDER[line.stands], -len(line.services), line.host


def _at_risk(services: pa.Table) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    rows = services.filter(pc.fill_null(services["down_after_boot"], False))
    for host, service in zip(rows["host"].to_pylist(), rows["service"].to_pylist(), strict=True):
        found.setdefault(host, []).append(service)
    return found


def _line(
    row: dict[str, Any], unwell: dict[str, list[str]], at_risk: dict[str, list[str]], since: dict[str, datetime]
) -> HostLine:
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
        at_risk.get(name, []),
    )


class _Troubles(NamedTuple):
    """What is wrong with services, a row a cause of one: their surest causes, and the others that are likelier than not."""

    host: CodedColumn
    service: CodedColumn
    cause: CodedColumn
    at_host: CodedColumn
    at_service: CodedColumn
    confidence: npt.NDArray[np.float32]
    says: Any


def _troubles(services: pa.Table) -> _Troubles:
    lists = services["causes"].combine_chunks()
    rows, causes = pc.list_parent_indices(lists), pc.list_flatten(lists)
    parents = rows.to_numpy()
    confidence = np.asarray(pc.struct_field(causes, "confidence").to_numpy(), dtype=np.float32)
    first = np.ones(len(parents), dtype=bool)
    first[1:] = parents[1:] != parents[:-1]
    kept = pa.array(np.flatnonzero(first | (confidence >= _SURE)))
    causes, rows = causes.take(kept), rows.take(kept)
    host, service = (coded(services[name].take(rows)) for name in ("host", "service"))
    cause, at_host, at_service = (coded(pc.struct_field(causes, name)) for name in ("cause", "host", "service"))
    sure = np.asarray(pc.struct_field(causes, "confidence").to_numpy(), dtype=np.float32)
    return _Troubles(host, service, cause, at_host, at_service, sure, pc.struct_field(causes, "says"))


def _unwell(found: _Troubles) -> dict[str, list[str]]:
    """The services that are not well, by host."""
    sick: dict[str, list[str]] = {}
    hosts, services = found.host.words.to_pylist(), found.service.words.to_pylist()
    pairs = np.stack((found.host.codes, found.service.codes))
    # In the order in which they come, each once.
    _, first = np.unique(pairs[0] * max(1, len(services)) + pairs[1], return_index=True)
    for host, service in pairs[:, np.sort(first)].T.tolist():
        sick.setdefault(hosts[host], []).append(services[service])
    return sick


def _grouped(found: _Troubles) -> dict[tuple[str, str], _Cause]:
    """The causes, each with all hosts that it sits on or takes along."""
    causes, services = found.cause.words.to_pylist(), found.at_service.words.to_pylist()
    hosts, at_hosts = found.host.words.to_pylist(), found.at_host.words.to_pylist()
    width = max(1, len(services))
    keys, first, back = np.unique(
        found.cause.codes * width + found.at_service.codes, return_index=True, return_inverse=True
    )
    order = np.argsort(back, kind="stable")
    starts = np.searchsorted(back[order], np.arange(len(keys) + 1))
    gathered = {}
    for number, key in enumerate(keys.tolist()):
        rows = order[starts[number] : starts[number + 1]]
        places: dict[str, float] = {}
        for at, sure in zip(found.at_host.codes[rows].tolist(), found.confidence[rows].tolist(), strict=True):
            places[at_hosts[at]] = max(places.get(at_hosts[at], 0.0), sure)
        targets = found.host.codes[rows] * max(1, len(found.service.words)) + found.service.codes[rows]
        gathered[causes[key // width], services[key % width]] = _Cause(
            places,
            {hosts[code] for code in np.unique(found.host.codes[rows]).tolist()},
            len(np.unique(targets)),
            found.says[int(first[number])].as_py(),
        )
    return gathered

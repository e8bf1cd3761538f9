"""A survey of many hosts: how each stands, and what is wrong where, the commonest first, with what those hosts have in common."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import Any, NamedTuple

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
_SURE = 0.5
"""Confidence from which on a further cause of a service counts; its surest always does."""
OF_HOSTS = (
    "round", "kept_at", "host", "read", "why", "read_at", "family", "unwell", "failing_since", *HOST_COLUMNS,
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
    at_risk = _at_risk(latest.services)
    lines = sorted((_line(row, unwell, at_risk, latest.since) for row in latest.hosts.to_pylist()), key=_rank)
    groups = _grouped(causes)
    read = latest.hosts.filter(latest.hosts["read"])
    places = {key: sorted(group.places) for key, group in groups.items()}
    ground, tests = common_ground(read, latest.services, latest.packages, places) if groups else ({}, 0)
    found = []
    for (cause, service), group in groups.items():
        hosts = sorted(group.places)
        what = ground.get((cause, service), Ground(0, []))
        along = sorted({host for host, _ in group.targets} - set(hosts))
        sure = max(group.places.values())
        found.append(
            CauseOver(cause, service, hosts, along, len(group.targets), group.says, sure, what.compared, what.shared)
        )
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

"""What differs between a host and an earlier reading of it, its twin, or what most of its group have; what matters first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from math import log
from typing import Any, NamedTuple

from hollow_chain.causes import Facts
from hollow_chain.facts.host import Host
from hollow_chain.fleet.association import RATE, Counts, chances, interval
from hollow_chain.fleet.factors import SETTINGS
from hollow_chain.fleet.surveying import Latest
from hollow_chain.lacking import needs
from hollow_chain.lately.between import FAR, Divergence, differences
from hollow_chain.sources.shelves import EXTRA

with needs(EXTRA, "drift"):
    import numpy as np
    import pyarrow as pa
    import pyarrow.compute as pc

_PASSING = ("scope", "slice", "device", "target", "mount", "swap")
"""Kinds of units that come and go with sessions and disks, whatever is done to services."""
_MOST_OF = 0.8
"""Share of a group from which on something is what most of it have."""
LEAST_IN_GROUP = 3
"""Hosts that make a group: of two nobody can say which is the odd one."""


class Went(NamedTuple):
    """How often what is there now went with a failure of what is not well here, over the newest readings of the store."""

    counts: Counts
    strength: float
    """The logarithm of the odds ratio at its lower limit; 0 where chance would do it."""


class Drifted(NamedTuple):
    """One difference, and what speaks for its mattering."""

    divergence: Divergence
    went: Went | None


class Drift(NamedTuple):
    """The whole of it."""

    host: str
    against: str
    """What it was compared with, in words."""
    then: datetime | None
    now: datetime | None
    found: list[Drifted]
    """What somebody set, what matters most first."""
    stands: list[Divergence]
    """How things stand otherwise, which follows from the rest."""


def drift(then: Host, facts: Facts, now: Host, against: str, latest: Latest | None = None) -> Drift:
    """What differs between *then* and *now*, which is of *facts*."""
    unwell = {service.name for service in now.services if _is_unwell(facts, now, service.name)}
    told = _Store(latest, unwell) if latest is not None and unwell else None
    kinds = {service.name: service.kind for host in (then, now) for service in host.services}
    whole = differences(then, facts, now)
    found = [Drifted(one, told.went(one) if told is not None else None) for one in whole if not one.stands]
    found.sort(key=lambda one: _rank(one, kinds))
    return Drift(now.name, against, then.read_at, now.read_at, found, [one for one in whole if one.stands])


def _is_unwell(facts: Facts, host: Host, name: str) -> bool:
    node = facts.graph.node(host.name, name)
    return not facts.standing(node).well


def _rank(one: Drifted, kinds: Mapping[str, str]) -> tuple[float, int, int, str]:
    """What went with failures elsewhere first, then what is near to what is not well here; what comes and goes by itself last."""
    strength = one.went.strength if one.went is not None else 0.0
    passing = int(one.divergence.about == "the service itself" and kinds.get(one.divergence.service) in _PASSING)
    return -strength, passing, one.divergence.near, one.divergence.service or "\uffff"


_COLUMN_OF = {
    "startup": "startup",
    "account.user": "account",
    "limits.start_seconds": "start_limit",
    "limits.stop_seconds": "stop_limit",
    "limits.memory_bytes": "memory_limit",
    "limits.restart": "restart",
    "program.path": "program",
}
"""The column of the index for a field of a service."""


class _Store:
    """What the newest readings of all hosts say of a difference."""

    def __init__(self, latest: Latest, unwell: set[str]) -> None:
        self._latest = latest
        services = latest.services
        sick = services.filter(
            pc.and_(
                pc.is_in(services["service"].cast(pa.string()), pa.array(sorted(unwell))),
                pc.greater(pc.fill_null(pc.list_value_length(services["causes"]), 0), 0),
            )
        )
        self._sick = set(sick["host"].to_pylist())

    def went(self, one: Divergence) -> Went | None:
        """Of the hosts that have what is there now, and of those that have what was there before, how many are not well."""
        values = self._values(one)
        if values is None:
            return None
        after, before = values
        counts = Counts(
            len(after & self._sick),
            len((after | before) & self._sick),
            len(after - self._sick),
            len((after | before) - self._sick),
        )
        if not counts.sick_with or counts.sick + counts.well < LEAST_IN_GROUP:
            return None
        chance = float(chances(np.array([counts], dtype=np.int64))[0])
        return Went(counts, max(0.0, log(max(interval(counts).low, 1e-9))) if chance <= RATE else 0.0)

    def _values(self, one: Divergence) -> tuple[set[str], set[str]] | None:
        """The hosts that have what is there now, and those that have what was there before."""
        if one.field == "packages":
            return self._packaged(f"{one.thing} {one.after}"), self._packaged(f"{one.thing} {one.before}")
        column = _COLUMN_OF.get(one.field)
        if column is None or not one.service:
            return None
        services = self._latest.services
        rows = services.filter(pc.equal(services["service"].cast(pa.string()), one.service)).select(["host", column])
        by_value: dict[str, set[str]] = {}
        for host, value in zip(rows["host"].to_pylist(), rows[column].to_pylist(), strict=True):
            by_value.setdefault(_as_told(value), set()).add(host)
        return by_value.get(one.after, set()), by_value.get(one.before, set())

    def _packaged(self, package: str) -> set[str]:
        sets = {name for name, packages in self._latest.packages.items() if package in packages}
        hosts = self._latest.hosts
        return {
            host
            for host, name in zip(hosts["host"].to_pylist(), hosts["packages"].to_pylist(), strict=True)
            if name in sets
        }


def _as_told(value: object) -> str:
    if value is None:
        return ""
    if value == -1:
        return "none"
    return f"{value:g}" if isinstance(value, float) else str(value)


class Odd(NamedTuple):
    """Something that a host has otherwise than most of its group."""

    service: str
    about: str
    has: str
    most_have: str
    most: int
    of: int


def against_group(host: str, members: Sequence[str], latest: Latest) -> list[Odd]:
    """What *host* has otherwise than most of the other *members*, in the columns that somebody sets; the commonest agreement first."""
    others = [name for name in members if name != host]
    if len(others) < LEAST_IN_GROUP:
        return []
    found = [
        *_odd_settings(host, others, latest),
        *_odd_packages(host, others, latest),
        *_odd_host(host, others, latest),
    ]
    return sorted(found, key=lambda one: (-one.most / one.of, not one.service, one.service, one.about))


def _odd_settings(host: str, others: Sequence[str], latest: Latest) -> Iterator[Odd]:
    services = latest.services
    mine = _of_hosts(services, [host]).to_pylist()
    rows = _of_hosts(services, others)
    theirs: dict[str, list[dict[str, Any]]] = {}
    for row in rows.to_pylist():
        theirs.setdefault(row["service"], []).append(row)
    names = {row["service"] for row in mine}
    for row in mine:
        yield from _odd_row(row, theirs.get(row["service"], []), len(others))
    for name, having in theirs.items():
        if name not in names and len(having) >= _MOST_OF * len(others):
            yield Odd(name, "the service itself", "not there", "there", len(having), len(others))


def _odd_row(row: dict[str, Any], theirs: Sequence[dict[str, Any]], of: int) -> Iterator[Odd]:
    if len(theirs) < LEAST_IN_GROUP:
        if not theirs:
            yield Odd(row["service"], "the service itself", "there", "not there", of, of)
        return
    for column, (_, what) in SETTINGS.items():
        value, many = Counter(_as_told(one[column]) for one in theirs).most_common(1)[0]
        has = _as_told(row[column])
        if has != value and has and value and many >= _MOST_OF * len(theirs):
            yield Odd(row["service"], what, has, value, many, len(theirs))


def _odd_packages(host: str, others: Sequence[str], latest: Latest) -> Iterator[Odd]:
    names = dict(zip(latest.hosts["host"].to_pylist(), latest.hosts["packages"].to_pylist(), strict=True))
    mine = _versions(latest.packages.get(names.get(host) or "", ()))
    known = [_versions(latest.packages[names[one]]) for one in others if names.get(one) in latest.packages]
    if not mine or len(known) < LEAST_IN_GROUP:
        return
    counts: dict[str, Counter[str]] = {}
    for versions in known:
        for name, version in versions.items():
            counts.setdefault(name, Counter())[version] += 1
    for name in sorted(counts.keys() | mine.keys()):
        of = counts.get(name, Counter())
        absent = len(known) - of.total()
        version, many = max([*of.items(), (_ABSENT, absent)], key=lambda one: one[1])
        has = mine.get(name, _ABSENT)
        if has != version and many >= _MOST_OF * len(known):
            yield Odd("", f"package {name}", has, version, many, len(known))


_ABSENT = "not there"


def _versions(packages: Iterable[str]) -> dict[str, str]:
    return {name: version for name, _, version in (one.partition(" ") for one in packages)}


def _odd_host(host: str, others: Sequence[str], latest: Latest) -> Iterator[Odd]:
    rows = {row["host"]: row for row in latest.hosts.to_pylist()}
    if host not in rows:
        return
    for column, what in (("system", "system"), ("architecture", "architecture"), ("default_target", "start-up target")):
        values = Counter(_as_told(rows[one][column]) for one in others if one in rows)
        value, many = values.most_common(1)[0]
        has = _as_told(rows[host][column])
        if has != value and has and value and many >= _MOST_OF * values.total():
            yield Odd("", what, has, value, many, values.total())


def _of_hosts(services: pa.Table, hosts: Sequence[str]) -> pa.Table:
    return services.filter(pc.is_in(services["host"].cast(pa.string()), pa.array(list(hosts)))).select(
        ["host", "service", *SETTINGS]
    )


def nearest_well(
    history: pa.Table, newest: dict[str, Any], before: datetime | None, wants_well: bool
) -> dict[str, Any] | None:
    """The row of the last reading of a host that came before its *newest*, and before that moment; where *wants_well* the last in which
    it was well. None where there is none."""
    rows = [row for row in history.filter(pc.equal(history["host"], newest["host"])).to_pylist() if row["read"]]
    rows.sort(key=lambda row: row["round"])
    earlier = [
        row
        for row in rows
        if row["round"] < newest["round"]
        and (before is None or (row["read_at"] is not None and row["read_at"] <= before))
    ]
    well = [row for row in earlier if not row["unwell"]]
    chosen = (well or earlier) if wants_well else earlier
    return chosen[-1] if chosen else None


def is_far(one: Drifted) -> bool:
    """Whether nothing ties it to what is not well."""
    return one.divergence.near >= FAR and (one.went is None or not one.went.strength)

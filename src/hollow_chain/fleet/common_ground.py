"""What the hosts with a cause have in common that the well ones have not: every factor against every cause, and what chance would not do."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from hollow_chain.fleet.association import RATE, Counts, Interval, chances, corrected, interval
from hollow_chain.fleet.factors import KINDS, Bank, Factor, Group, Mask, ServiceRows, of_hosts, of_packages
from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

with needs(EXTRA, "a survey"):
    import pyarrow as pa

LEAST = 2
"""Hosts from which on a cause may have something in common."""
_MOST_SHARED = 3
"""Factors of one cause that are told; what the very same hosts have stands with each."""
_MOST_SAME = 20
"""Factors of the very same hosts that are told with one."""

Key = tuple[str, str]
"""A cause and the service that it is on."""


class Shared(NamedTuple):
    """What hosts with a cause have that well ones have not."""

    factor: Factor
    counts: Counts
    chance: float
    """How likely chance alone does that, corrected for all that was tried."""
    odds: Interval
    same: list[Factor]
    """What the very same hosts have."""


class Ground(NamedTuple):
    """What was found of one cause."""

    compared: int
    """Well hosts that have the service, too."""
    shared: list[Shared]


class _Tried(NamedTuple):
    """The tests of one bank on one group: counts of its factors, a row each."""

    group: Group
    bank: Bank
    places: npt.NDArray[np.int64]
    """Of the factors that were tested."""
    counts: npt.NDArray[np.int64]
    """Of these: sick that have it, sick, well that have it, well."""


def common_ground(
    hosts: pa.Table, services: pa.Table, packages: Mapping[str, Sequence[str]], places: Mapping[Key, Sequence[str]]
) -> tuple[dict[Key, Ground], int]:
    """What the hosts at the *places* of each cause have in common, by cause; and how many tests that took. *hosts* are those that were
    read, a row each."""
    row_of = {name: place for place, name in enumerate(hosts["host"].to_pylist())}
    rows = ServiceRows(services, row_of)
    groups = list(_groups(rows, places, row_of))
    tried = list(_tried(hosts, rows, packages, groups)) if groups else []
    claimed = _claimed(tried)
    found = {group.key: Ground(len(group.well), claimed.get(group.key, [])) for group in groups}
    return found, sum(len(one.places) for one in tried)


def _groups(rows: ServiceRows, places: Mapping[Key, Sequence[str]], row_of: Mapping[str, int]) -> Iterator[Group]:
    for key, names in places.items():
        sick = np.array(sorted({row_of[name] for name in names if name in row_of}), dtype=np.int64)
        if len(sick) >= LEAST:
            kinds = np.zeros(len(row_of), dtype=np.int8)
            kinds[rows.well_with(key[1])] = 1
            kinds[sick] = 2
            well, other = np.flatnonzero(kinds == 1), np.flatnonzero(kinds == 0)
            if len(well):
                yield Group(key, sick, well, other)


def _tried(
    hosts: pa.Table, rows: ServiceRows, packages: Mapping[str, Sequence[str]], groups: Sequence[Group]
) -> Iterator[_Tried]:
    for bank in (*of_hosts(hosts), of_packages(hosts, packages)):
        for group in groups:
            yield _tests(group, bank)
    orders: dict[str, Bank] = {}
    for group in groups:
        cause, service = group.key
        for name in rows.around(service):
            for bank in rows.banks(name):
                yield _tests(group, bank, _apart(cause) if name == service else "")
        if service not in orders:
            orders[service] = rows.orders(service)
        yield _tests(group, orders[service])


def _apart(cause: str) -> str:
    """What says of the very service nothing but the cause itself."""
    from hollow_chain.causes.rule import rule_of

    try:
        return "startup type" if rule_of(cause).family in ("startup", "dependency") else ""
    except KeyError:  # of a newer program
        return ""


def _tests(group: Group, bank: Bank, apart: str = "") -> _Tried:
    """The tests that can tell anything: of what differs between any two of the hosts."""
    counts = bank.counts(group)
    sick_with, sick, well_with, well = counts.T
    both = sick_with + well_with
    places = np.flatnonzero((both > 0) & (both < sick + well))
    if apart:
        places = np.array([at for at in places.tolist() if bank.factors[at].what != apart], dtype=np.int64)
    return _Tried(group, bank, places, counts[places])


def _claimed(tried: Sequence[_Tried]) -> dict[Key, list[Shared]]:
    """What chance would not do; of all tests together the false discovery rate is held down."""
    counts = np.vstack([one.counts for one in tried]) if tried else np.zeros((0, 4), dtype=np.int64)
    if not len(counts):
        return {}
    chance = corrected(chances(counts))
    found: dict[Key, list[_Claim]] = {}
    populations: dict[Key, Group] = {}
    first = 0
    for one in tried:
        mine = chance[first : first + len(one.places)]
        first += len(one.places)
        populations[one.group.key] = one.group
        for at in np.flatnonzero(mine <= RATE):
            place = int(one.places[at])
            claim = _Claim(float(mine[at]), one.bank.factors[place], one.bank, place, Counts(*map(int, one.counts[at])))
            found.setdefault(one.group.key, []).append(claim)
    return {key: _told(claims, populations[key]) for key, claims in found.items()}


class _Claim(NamedTuple):
    chance: float
    factor: Factor
    bank: Bank
    place: int
    counts: Counts


def _told(claims: list[_Claim], group: Group) -> list[Shared]:
    """The strongest first; those of the very same hosts together, and those left out that only go with a stronger one."""
    claims.sort(key=lambda one: (one.chance, -one.counts.sick_with, KINDS.index(one.factor.kind), one.factor))
    found: list[tuple[_Claim, Mask, list[Factor]]] = []
    among = np.zeros(len(group.sick) + len(group.well) + len(group.other), dtype=bool)
    among[group.sick] = among[group.well] = True
    for claim in claims:
        hosts = claim.bank.hosts(claim.place) & among
        twin = next((one for one in found if one[0].counts == claim.counts and np.array_equal(one[1], hosts)), None)
        if twin is not None:
            if len(twin[2]) < _MOST_SAME:
                twin[2].append(claim.factor)
        elif len(found) < _MOST_SHARED and all(_adds(claim, one[1], group) for one in found):
            found.append((claim, hosts, []))
    return [Shared(one.factor, one.counts, one.chance, interval(one.counts), same) for one, _, same in found]


def _adds(claim: _Claim, stronger: Mask, group: Group) -> bool:
    """Whether it tells the sick from the well also among hosts that have the stronger factor, or among those that have not."""
    having, known = claim.bank.hosts(claim.place), claim.bank.known(claim.place)
    strata = []
    for within in (stronger & known, ~stronger & known):
        sick, well = group.sick[within[group.sick]], group.well[within[group.well]]
        strata.append((np.count_nonzero(having[sick]), len(sick), np.count_nonzero(having[well]), len(well)))
    return bool((chances(np.array(strata, dtype=np.int64)) * len(strata) <= RATE).any())

"""The nearest earlier reading in which a service was well, and what has been changed since: evidence by itself, and the shortest way to a
cause that there is."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from msgspec.structs import replace

from hollow_chain.causes import Evidence, Facts
from hollow_chain.causes.finding import TELLS
from hollow_chain.causes.words import clock
from hollow_chain.fleet.index import Index
from hollow_chain.lately.between import FAR, Divergence, differences
from hollow_chain.sources.readings import Readings
from hollow_chain.verdict import Verdict

_MOST = 5
"""Differences that are told: more of them say that nobody knows which it was."""


class WellBefore(NamedTuple):
    """When a service was well, and what of it and of what it needs is otherwise now."""

    at: datetime
    changed: list[Divergence]
    more: int
    """Differences that are not told."""

    @property
    def says(self) -> str:
        """All of it in one sentence."""
        day = f"{self.at:%A} {clock(self.at)}"
        if not self.changed:
            return f"well on {day}; since then nothing was changed that both readings looked at"
        told = "; ".join(_told(one) for one in self.changed)
        return f"well on {day}; since then: {told}{f'; and {self.more} more' if self.more else ''}"


def _told(one: Divergence) -> str:
    who = f"{one.service}: " if one.service else ""
    return f"{who}{one.about} {one.before or 'none'} -> {one.after or 'none'}"


def well_before(store: Readings, facts: Facts, verdict: Verdict) -> WellBefore | None:
    """The nearest earlier reading of the host of the target in which that was well; None where there is none, or it is well now.

    Raises :class:`~hollow_chain.trouble.Trouble` where the snapshot of that reading cannot be read.
    """
    host = facts.graph.hosts.get(verdict.target.host)
    if host is None or verdict.healthy:
        return None
    file = _file(store, host.name, verdict.target.name, host.read_at)
    if file is None:
        return None
    then = next((one for one in store.snapshot(file).hosts if one.name == host.name), None)
    if then is None or then.read_at is None:
        return None
    chains = {node.name for cause in verdict.causes for node in cause.chain if node.host == host.name}
    found = [one for one in differences(then, facts, host) if not one.stands]
    near = [one for one in found if one.service in chains or (one.service and one.near < FAR)]
    # What holds for the whole host is told where it is little: an update of hundreds of packages says nothing.
    whole = [one for one in found if not one.service]
    near.sort(key=lambda one: (one.service not in chains, one.near))
    whole.sort(key=lambda one: not _is_named_like(one, chains))
    told = [*near, *(whole if len(whole) <= _MOST else [one for one in whole if _is_named_like(one, chains)])]
    return WellBefore(then.read_at, told[:_MOST], len(found) - len(told[:_MOST]))


def _is_named_like(one: Divergence, services: set[str]) -> bool:
    """Whether it is of a package that bears the name of one of *services*, or the first part of one."""
    name = one.thing
    return bool(name) and any(
        name.startswith(service.partition(".")[0]) or service.startswith(name) for service in services
    )


def _file(store: Readings, host: str, service: str, before: datetime | None) -> str | None:
    """The snapshot of the newest reading before then in which the service was there and well, whatever of the host was not."""
    index = Index(store)
    rows = [row for row in index.hosts(["round", "host", "read", "file", "read_at"]).to_pylist() if row["host"] == host]
    earlier = {
        row["round"]: str(row["file"])
        for row in rows
        if row["read"] and row["read_at"] is not None and (before is None or row["read_at"] < before)
    }
    numbers = sorted(earlier, reverse=True)
    for first in range(0, len(numbers), _AT_ONCE):
        well = _well_in(index, host, service, numbers[first : first + _AT_ONCE])
        if well:
            return earlier[max(well)]
    return None


_AT_ONCE = 8
"""Rounds that are looked through at once, the newest first: most services were well lately."""


def _well_in(index: Index, host: str, service: str, rounds: list[str]) -> list[str]:
    """Those of *rounds* in which the service of the host was there and well."""
    columns = ("round", "host", "standing", "causes")
    rows = index.services(columns, rounds, [service])
    return [
        number
        for number, name, standing, causes in zip(*(rows[column].to_pylist() for column in columns), strict=True)
        if name == host and number in rounds and standing == "up" and not causes
    ]


def with_before(verdict: Verdict, before: WellBefore) -> Verdict:
    """*verdict* with what was well before as evidence of its first cause."""
    if not verdict.causes:
        return verdict
    first = verdict.causes[0]
    piece = Evidence(before.says, "an earlier reading", before.at, TELLS)
    finding = replace(first.finding, evidence=(piece, *first.finding.evidence))
    verdict.causes[0] = replace(first, finding=finding)
    return verdict

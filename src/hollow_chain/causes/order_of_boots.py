"""Who came first, boot by boot: what the records say about a service and each of the others."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from hollow_chain.causes.case import Case
from hollow_chain.causes.words import failed_last
from hollow_chain.facts.host import BootRecord
from hollow_chain.facts.service import Service

SAME_BOOT_SECONDS = 5.0


@dataclass(frozen=True)
class Boot:
    """One boot as it went for one service: whether it came up, and when it was begun or up (seconds after boot)."""

    record: BootRecord
    good: bool
    moment: float


@dataclass(frozen=True)
class Order:
    """Another service whose place before or after this one tells the good boots from the bad ones."""

    other: Service
    first_when_bad: bool
    """Whether the other came first in the boots that failed (and later, or not at all, in the good ones)."""
    good: int
    bad: int


def boots_of(case: Case) -> list[Boot]:
    """All recorded boots in which the service was tried, the present one included."""
    found = []
    for record in _records(case):
        name = case.node.name
        good = name in record.up_seconds and name not in record.failed
        moment = record.tried_seconds.get(name, record.up_seconds.get(name) if good else None)
        if moment is None and name in record.failed:
            moment = _recorded_try(case, record)
        if moment is not None and (good or name in record.failed):
            found.append(Boot(record, good, moment))
    return found


def _recorded_try(case: Case, record: BootRecord) -> float | None:
    for start in case.service.starts:
        since = (start.at - record.at).total_seconds()
        if start.at_boot and start.outcome != "up" and -SAME_BOOT_SECONDS < since < 3600:
            return max(since, 0.0)
    return None


def _records(case: Case) -> list[BootRecord]:
    """The recorded boots; the present one is made up from the last runs where it is not among them."""
    host = case.host
    records = list(host.boots)
    if host.boot_at is None or any(abs((r.at - host.boot_at).total_seconds()) < SAME_BOOT_SECONDS for r in records):
        return records
    made = BootRecord(at=host.boot_at)
    for service in host.services:
        last = service.last
        if last is None:
            continue
        if last.started_at is not None and last.started_at >= host.boot_at:
            made.tried_seconds[service.name] = (last.started_at - host.boot_at).total_seconds()
            if service.state not in ("running", "done", "starting") and failed_last(service):
                made.failed.append(service.name)
        if last.up_at is not None and last.up_at >= host.boot_at and service.name not in made.failed:
            made.up_seconds[service.name] = (last.up_at - host.boot_at).total_seconds()
    return [*records, made]


def orders(case: Case) -> Iterator[Order]:
    """Every other service whose order against this one is one way in all good boots and the other in all bad ones."""
    boots = boots_of(case)
    good, bad = [b for b in boots if b.good], [b for b in boots if not b.good]
    if not good or not bad:
        return
    for other in case.host.services:
        if other.name == case.node.name or other.kind not in ("service", "socket", "mount"):
            continue
        before_good = [_was_first(other, boot) for boot in good]
        before_bad = [_was_first(other, boot) for boot in bad]
        if all(before_good) and not any(before_bad):
            yield Order(other, False, len(good), len(bad))
        elif not any(before_good) and all(before_bad):
            yield Order(other, True, len(good), len(bad))


def _was_first(other: Service, boot: Boot) -> bool:
    """Whether *other* was up before the service was begun."""
    up = boot.record.up_seconds.get(other.name)
    return up is not None and up < boot.moment

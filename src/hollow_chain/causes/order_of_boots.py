"""Who came first, boot by boot: what the records say about a service and each of the others."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from hollow_chain.causes.boot_records import SAME_BOOT_SECONDS
from hollow_chain.causes.case import Case
from hollow_chain.facts.host import BootRecord
from hollow_chain.facts.service import Service


class TriedBoot(msgspec.Struct, frozen=True):
    """One boot as it went for one service: whether it came up, and when it was begun or up (seconds after boot)."""

    record: BootRecord
    good: bool
    moment: float


class Order(msgspec.Struct, frozen=True):
    """Another service whose place before or after this one tells the good boots from the bad ones."""

    other: Service
    first_when_bad: bool
    """Whether the other came first in the boots that failed (and later, or not at all, in the good ones)."""
    good: int
    bad: int


def boots_of(case: Case) -> list[TriedBoot]:
    """All recorded boots in which the service was tried, the present one included."""
    found = []
    for record in case.index.boots:
        name = case.node.name
        good = name in record.up_seconds and name not in record.failed
        moment = record.tried_seconds.get(name, record.up_seconds.get(name) if good else None)
        if moment is None and name in record.failed:
            moment = _recorded_try(case, record)
        if moment is not None and (good or name in record.failed):
            found.append(TriedBoot(record, good, moment))
    return found


def _recorded_try(case: Case, record: BootRecord) -> float | None:
    for start in case.service.starts:
        since = (start.at - record.at).total_seconds()
        if start.at_boot and start.outcome != "up" and -SAME_BOOT_SECONDS < since < 3600:
            return max(since, 0.0)
    return None


def orders(case: Case) -> Iterator[Order]:
    """Every other service whose order against this one is one way in all good boots and the other in all bad ones."""
    boots = boots_of(case)
    good, bad = [b for b in boots if b.good], [b for b in boots if not b.good]
    if not good or not bad:
        return
    before_good, before_bad = [_up_before(boot) for boot in good], [_up_before(boot) for boot in bad]
    always_good = frozenset.intersection(*before_good).difference(*before_bad)
    always_bad = frozenset.intersection(*before_bad).difference(*before_good)
    if not always_good and not always_bad:
        return
    for other in case.host.services:
        if other.name != case.node.name and other.kind in ("service", "socket", "mount"):
            if other.name in always_good:
                yield Order(other, False, len(good), len(bad))
            elif other.name in always_bad:
                yield Order(other, True, len(good), len(bad))


def _up_before(boot: TriedBoot) -> frozenset[str]:
    """What was up before the service was begun."""
    return frozenset(name for name, up in boot.record.up_seconds.items() if up < boot.moment)

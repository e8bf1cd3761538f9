"""Starts and boots of the past, from the manager's own records in the journal: how long, in which order, with what end."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Literal

from hollow_chain.facts.host import BootRecord, Host
from hollow_chain.facts.runs import Start
from hollow_chain.facts.service import Service
from hollow_chain.families.messages import FAILED, STARTED, STARTING
from hollow_chain.families.times import AT_BOOT_SECONDS, Limit, start_limit
from hollow_chain.reach.interfaces import Each, in_turn
from hollow_chain.sources.systemd.journal import Journal, ManagerRecord

MOST_RECORDS = 120
MOST_BOOTS = 8
MOST_SERVICES = 40
"""Records, boots and services that are asked about: of each service its last forty starts or so (three records each), and of the
host a week of daily boots; every question goes through a journal that may be long."""


_STAYED = timedelta(seconds=10)
"""How long a program that counts as up at once has to stay before its start was a good one."""


def add(host: Host, services: list[Service], journal: Journal, this_boot: str, each: Each = in_turn) -> None:
    """Give *services* (those that are not well) their recorded starts, and the host the boots in which they were tried."""
    began: dict[str, datetime] = {this_boot: host.boot_at} if host.boot_at is not None else {}
    seen: set[str] = set()
    asked = services[:MOST_SERVICES]
    of_each = each(
        lambda one: journal.told({"UNIT": (one.name,), "MESSAGE_ID": (STARTING, STARTED, FAILED)}, MOST_RECORDS), asked
    )
    for service, told in zip(asked, of_each, strict=True):
        for boot in dict.fromkeys(one.boot for one in told):
            if boot not in began:
                first = journal.told({"_BOOT_ID": (boot,)}, 1, from_head=True)
                began[boot] = first[0].at if first else told[0].at
        service.starts = starts_of(told, began, start_limit(service, host))
        seen.update(one.boot for one in told)
    if len(seen) > 1:
        host.boots = [_boot(boot, began[boot], journal) for boot in sorted(seen, key=began.__getitem__)[-MOST_BOOTS:]]


def starts_of(told: list[ManagerRecord], began: dict[str, datetime], limit: Limit | None) -> list[Start]:
    """The starts that the records tell, oldest first: from the record that one begins to the one of how it went."""
    found: list[Start] = []
    begun: ManagerRecord | None = None
    for at, one in enumerate(told):
        if one.code == STARTING:
            begun = one
        elif begun is not None and one.boot == begun.boot:
            found.append(_timed(begun, one, began, limit))
            begun = None
        elif begun is None and one.code == STARTED and _stayed(one, told[at + 1 : at + 2]):
            found.append(Start(at=one.at, at_boot=_of_boot(_since_boot(one, began))))
    return found


def _timed(begun: ManagerRecord, ended: ManagerRecord, began: dict[str, datetime], limit: Limit | None) -> Start:
    took = (ended.at - begun.at).total_seconds()
    after = _since_boot(begun, began)
    up = ended.code == STARTED
    return Start(
        at=begun.at,
        seconds=round(max(took, 0.0), 3),
        outcome="up" if up else _how_it_failed(took, limit),
        at_boot=_of_boot(after),
        offset=round(after + took, 3) if after is not None and after + took >= 0 and up else None,
    )


def _since_boot(one: ManagerRecord, began: dict[str, datetime]) -> float | None:
    return (one.at - began[one.boot]).total_seconds() if one.boot in began else None


def _of_boot(after: float | None) -> bool:
    return after is not None and after <= AT_BOOT_SECONDS


def _stayed(one: ManagerRecord, following: list[ManagerRecord]) -> bool:
    """Whether a start of a program that counts as up once it is forked, and so has no record of its beginning (systemd.service(5),
    "simple"), was a good one: nothing says that it failed soon after."""
    return not any(
        later.code == FAILED and later.boot == one.boot and later.at - one.at <= _STAYED for later in following
    )


def _how_it_failed(took: float, limit: Limit | None) -> Literal["failed", "timeout"]:
    """The records say that a start failed; that it ran out of time follows from how long it took."""
    return "timeout" if limit is not None and limit.seconds <= took else "failed"


def _boot(boot: str, began: datetime, journal: Journal) -> BootRecord:
    """One boot: the moments at which each start in it was begun and was up, and what failed."""
    record = BootRecord(at=began)
    for one in journal.told({"_BOOT_ID": (boot,), "MESSAGE_ID": (STARTING, STARTED, FAILED)}, 4000, from_head=True):
        after = (one.at - began).total_seconds()
        if after > AT_BOOT_SECONDS:
            break
        if one.code == STARTING:
            record.tried_seconds.setdefault(one.unit, round(max(after, 0.0), 3))
        elif one.code == STARTED:
            record.up_seconds.setdefault(one.unit, round(max(after, 0.0), 3))
        elif one.unit not in record.failed and one.unit not in record.up_seconds:
            record.failed.append(one.unit)
    return record

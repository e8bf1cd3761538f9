"""How the last run ended, as the rules of startup types and stops see it."""

from __future__ import annotations

from datetime import datetime, timedelta

from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import TELLS, Evidence
from hollow_chain.facts.service import Service


def is_done(case: Case) -> bool:
    """Whether it is meant to end, and ended well: nothing is left to be started."""
    program = case.service.program
    return program is not None and program.style == "oneshot" and not program.stays


_BOUND = "BindsTo"


def end_of(service: Service) -> datetime | None:
    """When the last run ceased to be up, or else ended."""
    last = service.last
    return (last.left_up_at or last.ended_at) if last else None


def last_records(case: Case) -> list[Evidence]:
    """The last words about it, as evidence."""
    return [case.quoted(event) for event in case.last_events()[-3:] if event.text]


def was_bound(case: Case) -> bool:
    """Whether it is bound to something that is down, so that the manager stopped it for that (systemd.unit(5), "BindsTo=")."""
    bound = (link for link in case.service.links if link.kind == "hard" and link.word == _BOUND and not link.host)
    heads = (case.graph.node(case.node.host, link.to) for link in bound)
    return any(head.service is not None and head.service.state in ("stopped", "failed") for head in heads)


_AT_ONCE = 2.0
"""Seconds within which two services end whose stops belong to one request."""


def went_down_with(case: Case) -> bool:
    """Whether it ended with the service above it, whose stop takes it along and whose start brings it back: it is no reason of that."""
    above, ended = case.needed_from, end_of(case.service)
    if above is None or above.service is None or above.host != case.node.host or ended is None:
        return False
    left = end_of(above.service)
    tied = any(link.to == above.name and (link.stops or link.word == _BOUND) for link in case.service.links)
    return tied and left is not None and left <= ended + timedelta(seconds=_AT_ONCE)


def stopped_with(case: Case) -> Evidence | None:
    """The service whose stop takes this one along, where both ended together (systemd.unit(5), "PartOf=", "Requires=")."""
    ended = end_of(case.service)
    for link in case.service.links if ended is not None else ():
        other = (
            case.graph.find(case.node.host, link.to) if not link.host and (link.stops or link.kind == "hard") else None
        )
        left = end_of(other) if other is not None and other.state in ("stopped", "failed") else None
        if other is None or ended is None or left is None or abs((ended - left).total_seconds()) > _AT_ONCE:
            continue
        fact = f"{other.name} was stopped at the same moment, and its stop takes {case.node.name} along ({link.word or link.kind})"
        return case.seen(fact, MANAGER, left, TELLS)
    return None

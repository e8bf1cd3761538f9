"""How the last run ended, as the rules of startup types and stops see it."""

from __future__ import annotations

from datetime import datetime

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import Evidence
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

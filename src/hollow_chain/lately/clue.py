"""What was changed shortly before a service failed: the most wanted clue, and no more than a clue."""

from __future__ import annotations

from datetime import datetime, timedelta

from hollow_chain.facts.change import Change
from hollow_chain.facts.host import Event, Host
from hollow_chain.facts.service import Service
from hollow_chain.families.messages import FAILED, STOPPED
from hollow_chain.lately.gather import Known, told_by_facts

LITTLE = timedelta(hours=1)
"""How long before a failure a change may lie that is told with it: within that time whoever changed something tries it, or its timer
comes round."""
_OF_HOST = timedelta(minutes=5)
"""The same of what holds for the whole host: so many things change there that only the nearest tell anything."""
_SLACK = timedelta(seconds=1)
"""File times and records are of clocks that differ by ticks."""
_MOST = 3
"""Changes that are told: those who read more begin to doubt all of them."""
_BY_SOMEBODY = frozenset(
    ("definition", "settings", "program", "data", "package", "startup", "command", "account", "system")
)
"""What somebody changes; that services start, stop and fail are the consequences."""


class Clues:
    """The changes of one host by the service that they are about."""

    def __init__(self, host: Host) -> None:
        self._host = host
        self._files = {file.path: file for file in host.files}
        self._of_host = [one for one in host.changes if not one.services and one.kind in ("system", "package")]
        self._own: dict[str, list[Change]] = {}
        for one in host.changes:
            for name in one.services if one.kind in _BY_SOMEBODY else ():
                self._own.setdefault(name, []).append(one)
        self._events: dict[str, list[Event]] = {}
        self._stops: dict[str, datetime] = {}
        for event in host.events:
            if event.code == FAILED:
                self._events.setdefault(event.service, []).append(event)
            elif event.code == STOPPED:
                self._stops[event.service] = event.at

    def failing_since(self, service: Service) -> datetime | None:
        """When the failure began that still lasts: a service that is restarted fails again and again."""
        last = service.last
        good = [start.at for start in service.starts if start.outcome == "up"]
        failed = [event.at for event in self._events.get(service.name, ()) if not good or event.at > max(good)]
        if failed or last is None:
            # Of a unit that is unloaded, as one that was masked, the manager knows nothing but what it has recorded.
            return min(failed, default=self._stops.get(service.name))
        return last.left_up_at or last.started_at or last.ended_at

    def preceding(self, service: Service) -> list[Change]:
        """The changes that precede the failure of *service* by little, its own first, the nearest first."""
        since = self.failing_since(service)
        if since is None:
            return []
        recorded = self._own.get(service.name, [])
        known = Known(recorded)
        told = [one for one in told_by_facts(self._host, service, self._files) if not known.has(one)]
        first, last = since - LITTLE, since + _SLACK
        own = [one for one in (*recorded, *told) if first <= one.at <= last]
        others = [one for one in self._of_host if first <= one.at <= last]
        # In an update of many packages none of them says anything by itself; what holds for the whole host is a clue only where
        # nothing was done to the service itself.
        near = own or [one for one in others if len(others) <= _MOST and since - one.at <= _OF_HOST]
        return sorted(near, key=lambda one: (not one.services, since - one.at))[:_MOST]

"""Starts, stops and pauses that are under way, looked at twice: whether they come along, and whether their process is there."""

from __future__ import annotations

import time

from hollow_chain.reach.control import Declined
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.control.services import stands
from hollow_chain.sources.reading import HostReading

_BETWEEN = 0.6
"""Seconds between the two looks at the least: most services that report well count more often."""
_MOST = 50
"""Services that are looked at twice: more are hardly ever under way at once."""


def settle(reading: HostReading) -> None:
    """Look once more at what was under way."""
    waiting = [service for service in reading.host.services if service.progress is not None][:_MOST]
    if not waiting:
        return
    reached = control(reading)
    since = reading.host.read_at
    passed = (reached.now() - since).total_seconds() if since is not None else 0.0
    time.sleep(max(0.0, _BETWEEN - max(0.0, passed)))
    for service in waiting:
        first = service.progress
        try:
            status = reached.database.status(service.name)
        except Declined:
            continue
        began = service.last.started_at if service.last is not None else None
        service.progress = None
        stands(service, status)
        if service.last is not None:
            service.last.started_at = began
        if service.progress is not None and first is not None:
            service.progress.moves = service.progress.checkpoint != first.checkpoint
            service.progress.looked_for = max(_BETWEEN, passed)
            service.progress.process_runs = reached.processes.runs(status.process) if status.process else None

"""Watching one start through the hands of a host: states, records and processes, where no calls can be traced (the control-manager
family, and stand-in hosts)."""

from __future__ import annotations

import threading
import time
from datetime import UTC, datetime

from hollow_chain.boot.making import UP
from hollow_chain.causes.standing import failed_last
from hollow_chain.facts.host import Host
from hollow_chain.facts.observed import Observation, ObservedPart, Outcome
from hollow_chain.facts.service import Service
from hollow_chain.mend.hands import Hands, NotDone
from hollow_chain.mend.plan import Step
from hollow_chain.observing.course import LOG, PROCESS, SOCKET, STATE, Seen, Tell

_POLL = 0.5
"""Seconds between two looks, each of which is a whole reading."""
_SETTLED = 3
"""Seconds for which a start has to stay good, as on systemd hosts."""
NOT_TRACED = "calls are traced on systemd hosts only; states, records and sockets were watched"


def observed(hands: Hands, step: Step, target: str, seconds: float, tell: Tell) -> Observation:
    """Carry out *step*, the start of *target*, and watch it. Raises :class:`NotDone` where it cannot even be asked for."""
    began = time.monotonic()
    before = hands.facts().hosts[0]
    at = before.read_at or datetime.now(UTC)
    seen = _Looks(before, target, at, tell)
    done: list[BaseException | None] = []

    def carry_out() -> None:
        try:
            hands.do(step, {})
            done.append(None)
        except BaseException as error:
            done.append(error)

    worker = threading.Thread(target=carry_out, daemon=True)
    worker.start()
    while worker.is_alive() and time.monotonic() - began < seconds:
        worker.join(_POLL)
        seen.look(hands.facts().hosts[0])
    worker.join(0.0 if worker.is_alive() else None)
    after = hands.facts().hosts[0]
    up_at, service = after.read_at, seen.look(after)
    for _ in range(_SETTLED if service is not None and service.state in UP else 0):
        hands.let_pass(1.0)
        after = hands.facts().hosts[0]
        service = seen.look(after)
    problem = done[0] if done else None
    if problem is not None and not isinstance(problem, NotDone):
        raise problem
    took = round(((after.read_at or at) - at).total_seconds(), 3)
    until = round(((up_at or at) - at).total_seconds(), 3)
    parts = [ObservedPart("until it was up", until)] if service is not None and service.state in UP else []
    return Observation(target, at, took, _outcome(service, bool(done)), why_not_traced=NOT_TRACED, parts=parts)


def _outcome(service: Service | None, over: bool) -> Outcome:
    if service is not None and service.state in UP:
        return "up"
    if not over or service is None or service.state in ("starting", "stopping"):
        return "not-up"
    return "failed" if service.state == "failed" or failed_last(service) else "ended"


class _Looks:
    """What is new since the look before."""

    def __init__(self, before: Host, target: str, began: datetime, tell: Tell) -> None:
        self._target, self._began, self._now, self._tell = target, began, began, tell
        self._events = {(one.at, one.text) for one in before.events}
        self._sockets = {(one.protocol, one.address, one.port) for one in before.listeners}
        self._state = self._process = ""

    def look(self, host: Host) -> Service | None:
        """Tell what is new on *host*; the service."""
        self._now = host.read_at or self._now
        service = next((one for one in host.services if one.name == self._target), None)
        if service is not None:
            progress = service.progress
            step = f", step {progress.checkpoint}" if progress is not None and service.state == "starting" else ""
            self._changed("_state", STATE, f"{service.state}{step}")
            process = service.program.process if service.program is not None else 0
            if process:
                self._changed(
                    "_process", PROCESS, f"{service.program.path if service.program else ''} (process {process})"
                )
        for event in host.events:
            if event.service == self._target and (event.at, event.text) not in self._events:
                self._events.add((event.at, event.text))
                self._say(LOG, event.text)
        for one in host.listeners:
            if one.service == self._target and (one.protocol, one.address, one.port) not in self._sockets:
                self._sockets.add((one.protocol, one.address, one.port))
                self._say(SOCKET, f"{one.protocol} {one.address or '*'}:{one.port}")
        return service

    def _changed(self, name: str, kind: str, text: str) -> None:
        if getattr(self, name) != text:
            setattr(self, name, text)
            self._say(kind, text)

    def _say(self, kind: str, text: str) -> None:
        self._tell(Seen(kind, (self._now - self._began).total_seconds(), text))

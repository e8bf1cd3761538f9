"""Orders to a service control manager, each waited for until it is done or has failed: the same wherever the manager is asked."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod

from hollow_chain.reach.control import (
    AUTOMATIC,
    CONTINUE_PENDING,
    MANUAL,
    PAUSE_PENDING,
    PAUSED,
    RUNNING,
    START_PENDING,
    STOP_PENDING,
    Declined,
    ServiceStatus,
)

RUNS_ALREADY, NOT_STARTED, DATABASE_LOCKED, INVALID_LEVEL = 1056, 1062, 1055, 124
NO_SUCH_LEVEL = (INVALID_LEVEL, 50, 87)
"""Numbers by which a manager says that it does not know a kind of setting."""
DESCRIPTION, FAILURE_ACTIONS, DELAYED = 1, 2, 3
"""Kinds of settings beside the definition proper (``SERVICE_CONFIG_DESCRIPTION`` and its like)."""
STOP, PAUSE, CONTINUE = 1, 2, 3
"""Controls (``SERVICE_CONTROL_STOP`` and its like)."""
START_NUMBERS = {"automatic": AUTOMATIC, "delayed": AUTOMATIC, "manual": MANUAL}
ACCOUNTS = {
    "LocalSystem": "LocalSystem",
    "LocalService": r"NT AUTHORITY\LocalService",
    "NetworkService": r"NT AUTHORITY\NetworkService",
}
"""Names under which the manager takes the accounts that every system has (ChangeServiceConfigW, ``lpServiceStartName``)."""
_LOCKED_FOR = 300.0
"""Seconds for which a locked database is waited for: after a boot it is locked until all that is automatic has been started."""
_LONGEST = 900.0
"""Seconds that a start or stop may take at the most, as somebody sits in front of it."""
_LEAST_HINT = 30.0
"""Seconds that one has in any case before it counts as stuck."""
_LOOK = 0.1
"""Seconds between two looks at what is under way."""


class WaitedOrders(ABC):
    """Starts and stops that are waited for. All raise :class:`Declined`."""

    @abstractmethod
    def status(self, name: str) -> ServiceStatus:
        """How a service stands now."""

    @abstractmethod
    def begin(self, name: str) -> None:
        """Have a service started; the end of the start is not waited for."""

    @abstractmethod
    def send(self, name: str, control: int) -> None:
        """Send a control to a service."""

    def start(self, name: str) -> ServiceStatus:
        """Start a service, and wait for the end of its start; a database that is locked is waited for."""
        until = time.monotonic() + _LOCKED_FOR
        while True:
            try:
                self.begin(name)
                break
            except Declined as declined:
                if declined.number == RUNS_ALREADY:
                    break
                if declined.number != DATABASE_LOCKED or time.monotonic() > until:
                    raise
                time.sleep(1.0)
        return self._waited(name, (START_PENDING,))

    def stop(self, name: str) -> ServiceStatus:
        """Stop a service, and wait until it has stopped."""
        try:
            self.send(name, STOP)
        except Declined as declined:
            if declined.number != NOT_STARTED:
                raise
        return self._waited(name, (STOP_PENDING, RUNNING))

    def resume(self, name: str) -> ServiceStatus:
        """Continue a service that is paused."""
        self.send(name, CONTINUE)
        return self._waited(name, (CONTINUE_PENDING, PAUSED))

    def pause(self, name: str) -> ServiceStatus:
        """Pause a service."""
        self.send(name, PAUSE)
        return self._waited(name, (PAUSE_PENDING, RUNNING))

    def _waited(self, name: str, on_the_way: tuple[int, ...]) -> ServiceStatus:
        """The status after the end of what is under way: for as long as it counts on within what it says that it needs."""
        began = moved = time.monotonic()
        checkpoint = -1
        while True:
            status = self.status(name)
            now = time.monotonic()
            if status.state not in on_the_way:
                return status
            if status.checkpoint != checkpoint:
                checkpoint, moved = status.checkpoint, now
            if now - moved > max(_LEAST_HINT, status.wait_hint / 1000) or now - began > _LONGEST:
                return status
            time.sleep(_LOOK)

"""Orders to the service control manager of this machine (winsvc.h), each waited for until it is done or has failed."""

from __future__ import annotations

import time
from typing import Any

import win32service as api

from hollow_chain.reach.control import AUTOMATIC, MANUAL, RUNNING, STOPPED, Declined, EntrySettings, ServiceStatus
from hollow_chain.reach.win32.database import LocalDatabase
from hollow_chain.reach.win32.declining import declining

RUNS_ALREADY, NOT_STARTED, DATABASE_LOCKED, INVALID_LEVEL = 1056, 1062, 1055, 124
_LOCKED_FOR = 300.0
"""Seconds for which a locked database is waited for: after a boot it is locked until all that is automatic has been started."""
_LONGEST = 900.0
"""Seconds that a start or stop may take at the most, as somebody sits in front of it."""
_LEAST_HINT = 30.0
"""Seconds that one has in any case before it counts as stuck."""
_LOOK = 0.1
"""Seconds between two looks at what is under way."""
_DELAYED = 3
"""``SERVICE_CONFIG_DELAYED_AUTO_START_INFO``."""
_UNCHANGED = api.SERVICE_NO_CHANGE
_DESCRIPTION = 1
"""``SERVICE_CONFIG_DESCRIPTION``."""
_DELETE = 0x10000
"""``DELETE``, the right to take a service off (winnt.h)."""
_FAILURE_ACTIONS = 2
"""``SERVICE_CONFIG_FAILURE_ACTIONS``."""
_ACCOUNTS = {
    "LocalSystem": "LocalSystem",
    "LocalService": r"NT AUTHORITY\LocalService",
    "NetworkService": r"NT AUTHORITY\NetworkService",
}
"""Names under which the manager takes the accounts that every system has (ChangeServiceConfigW, ``lpServiceStartName``)."""
_NUMBERS = {"automatic": AUTOMATIC, "delayed": AUTOMATIC, "manual": MANUAL}


class LocalManager:
    """The manager of this machine. All raise :class:`Declined`."""

    def __init__(self) -> None:
        with declining():
            self._manager = api.OpenSCManager(None, None, api.SC_MANAGER_CONNECT)
        self._database = LocalDatabase()

    def status(self, name: str) -> ServiceStatus:
        """How a service stands now."""
        return self._database.status(name)

    def start(self, name: str) -> ServiceStatus:
        """Start a service, and wait for the end of its start; a database that is locked is waited for."""
        until = time.monotonic() + _LOCKED_FOR
        while True:
            try:
                with declining(), self._opened(name, api.SERVICE_START) as handle:
                    api.StartService(handle, None)
                break
            except Declined as declined:
                if declined.number == RUNS_ALREADY:
                    break
                if declined.number != DATABASE_LOCKED or time.monotonic() > until:
                    raise
                time.sleep(1.0)
        return self._waited(name, (api.SERVICE_START_PENDING,))

    def stop(self, name: str) -> ServiceStatus:
        """Stop a service, and wait until it has stopped."""
        return self._sent(name, api.SERVICE_STOP, api.SERVICE_CONTROL_STOP, (api.SERVICE_STOP_PENDING, RUNNING))

    def resume(self, name: str) -> ServiceStatus:
        """Continue a service that is paused."""
        return self._sent(
            name,
            api.SERVICE_PAUSE_CONTINUE,
            api.SERVICE_CONTROL_CONTINUE,
            (api.SERVICE_CONTINUE_PENDING, api.SERVICE_PAUSED),
        )

    def pause(self, name: str) -> ServiceStatus:
        """Pause a service."""
        return self._sent(
            name, api.SERVICE_PAUSE_CONTINUE, api.SERVICE_CONTROL_PAUSE, (api.SERVICE_PAUSE_PENDING, RUNNING)
        )

    def set_startup(self, name: str, kind: str) -> bool:
        """Set the startup type of a service; whether the manager also took whether it is delayed."""
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG) as handle:
            _change(handle, start=_NUMBERS[kind])
            try:
                with declining():
                    api.ChangeServiceConfig2(handle, _DELAYED, kind == "delayed")
            except Declined as declined:
                if declined.number not in (INVALID_LEVEL, 50, 87):
                    raise
                return False
        return True

    def set_start_number(self, name: str, number: int) -> None:
        """Set the startup type by its number."""
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG) as handle:
            _change(handle, start=number)

    def set_needs(self, name: str, needs: list[str]) -> None:
        """Set what a service needs; groups with their mark."""
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG) as handle:
            # An empty text, not none at all, takes all needs away.
            _change(handle, needs=needs or [""])

    def create(self, name: str, settings: EntrySettings) -> None:
        """Register a service of a process of its own."""
        with declining():
            manager = api.OpenSCManager(None, None, api.SC_MANAGER_CREATE_SERVICE)
            try:
                handle = api.CreateService(
                    manager,
                    name,
                    settings.shown_as,
                    api.SERVICE_CHANGE_CONFIG,
                    api.SERVICE_WIN32_OWN_PROCESS,
                    _NUMBERS[settings.startup],
                    api.SERVICE_ERROR_NORMAL,
                    settings.command,
                    None,
                    0,
                    settings.needs or None,
                    _ACCOUNTS.get(settings.account, settings.account),
                    None,
                )
            finally:
                api.CloseServiceHandle(manager)
            api.CloseServiceHandle(handle)
        self._describe(name, settings)

    def configure(self, name: str, settings: EntrySettings) -> None:
        """Change how a service is registered."""
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG) as handle:
            api.ChangeServiceConfig(
                handle,
                _UNCHANGED,
                _NUMBERS.get(settings.startup, _UNCHANGED),
                _UNCHANGED,
                settings.command,
                None,
                0,
                settings.needs or [""],
                _ACCOUNTS.get(settings.account, settings.account) if settings.account else None,
                None,
                settings.shown_as,
            )
        self._describe(name, settings)

    def _describe(self, name: str, settings: EntrySettings) -> None:
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG) as handle:
            api.ChangeServiceConfig2(handle, _DESCRIPTION, settings.description)
        if settings.startup == "delayed":
            self.set_startup(name, "delayed")

    def delete(self, name: str) -> None:
        """Take a service off."""
        with declining(), self._opened(name, _DELETE) as handle:
            api.DeleteService(handle)

    def set_events(self, name: str, events: list[tuple[int, int, str]]) -> None:
        """Set the events that start or stop a service."""
        from hollow_chain.reach.win32.events import set_events

        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG | api.SERVICE_START) as handle:
            set_events(int(handle), events)

    def set_account(self, name: str, account: str) -> None:
        """Set the account, one of those that need no password."""
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG) as handle:
            api.ChangeServiceConfig(
                handle,
                _UNCHANGED,
                _UNCHANGED,
                _UNCHANGED,
                None,
                None,
                0,
                None,
                _ACCOUNTS.get(account, account),
                "",
                None,
            )

    def set_failure_actions(self, name: str, actions: list[tuple[int, int]], forgotten_after: int) -> None:
        """Set what is done after failures."""
        told = {"ResetPeriod": forgotten_after, "RebootMsg": "", "Command": "", "Actions": actions}
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG | api.SERVICE_START) as handle:
            api.ChangeServiceConfig2(handle, _FAILURE_ACTIONS, told)

    def _sent(self, name: str, right: int, order: int, on_the_way: tuple[int, ...]) -> ServiceStatus:
        try:
            with declining(), self._opened(name, right) as handle:
                api.ControlService(handle, order)
        except Declined as declined:
            if declined.number != NOT_STARTED or order != api.SERVICE_CONTROL_STOP:
                raise
        return self._waited(name, on_the_way)

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

    def _opened(self, name: str, rights: int) -> Any:
        from hollow_chain.reach.win32.database import Opened

        return Opened(self._manager, name, rights)


def _change(handle: object, start: int = _UNCHANGED, needs: list[str] | None = None) -> None:
    api.ChangeServiceConfig(handle, _UNCHANGED, start, _UNCHANGED, None, None, 0, needs, None, None, None)


__all__ = ["STOPPED", "LocalManager"]

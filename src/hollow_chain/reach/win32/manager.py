"""Orders to the service control manager of this machine (winsvc.h), each waited for until it is done or has failed."""

from __future__ import annotations

from typing import Any

import win32service as api

from hollow_chain.reach.control import STOPPED, Declined, EntrySettings, ServiceStatus
from hollow_chain.reach.orders import (
    ACCOUNTS,
    CONTINUE,
    DELAYED,
    DESCRIPTION,
    FAILURE_ACTIONS,
    NO_SUCH_LEVEL,
    PAUSE,
    START_NUMBERS,
    STOP,
    WaitedOrders,
)
from hollow_chain.reach.win32.database import LocalDatabase
from hollow_chain.reach.win32.declining import declining

_UNCHANGED = api.SERVICE_NO_CHANGE
_DELETE = 0x10000
"""``DELETE``, the right to take a service off (winnt.h)."""
_RIGHTS = {STOP: api.SERVICE_STOP, PAUSE: api.SERVICE_PAUSE_CONTINUE, CONTINUE: api.SERVICE_PAUSE_CONTINUE}


class LocalManager(WaitedOrders):
    """The manager of this machine, or of the one called *server*. All raise :class:`Declined`."""

    def __init__(self, server: str | None = None) -> None:
        self._server = server
        with declining():
            self._manager = api.OpenSCManager(server, None, api.SC_MANAGER_CONNECT)
        self._database = LocalDatabase(server)

    def status(self, name: str) -> ServiceStatus:
        """How a service stands now."""
        return self._database.status(name)

    def begin(self, name: str) -> None:
        """Have a service started."""
        with declining(), self._opened(name, api.SERVICE_START) as handle:
            api.StartService(handle, None)

    def send(self, name: str, control: int) -> None:
        """Send a control to a service."""
        with declining(), self._opened(name, _RIGHTS[control]) as handle:
            api.ControlService(handle, control)

    def set_startup(self, name: str, kind: str) -> bool:
        """Set the startup type of a service; whether the manager also took whether it is delayed."""
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG) as handle:
            _change(handle, start=START_NUMBERS[kind])
            try:
                with declining():
                    api.ChangeServiceConfig2(handle, DELAYED, kind == "delayed")
            except Declined as declined:
                if declined.number not in NO_SUCH_LEVEL:
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
            manager = api.OpenSCManager(self._server, None, api.SC_MANAGER_CREATE_SERVICE)
            try:
                handle = api.CreateService(
                    manager,
                    name,
                    settings.shown_as,
                    api.SERVICE_CHANGE_CONFIG,
                    api.SERVICE_WIN32_OWN_PROCESS,
                    START_NUMBERS[settings.startup],
                    api.SERVICE_ERROR_NORMAL,
                    settings.command,
                    None,
                    0,
                    settings.needs or None,
                    ACCOUNTS.get(settings.account, settings.account),
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
                START_NUMBERS.get(settings.startup, _UNCHANGED),
                _UNCHANGED,
                settings.command,
                None,
                0,
                settings.needs or [""],
                ACCOUNTS.get(settings.account, settings.account) if settings.account else None,
                None,
                settings.shown_as,
            )
        self._describe(name, settings)

    def _describe(self, name: str, settings: EntrySettings) -> None:
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG) as handle:
            api.ChangeServiceConfig2(handle, DESCRIPTION, settings.description)
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
                ACCOUNTS.get(account, account),
                "",
                None,
            )

    def set_failure_actions(self, name: str, actions: list[tuple[int, int]], forgotten_after: int) -> None:
        """Set what is done after failures."""
        told = {"ResetPeriod": forgotten_after, "RebootMsg": "", "Command": "", "Actions": actions}
        with declining(), self._opened(name, api.SERVICE_CHANGE_CONFIG | api.SERVICE_START) as handle:
            api.ChangeServiceConfig2(handle, FAILURE_ACTIONS, told)

    def _opened(self, name: str, rights: int) -> Any:
        from hollow_chain.reach.win32.database import Opened

        return Opened(self._manager, name, rights)


def _change(handle: object, start: int = _UNCHANGED, needs: list[str] | None = None) -> None:
    api.ChangeServiceConfig(handle, _UNCHANGED, start, _UNCHANGED, None, None, 0, needs, None, None, None)


__all__ = ["STOPPED", "LocalManager"]

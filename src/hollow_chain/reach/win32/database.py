"""The database of the service control manager of this machine (pywin32 over winsvc.h)."""

from __future__ import annotations

import win32service as api

from hollow_chain.reach.control import Declined, ServiceConfig, ServiceStatus
from hollow_chain.reach.win32.declining import declining

_KINDS = api.SERVICE_WIN32 | api.SERVICE_DRIVER
_DESCRIPTION = 1
"""``SERVICE_CONFIG_DESCRIPTION``."""


class LocalDatabase:
    """The database of this machine, or of the one called *server*."""

    def __init__(self, server: str | None = None) -> None:
        self._server = server
        with declining():
            self._manager = api.OpenSCManager(server, None, api.SC_MANAGER_CONNECT | api.SC_MANAGER_ENUMERATE_SERVICE)

    @property
    def has_all_rights(self) -> bool:
        """Whether everything may be done with it, as an administrator may."""
        try:
            with declining():
                api.CloseServiceHandle(api.OpenSCManager(self._server, None, api.SC_MANAGER_ALL_ACCESS))
        except Declined:
            return False
        return True

    def statuses(self) -> list[ServiceStatus]:
        """All services, drivers among them."""
        with declining():
            found = api.EnumServicesStatusEx(self._manager, _KINDS, api.SERVICE_STATE_ALL)
        return [_status(one["ServiceName"], one["DisplayName"], one) for one in found]

    def status(self, name: str) -> ServiceStatus:
        """One of them."""
        with declining(), Opened(self._manager, name, api.SERVICE_QUERY_STATUS) as handle:
            return _status(name, "", api.QueryServiceStatusEx(handle))

    def config(self, name: str) -> ServiceConfig:
        """What is loaded of its definition."""
        with declining(), Opened(self._manager, name, api.SERVICE_QUERY_CONFIG) as handle:
            kind, startup, _, command, group, _, needs, account, shown_as = api.QueryServiceConfig(handle)
        return ServiceConfig(
            kind, startup, command or "", group or "", list(needs or ()), account or "", shown_as or ""
        )

    def description(self, name: str) -> str:
        """Its description, rendered."""
        with declining(), Opened(self._manager, name, api.SERVICE_QUERY_CONFIG) as handle:
            return str(api.QueryServiceConfig2(handle, _DESCRIPTION) or "")


class Opened:
    """A handle on a service, closed at the end of the block."""

    def __init__(self, manager: object, name: str, rights: int) -> None:
        self._handle = api.OpenService(manager, name, rights)

    def __enter__(self) -> object:
        return self._handle

    def __exit__(self, *_: object) -> None:
        api.CloseServiceHandle(self._handle)


def _status(name: str, shown_as: str, told: dict[str, int]) -> ServiceStatus:
    return ServiceStatus(
        name,
        shown_as,
        told["ServiceType"],
        told["CurrentState"],
        told["ControlsAccepted"],
        told["Win32ExitCode"],
        told["ServiceSpecificExitCode"],
        told["CheckPoint"],
        told["WaitHint"],
        told["ProcessId"],
    )

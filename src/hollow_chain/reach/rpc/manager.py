"""Orders to the service control manager of a host over the network ([MS-SCMR])."""

from __future__ import annotations

from typing import Any

from hollow_chain.reach.control import Declined, EntrySettings, ServiceStatus
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
from hollow_chain.reach.rpc.database import RpcDatabase
from hollow_chain.reach.rpc.session import NO_PROCEDURE

from impacket.dcerpc.v5 import scmr  # isort: skip - the session says what is lacking where it is not there

_START, _STOP, _PAUSE_CONTINUE, _CHANGE_CONFIG, _DELETE = 0x0010, 0x0020, 0x0040, 0x0002, 0x10000
"""Rights on a service ([MS-SCMR], 3.1.4, "SERVICE_START" and its like)."""
_CREATE = 0x0002
"""``SC_MANAGER_CREATE_SERVICE``."""
_RIGHTS = {STOP: _STOP, PAUSE: _PAUSE_CONTINUE, CONTINUE: _PAUSE_CONTINUE}
_OWN_PROCESS, _NORMAL = 0x10, 1
"""``SERVICE_WIN32_OWN_PROCESS``, ``SERVICE_ERROR_NORMAL``."""
_NOT_OVER_THIS_WAY = 50
"""``ERROR_NOT_SUPPORTED``."""


class RpcManager(WaitedOrders):
    """The manager of a host."""

    def __init__(self, database: RpcDatabase) -> None:
        self._database = database

    def _ask(self, function: Any, *given: Any, **named: Any) -> Any:
        return self._database.pipe.ask(function, *given, **named)

    def status(self, name: str) -> ServiceStatus:
        """How a service stands now."""
        return self._database.status(name)

    def begin(self, name: str) -> None:
        """Have a service started."""
        with self._database.opened(name, _START) as handle:
            self._ask(scmr.hRStartServiceW, handle)

    def send(self, name: str, control: int) -> None:
        """Send a control to a service."""
        with self._database.opened(name, _RIGHTS[control]) as handle:
            self._ask(scmr.hRControlService, handle, control)

    def set_startup(self, name: str, kind: str) -> bool:
        """Set the startup type of a service; whether the manager also took whether it is delayed."""
        self._change(name, dwStartType=START_NUMBERS[kind])
        try:
            self._set(name, DELAYED, "psda", "fDelayedAutostart", int(kind == "delayed"))
        except Declined as declined:
            if declined.number not in (*NO_SUCH_LEVEL, NO_PROCEDURE):
                raise
            return False
        return True

    def set_start_number(self, name: str, number: int) -> None:
        """Set the startup type by its number."""
        self._change(name, dwStartType=number)

    def set_needs(self, name: str, needs: list[str]) -> None:
        """Set what a service needs; groups with their mark."""
        self._change(name, **_needs(needs))

    def set_account(self, name: str, account: str) -> None:
        """Set the account, one of those that need no password."""
        self._change(name, lpServiceStartName=ACCOUNTS.get(account, account))

    def set_failure_actions(self, name: str, actions: list[tuple[int, int]], forgotten_after: int) -> None:
        """Set what is done after failures."""
        info = scmr.SC_RPC_CONFIG_INFOW()
        info["dwInfoLevel"] = info["Union"]["tag"] = FAILURE_ACTIONS
        set_to = info["Union"]["psfa"]
        set_to["dwResetPeriod"], set_to["lpRebootMsg"], set_to["lpCommand"] = forgotten_after, scmr.NULL, scmr.NULL
        listed = []
        for kind, delay in actions:
            action = scmr.SC_ACTION()
            action["Type"], action["Delay"] = kind, delay
            listed.append(action)
        set_to["cActions"], set_to["lpsaActions"] = len(listed), listed
        self._change2(name, info, _CHANGE_CONFIG | _START)

    def set_events(self, name: str, events: list[tuple[int, int, str]]) -> None:
        """Events are set on the host itself."""
        raise Declined(_NOT_OVER_THIS_WAY, "the events that start a service are set on its host itself")

    def create(self, name: str, settings: EntrySettings) -> None:
        """Register a service of a process of its own."""
        manager = self._database.opened_manager(_CREATE)
        try:
            told = self._ask(
                scmr.hRCreateServiceW,
                manager,
                name,
                settings.shown_as,
                dwDesiredAccess=_CHANGE_CONFIG,
                dwServiceType=_OWN_PROCESS,
                dwStartType=START_NUMBERS[settings.startup],
                dwErrorControl=_NORMAL,
                lpBinaryPathName=settings.command,
                lpServiceStartName=ACCOUNTS.get(settings.account, settings.account),
                **(_needs(settings.needs) if settings.needs else {}),
            )
            self._ask(scmr.hRCloseServiceHandle, told["lpServiceHandle"])
        finally:
            self._ask(scmr.hRCloseServiceHandle, manager)
        self._describe(name, settings)

    def configure(self, name: str, settings: EntrySettings) -> None:
        """Change how a service is registered."""
        account = {"lpServiceStartName": ACCOUNTS.get(settings.account, settings.account)} if settings.account else {}
        self._change(
            name,
            dwStartType=START_NUMBERS.get(settings.startup, scmr.SERVICE_NO_CHANGE),
            lpBinaryPathName=settings.command,
            lpDisplayName=settings.shown_as,
            **account,
            **_needs(settings.needs),
        )
        self._describe(name, settings)

    def delete(self, name: str) -> None:
        """Take a service off."""
        with self._database.opened(name, _DELETE) as handle:
            self._ask(scmr.hRDeleteService, handle)

    def _describe(self, name: str, settings: EntrySettings) -> None:
        self._set(name, DESCRIPTION, "psd", "lpDescription", f"{settings.description}\0")
        if settings.startup == "delayed":
            self.set_startup(name, "delayed")

    def _change(self, name: str, **settings: Any) -> None:
        with self._database.opened(name, _CHANGE_CONFIG) as handle:
            self._ask(scmr.hRChangeServiceConfigW, handle, **settings)

    def _set(self, name: str, kind: int, which: str, field: str, value: Any) -> None:
        info = scmr.SC_RPC_CONFIG_INFOW()
        info["dwInfoLevel"] = info["Union"]["tag"] = kind
        info["Union"][which][field] = value
        self._change2(name, info, _CHANGE_CONFIG)

    def _change2(self, name: str, info: Any, rights: int) -> None:
        request = scmr.RChangeServiceConfig2W()
        with self._database.opened(name, rights) as handle:
            request["hService"], request["Info"] = handle, info
            self._ask(lambda talk: talk.request(request))


def _needs(names: list[str]) -> dict[str, Any]:
    """Needs as the call takes them: one behind the other, each with a zero, and one more at the end; none at all as an empty list."""
    data = ("".join(f"{name}\0" for name in names) + "\0").encode("utf-16-le") if names else b"\0\0\0\0"
    return {"lpDependencies": data, "dwDependSize": len(data)}

"""Another machine of the control-manager family, by the system's own client: the same calls with its name, and the rights of whoever is
logged on here."""

from __future__ import annotations

from functools import cached_property

import win32api
import win32con

from hollow_chain.reach.address import Address
from hollow_chain.reach.control import Declined
from hollow_chain.reach.far_control import FarControlMachine
from hollow_chain.reach.unreached import Unreached
from hollow_chain.reach.win32.database import LocalDatabase
from hollow_chain.reach.win32.event_logs import LocalEventLogs
from hollow_chain.reach.win32.far_files import FarShares
from hollow_chain.reach.win32.manager import LocalManager
from hollow_chain.reach.win32.raw_values import LocalValues
from hollow_chain.reach.win32.registry import LocalRegistry

_NOT_REACHED = (53, 1722, 1726, 1707, 1717)
"""``ERROR_BAD_NETPATH``, ``RPC_S_SERVER_UNAVAILABLE`` and their like: nobody answers."""


class FarWin32Machine(FarControlMachine):
    """A machine over the network. Use as a context manager. Raises :class:`Unreached` where it is not reached."""

    def __init__(self, address: Address) -> None:
        if address.user:
            raise Unreached(
                "on this machine whoever is logged on asks; leave the user out, or log on to that host first"
            )
        self._server = rf"\\{address.host}"
        try:
            self.database = LocalDatabase(self._server)
        except Declined as declined:
            silent = declined.number in _NOT_REACHED
            raise Unreached(
                f"its service manager cannot be asked: {declined.strerror or declined.number}", silent
            ) from None
        self.registry, self.event_logs = LocalRegistry(self._server), LocalEventLogs(self._server)
        self._is_open = True
        self.begin(FarShares(self._server), win32api.GetUserNameEx(win32con.NameSamCompatible), address.host)

    def told_time(self) -> tuple[int, int] | None:
        """Not told by what every system of this kind has; its clock is taken for that of this machine."""
        return None

    @property
    def is_open(self) -> bool:
        """Whether it was not closed."""
        return self._is_open

    def close(self) -> None:
        """Nothing is held open."""
        self._is_open = False

    @cached_property
    def orders(self) -> LocalManager:
        """Its manager, as it takes orders."""
        return LocalManager(self._server)

    @cached_property
    def exact_values(self) -> LocalValues:
        """Its registry, byte for byte."""
        return LocalValues(self._server)

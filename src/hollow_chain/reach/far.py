"""The one place that knows the ways to other hosts, by the scheme of their addresses."""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Protocol

from hollow_chain.lacking import needs
from hollow_chain.reach.address import RPC, SSH, Address
from hollow_chain.reach.unreached import Unreached

if TYPE_CHECKING:
    from hollow_chain.reach.interfaces import Reached
    from hollow_chain.reach.login import AskedFor, Login

    class FarReached(Reached, Protocol):
        """A host over the network, reached."""

        @property
        def is_open(self) -> bool:
            """Whether the way to it is still there."""

        def again(self) -> None:
            """Nothing that it said before counts."""

        def forget(self) -> None:
            """What stands where may be otherwise by now."""

        def close(self) -> None:
            """End the connection."""


PASSWORD_FILE = "HOLLOW_CHAIN_PASSWORD_FILE"
"""The variable that names the file of a password, where the file of hosts names none."""


class FarWay(NamedTuple):
    """How a host is come to."""

    address: Address
    password_file: Path | None = None
    """The file of the password, where the user or a file of hosts names one."""
    ask: AskedFor | None = None
    """Asks somebody for a password; None: nobody is there."""
    meanwhile: Callable[[], object] = lambda: None
    """Is done while the host is waited for."""

    def login(self) -> Login | None:
        """Who logs on; None where the user's own configuration, or the system, says so. Raises
        :class:`~hollow_chain.reach.unreached.Unreached`."""
        if self.address.scheme != RPC or sys.platform == "win32":
            return None
        with needs("remote", "a host over RPC"):  # before anybody is asked for a password in vain
            import impacket  # noqa: F401
        from hollow_chain.reach.login import login_for, nobody

        named = os.environ.get(PASSWORD_FILE)
        secret = self.password_file or (Path(named) if named else None)
        return login_for(self.address, secret, self.ask or nobody)

    def ask_beforehand(self) -> None:
        """Have somebody asked for a password, where one is needed, before any host is asked and not from the middle of it; what is wrong
        with it is said when the host is asked."""
        with suppress(Unreached):
            self.login()


_KEPT: list[KeptOpen] = []


@contextmanager
def far(way: FarWay) -> Iterator[Reached]:
    """The host at the end of *way*, reached. Raises :class:`~hollow_chain.reach.unreached.Unreached`."""
    if _KEPT:
        yield _KEPT[-1].anew(way)
        return
    reached = _reached(way)
    try:
        yield reached
    finally:
        reached.close()


class KeptOpen:
    """Connections that stay open from one reading to the next, and are made anew where they broke off. Use as a context manager."""

    def __init__(self) -> None:
        self._open: dict[Address, FarReached] = {}
        self._lock = threading.Lock()

    def __enter__(self) -> KeptOpen:
        _KEPT.append(self)
        return self

    def __exit__(self, *_: object) -> None:
        _KEPT.remove(self)
        for machine in self._open.values():
            machine.close()

    def machine(self, way: FarWay) -> FarReached:
        """The host at the end of *way*. Raises :class:`~hollow_chain.reach.unreached.Unreached`."""
        known = self._open.get(way.address)
        if known is None or not known.is_open:
            known = _reached(way)
            with self._lock:
                self._open[way.address] = known
        return known

    def anew(self, way: FarWay) -> FarReached:
        """The same, with nothing remembered of what it said before."""
        was_open = way.address in self._open and self._open[way.address].is_open
        machine = self.machine(way)
        if was_open:
            machine.again()
        return machine


def _reached(way: FarWay) -> FarReached:
    return _WAYS[way.address.scheme](way)


def _over_ssh(way: FarWay) -> FarReached:
    with needs("remote", "a host over SSH"):
        from hollow_chain.reach.ssh.machine import FarMachine
    return FarMachine(way.address, way.meanwhile)


def _over_rpc(way: FarWay) -> FarReached:
    if sys.platform == "win32":  # the system's own client, as whoever is logged on here
        from hollow_chain.reach.win32.far_machine import FarWin32Machine

        return FarWin32Machine(way.address)
    login = way.login()
    with needs("remote", "a host over RPC"):
        from hollow_chain.reach.rpc.machine import RpcMachine
    assert login is not None
    return RpcMachine(way.address, login)


_WAYS: dict[str, Callable[[FarWay], FarReached]] = {SSH: _over_ssh, RPC: _over_rpc}

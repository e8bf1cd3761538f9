"""The one place that knows the ways to other hosts, by the scheme of their addresses."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import TYPE_CHECKING

from hollow_chain.lacking import needs
from hollow_chain.reach.address import RPC, SSH, Address
from hollow_chain.reach.unreached import Unreached

if TYPE_CHECKING:
    from hollow_chain.reach.interfaces import Reached
    from hollow_chain.reach.ssh.machine import FarMachine


_KEPT: list[KeptOpen] = []


@contextmanager
def far(address: Address) -> Iterator[Reached]:
    """The host at *address*, reached. Raises :class:`Unreached`."""
    if _KEPT and address.scheme == SSH:
        yield _KEPT[-1].anew(address)
        return
    with _WAYS[address.scheme](address) as reached:
        yield reached


class KeptOpen:
    """Connections that stay open from one reading to the next, and are made anew where they broke off. Use as a context manager."""

    def __init__(self) -> None:
        self._open: dict[Address, FarMachine] = {}
        self._lock = threading.Lock()

    def __enter__(self) -> KeptOpen:
        _KEPT.append(self)
        return self

    def __exit__(self, *_: object) -> None:
        _KEPT.remove(self)
        for machine in self._open.values():
            machine.close()

    def machine(self, address: Address) -> FarMachine:
        """The host at *address*. Raises :class:`Unreached`."""
        known = self._open.get(address)
        if known is None or not known.is_open:
            known = _ssh()(address)
            with self._lock:
                self._open[address] = known
        return known

    def anew(self, address: Address) -> FarMachine:
        """The same, with nothing remembered of what it said before."""
        was_open = address in self._open and self._open[address].is_open
        machine = self.machine(address)
        if was_open:
            machine.again()
        return machine


@contextmanager
def _over_ssh(address: Address) -> Iterator[Reached]:
    with _ssh()(address) as reached:
        yield reached


def _ssh() -> type[FarMachine]:
    with needs("remote", "a host over SSH"):
        from hollow_chain.reach.ssh.machine import FarMachine
    return FarMachine


@contextmanager
def _over_rpc(address: Address) -> Iterator[Reached]:
    raise Unreached(f"{address}: hosts of the control-manager family are not reached over the network yet")
    yield


_WAYS: dict[str, Callable[[Address], AbstractContextManager[Reached]]] = {SSH: _over_ssh, RPC: _over_rpc}

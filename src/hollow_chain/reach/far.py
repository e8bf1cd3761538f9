"""The one place that knows the ways to other hosts, by the scheme of their addresses."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import TYPE_CHECKING

from hollow_chain.reach.address import RPC, SSH, Address
from hollow_chain.reach.unreached import Unreached

if TYPE_CHECKING:
    from hollow_chain.reach.interfaces import Reached


@contextmanager
def far(address: Address) -> Iterator[Reached]:
    """The host at *address*, reached. Raises :class:`Unreached`."""
    with _WAYS[address.scheme](address) as reached:
        yield reached


@contextmanager
def _over_ssh(address: Address) -> Iterator[Reached]:
    from hollow_chain.reach.ssh.machine import FarMachine

    with FarMachine(address) as reached:
        yield reached


@contextmanager
def _over_rpc(address: Address) -> Iterator[Reached]:
    raise Unreached(f"{address}: hosts of the control-manager family are not reached over the network yet")
    yield


_WAYS: dict[str, Callable[[Address], AbstractContextManager[Reached]]] = {SSH: _over_ssh, RPC: _over_rpc}

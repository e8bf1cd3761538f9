"""A host of the control-manager family over RPC, by a client of our own family of systems' making."""

from __future__ import annotations

from contextlib import suppress
from functools import cached_property

from hollow_chain.reach.address import Address
from hollow_chain.reach.control import Declined
from hollow_chain.reach.far_control import FarControlMachine
from hollow_chain.reach.login import Login
from hollow_chain.reach.rpc.database import RpcDatabase
from hollow_chain.reach.rpc.event_logs import RpcEventLogs
from hollow_chain.reach.rpc.files import RpcShares
from hollow_chain.reach.rpc.manager import RpcManager
from hollow_chain.reach.rpc.registry import RpcRegistry, RpcValues
from hollow_chain.reach.rpc.session import Session
from hollow_chain.reach.unreached import Unreached

from impacket.dcerpc.v5 import srvs  # isort: skip - the session says what is lacking where it is not there


class RpcMachine(FarControlMachine):
    """A host over RPC. Use as a context manager. Raises :class:`Unreached` where it is not reached."""

    def __init__(self, address: Address, login: Login) -> None:
        self._session = Session(address, login)
        self.registry = self._registry = RpcRegistry(self._session, lambda: Session(address, login))
        try:
            self.database = self._database = RpcDatabase(self._session)
            self.event_logs = RpcEventLogs(self._session)
            called = self._session.smb.getServerName() or address.host
            self.begin(RpcShares(self._session), login.shown, called, self._session.server_id)
            self.build = self.kernel = self.build or str(self._session.smb.getServerOS() or "")
        except Declined as declined:
            self.close()
            raise Unreached(
                f"{login.shown} may not ask its service manager: {declined.strerror or declined.number}"
            ) from None
        except BaseException:
            self.close()
            raise

    def told_time(self) -> tuple[int, int] | None:
        """The time there, and since when it is up, as its server service tells them ([MS-SRVS], 3.1.4.21)."""
        with suppress(Declined):
            told = self._session.pipe(r"\srvsvc", srvs.MSRPC_UUID_SRVS).ask(srvs.hNetrRemoteTOD)["BufferPtr"]
            return int(told["tod_elapsedt"]), int(told["tod_msecs"])
        return None

    @property
    def is_open(self) -> bool:
        """Whether the session still stands."""
        return self._session.is_open

    def close(self) -> None:
        """End the session."""
        self._registry.close()
        self._session.close()

    def forget(self) -> None:
        """What stands where may be otherwise by now."""
        super().forget()
        self._registry.forget()

    @property
    def asked(self) -> int:
        """How many questions it was asked over its first session."""
        return self._session.asked

    @cached_property
    def orders(self) -> RpcManager:
        """Its manager, as it takes orders."""
        return RpcManager(self._database)

    @cached_property
    def exact_values(self) -> RpcValues:
        """Its registry, byte for byte."""
        return RpcValues(self._registry)

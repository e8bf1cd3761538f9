"""A session with a host over SMB, and the pipes through which its services answer."""

from __future__ import annotations

import errno
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any, NoReturn, TypeVar

from hollow_chain.lacking import needs
from hollow_chain.reach.address import Address
from hollow_chain.reach.control import Declined
from hollow_chain.reach.login import Login
from hollow_chain.reach.unreached import Unreached

with needs("remote", "a host over RPC"):
    from impacket import nt_errors, system_errors
    from impacket.dcerpc.v5 import epm, transport
    from impacket.dcerpc.v5.rpcrt import (
        RPC_C_AUTHN_GSS_NEGOTIATE,
        RPC_C_AUTHN_LEVEL_PKT_PRIVACY,
        DCERPCException,
        rpc_status_codes,
    )
    from impacket.nmb import NetBIOSError, NetBIOSTimeout
    from impacket.smbconnection import SMB_DIALECT, SessionError, SMBConnection

T = TypeVar("T")
PORT = 445
"""Of SMB over TCP ([MS-SMB2], 2.1)."""
_MAPPER, _MAPPER_SECONDS = 135, 3
"""The port at which a host tells those of its interfaces, and how long such a connection may take: firewalls drop most of them."""
_CONNECT_SECONDS = 10
"""Until a host has taken the connection; and, below, until it has answered one question."""
_ANSWER_SECONDS = 30
NO_PROCEDURE = 0x1C010002
"""A server that does not know a call ([C706], ``nca_s_op_rng_error``)."""
NOT_SERVED = 1722
"""``RPC_S_SERVER_UNAVAILABLE``: nobody answers behind a pipe."""
_NO_PIPE = (0xC0000034, 0xC00000AC, 0xC00000BA, 0xC000003A)
"""There is no such pipe, it is not there now, it is none, or the way to it is not there ([MS-ERREF], 2.3.1)."""
_WRONG_LOGIN = (0xC000006D, 0xC000006A, 0xC0000064)
_REFUSED = {
    0xC000006E: "the account may not log on that way",
    0xC000006F: "the account may not log on at this hour",
    0xC0000070: "the account may not log on from this machine",
    0xC0000071: "the password has expired",
    0xC0000072: "the account is disabled",
    0xC0000193: "the account has expired",
    0xC0000224: "the password has to be changed first",
    0xC0000234: "the account is locked out",
    0xC000015B: "the account may not log on over the network",
    0xC0000022: "access is denied",
}
"""Why a log on was refused ([MS-ERREF], 2.3.1)."""


class Session:
    """A session with the host at *address*, of whom *login* names. Raises :class:`Unreached`."""

    def __init__(self, address: Address, login: Login) -> None:
        self.address, self.login = address, login
        self._lock = threading.RLock()
        self.is_open = True
        self.asked = 0
        """How many questions were asked."""
        with self._reaching():
            self.smb = SMBConnection(address.host, address.host, sess_port=PORT, timeout=_CONNECT_SECONDS)
        try:
            self._log_on()
        except BaseException:
            self.close()
            raise
        self.smb.setTimeout(_ANSWER_SECONDS)

    @property
    def server_id(self) -> str:
        """The number by which the server tells itself from all others ([MS-SMB2], 2.2.4, "ServerGuid"); empty where it gives none."""
        with suppress(Exception):  # a part of the package that has no name of its own outside it
            return bytes(self.smb.getSMBServer()._Connection["ServerGuid"]).hex()
        return ""

    def close(self) -> None:
        """End it."""
        self.is_open = False
        with suppress(Exception):
            self.smb.close()

    @contextmanager
    def _reaching(self) -> Iterator[None]:
        try:
            yield
        except Unreached:
            raise
        except SessionError as error:
            raise Unreached(f"it answers, but not to this: {_said(error)}") from None
        except (TimeoutError, NetBIOSTimeout):
            raise Unreached(f"no answer within {_CONNECT_SECONDS} s", silent=True) from None
        except (OSError, NetBIOSError) as error:
            raise Unreached(_of_connection(error), silent=_is_silent(error)) from None
        except Exception as error:  # the package raises whatever it meets in an answer that is none
            raise Unreached(f"what answers there does not speak SMB ({type(error).__name__})") from None

    def _log_on(self) -> None:
        login = self.login
        with self._reaching():
            if self.smb.getDialect() == SMB_DIALECT:
                raise Unreached("it speaks only the first version of SMB, which protects no password")
            try:
                if login.ticket:
                    self._by_ticket()
                else:
                    self.smb.login(login.user, login.password, login.domain, ntlmFallback=False)
            except SessionError as error:
                raise Unreached(f"{login.shown} may not log on: {_said(error)}") from None
            if self.smb.isGuestSession():
                raise Unreached(
                    f"it takes {login.shown} for a guest only: there is no such account, or the password is not its own"
                )

    def _by_ticket(self) -> None:
        import os

        from impacket.krb5.kerberosv5 import KerberosError

        # The only way by which the package takes a cache: its path, without the kind that stands before it.
        os.environ["KRB5CCNAME"] = self.login.ticket
        try:
            self.smb.kerberosLogin(self.login.user, "", self.login.domain, useCache=True)
        except OSError as error:
            if not isinstance(_first(error), socket.gaierror):
                raise
            raise Unreached(
                f"{self.login.shown} has no ticket for cifs/{self.address.host}, and the server that gives tickets for"
                f" {self.login.domain} is not found; name the host as its ticket does, not by its address"
            ) from None
        except KerberosError as error:
            raise Unreached(f"the Kerberos ticket of {self.login.shown} was not taken: {str(error)[:200]}") from None

    def pipe(self, name: str, interface: Any) -> Pipe:
        """The pipe called *name*, bound to an *interface*. Raises :class:`Declined` where nobody answers there."""
        with self._lock, self.asking():
            way = transport.SMBTransport(self.address.host, PORT, name, smb_connection=self.smb)
            way.set_connect_timeout(_CONNECT_SECONDS)
            talk = way.get_dce_rpc()
            talk.connect()
            talk.bind(interface)
        return Pipe(self, talk)

    def mapped(self, interface: Any) -> Pipe:
        """A connection of its own to an *interface*, at the port that the host's mapper tells ([C706], appendix O). Raises
        :class:`Declined` where nobody answers there."""
        login, host = self.login, self.address.host
        try:
            way = transport.DCERPCTransportFactory(f"ncacn_ip_tcp:{host}[{_MAPPER}]")
            way.set_connect_timeout(_MAPPER_SECONDS)
            mapper = way.get_dce_rpc()
            mapper.connect()
            try:
                found = epm.hept_map(host, interface, protocol="ncacn_ip_tcp", dce=mapper)
            finally:
                mapper.disconnect()
            own = transport.DCERPCTransportFactory(found)
            own.set_connect_timeout(_MAPPER_SECONDS)
            own.set_credentials(login.user, login.password, login.domain)
            if login.ticket:
                own.set_kerberos(True)
            talk = own.get_dce_rpc()
            talk.set_auth_level(RPC_C_AUTHN_LEVEL_PKT_PRIVACY)
            if login.ticket:
                talk.set_auth_type(RPC_C_AUTHN_GSS_NEGOTIATE)
            talk.connect()
            talk.bind(interface)
        except Exception as error:  # whatever is in the way: a firewall, another port, another login
            raise Declined(NOT_SERVED, f"nobody there answers such questions ({_of_connection(error)})") from None
        return Pipe(self, talk)

    def ask(self, function: Callable[[], T]) -> T:
        """What *function* gives, one at a time. Raises :class:`Declined`, and :class:`Unreached` where the connection broke off."""
        with self._lock, self.asking():
            if not self.is_open:
                raise Unreached("the connection broke off")
            self.asked += 1
            return function()

    @contextmanager
    def asking(self) -> Iterator[None]:
        """Turn what the package raises into what callers know."""
        try:
            yield
        except (Declined, Unreached):
            raise
        except DCERPCException as error:
            _decline(error)
        except SessionError as error:
            number = error.getErrorCode()
            if number in _NO_PIPE:
                raise Declined(NOT_SERVED, "nobody there answers such questions over the network") from None
            raise Declined(_AS_SYSTEM.get(number, number), _said(error)) from None
        except (OSError, NetBIOSError, NetBIOSTimeout) as error:
            self.close()
            raise Unreached(f"the connection broke off: {_of_connection(error)}") from None
        except Exception as error:  # an answer that is none of the protocol's: hostile, or broken
            raise Declined(13, f"its answer makes no sense ({type(error).__name__})") from None


_AS_SYSTEM = {0xC0000022: 5, 0xC0000034: 2, 0xC000003A: 3, 0xC000000F: 2, 0xC00000CC: 67, 0xC0000103: 267}
"""Numbers of the protocol's as the ones of the interface ([MS-ERREF], 2.2 and 2.3.1)."""


class Pipe:
    """A pipe whose other end answers questions of one interface."""

    def __init__(self, session: Session, talk: Any) -> None:
        self._session, self._talk = session, talk

    def ask(self, function: Callable[..., T], *given: Any, **named: Any) -> T:
        """What one call of the interface gives. Raises :class:`Declined`."""
        return self._session.ask(lambda: function(self._talk, *given, **named))

    def answer(self, number: int, request: Any) -> bytes:
        """The bytes that one call gives, with its own number at their end. Raises :class:`Declined`."""

        def ask() -> bytes:
            self._talk.call(number, request)
            return bytes(self._talk.recv())

        return self._session.ask(ask)


_BY_TEXT = {text: number for number, text in rpc_status_codes.items()}
"""Of a fault the package gives the text only."""


def _number_of(error: DCERPCException) -> int:
    if isinstance(number := error.get_error_code(), int):
        return int(number)
    text = str(error)
    last = text.rpartition(" ")[2]
    if len(last) == 8 and all(sign in "0123456789abcdef" for sign in last.lower()):
        return int(last, 16)
    return int(_BY_TEXT.get(text, 0))


def _decline(error: DCERPCException) -> NoReturn:
    number = _number_of(error)
    if number == NO_PROCEDURE:
        raise Declined(number, "what answers there does not know this call") from None
    known = system_errors.ERROR_MESSAGES.get(number) or nt_errors.ERROR_MESSAGES.get(number)
    text = known[1] if known else str(error)
    raise Declined(number or 13, text.strip().rstrip(".")[:300]) from None


def _said(error: SessionError) -> str:
    number = error.getErrorCode()
    if number in _WRONG_LOGIN:
        return "no such account, or another password"
    if number in _REFUSED:
        return _REFUSED[number]
    known = nt_errors.ERROR_MESSAGES.get(number)
    return known[1].strip().rstrip(".")[:300] if known else f"error {number:#010x}"


def _first(error: BaseException) -> BaseException:
    """What happened at first: the package wraps it."""
    inner = next((one for one in error.args if isinstance(one, BaseException)), None)
    return _first(inner) if inner is not None else error


def _of_connection(error: BaseException) -> str:
    error = _first(error)
    if isinstance(error, socket.gaierror):
        return "there is no host of that name"
    if isinstance(error, ConnectionRefusedError) or "refused" in str(error).lower():
        return f"nothing takes connections at port {PORT} there"
    if isinstance(error, TimeoutError | NetBIOSTimeout) or "timed out" in str(error).lower():
        return "no answer"
    return str(getattr(error, "strerror", None) or error).strip().rstrip(".").lower()[:200]


def _is_silent(error: BaseException) -> bool:
    first = _first(error)
    return isinstance(first, TimeoutError | NetBIOSTimeout) or getattr(first, "errno", 0) in _NO_WAY


_NO_WAY = (errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EHOSTDOWN, errno.ETIMEDOUT)
"""Numbers by which the system says that a host cannot be come at."""

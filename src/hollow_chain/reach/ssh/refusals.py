"""Why a host could not be reached over SSH, in one line with what to do about it."""

from __future__ import annotations

import errno
import socket
from collections.abc import Callable
from typing import NamedTuple

import asyncssh

from hollow_chain.lazy import pattern
from hollow_chain.reach.address import Address
from hollow_chain.reach.unreached import Unreached


class KeyTold(NamedTuple):
    """What is known of the key by which a host proves who it is."""

    known: bool
    """Whether a key of a host of that name has been accepted before."""


def refusal(error: BaseException, at: Address, login: Callable[[], KeyTold], seconds: float) -> Unreached:
    """What *error* means; *login* tells about the key where that was the matter."""
    silent = isinstance(error, TimeoutError | socket.gaierror) or _number_of(error) in _NOBODY
    return Unreached(_reason(error, at, login, seconds), silent)


_NOBODY = (errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EHOSTDOWN, errno.ETIMEDOUT)
"""What connect(2) says where no host is."""


_WORDS = {
    errno.ECONNREFUSED: "it is up, and nothing listens at port {port} of it: is its SSH server running there?",
    errno.EHOSTUNREACH: "nothing answers at its address: it is down, or no way leads there",
    errno.ENETUNREACH: "no way leads to its network from here",
    errno.ETIMEDOUT: "nothing answers at its address: it is down, or something on the way drops what is sent",
    errno.ECONNRESET: "the connection broke off",
}
_NUMBER = pattern(r"\[Errno (\d{1,4})\]")


def _number_of(error: BaseException) -> int | None:
    """The number of the system's error; where several addresses were tried, of the first."""
    number = getattr(error, "errno", None)
    told = _NUMBER.search(str(error)) if number is None else None
    return int(told[1]) if told else number


def _reason(error: BaseException, at: Address, login: Callable[[], KeyTold], seconds: float) -> str:
    line = f"ssh {f'-p {at.port} ' if at.port else ''}{f'{at.user}@' if at.user else ''}{at.host}"
    if isinstance(error, asyncssh.HostKeyNotVerifiable):
        if login().known:
            return (
                "it proves itself with another key than the one that is known: it was set up anew, or another host answers in its"
                f" place; ask who looks after it, and only then forget the old key: ssh-keygen -R {_in_key_file(at)}"
            )
        return f"its key is not known here; compare it with what its keepers say, and accept it once with: {line}"
    if isinstance(error, asyncssh.PermissionDenied):
        return f"it takes none of the keys offered; see which with: {line} -v"
    if isinstance(error, TimeoutError):
        return f"no answer within {seconds:.0f} s"
    if isinstance(error, socket.gaierror):
        return "no address is known for its name"
    if isinstance(error, asyncssh.KeyExchangeFailed | asyncssh.ProtocolError):
        return f"the two sides find no way to speak: {_plain(error)}"
    if isinstance(error, asyncssh.ConnectionLost | ConnectionResetError | BrokenPipeError):
        return "the connection broke off"
    if isinstance(error, asyncssh.ChannelOpenError):
        return f"it opens no session: {_plain(error)}"
    number = _number_of(error)
    return _WORDS.get(number or 0, "").format(port=at.port or 22) or _plain(error)


def _in_key_file(at: Address) -> str:
    """A host as files of known keys have it (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT")."""
    return f"'[{at.host}]:{at.port}'" if at.port and at.port != 22 else at.host


def _plain(error: BaseException) -> str:
    text = getattr(error, "strerror", None) or getattr(error, "reason", None) or str(error) or type(error).__name__
    text = str(text).partition("\n")[0][:200]
    # Asyncio tells of several addresses at once: what the first of them came to is said.
    return text[:1].lower() + text[1:]

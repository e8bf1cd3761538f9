"""Addresses of hosts that are asked over the network, as ``--from`` and files of hosts name them."""

from __future__ import annotations

from typing import NamedTuple
from urllib.parse import urlsplit

SSH, RPC = "ssh", "rpc"
"""The ways to other hosts, by the scheme of their addresses (RFC 3986, 3.1)."""
SCHEMES = (SSH, RPC)
_LONGEST_NAME = 255
"""Characters of a name of a host (RFC 1035, 2.3.4), which no name of a user exceeds either."""


class BadAddress(ValueError):
    """An address that is none; the text says what is wrong with it."""


class Address(NamedTuple):
    """Where a host is reached."""

    scheme: str
    host: str
    """A name, an address, or a name that the user's own configuration gives a meaning."""
    user: str = ""
    """Empty: as the user's configuration says."""
    port: int | None = None

    def __str__(self) -> str:
        user = f"{self.user}@" if self.user else ""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{self.scheme}://{user}{host}{f':{self.port}' if self.port else ''}"


def parse(text: str) -> Address:
    """The address that *text* is. Raises :class:`BadAddress`."""
    if (
        ":" in text.partition("://")[2].rpartition("@")[0]
    ):  # before anything is said of the address, which would show it
        raise BadAddress("a password does not belong in an address, where everybody may read it")
    try:
        parts = urlsplit(text)
        host, port = parts.hostname or "", parts.port
    except ValueError as error:
        raise BadAddress(f"{text[:80]!r} is no address: {str(error).lower()}") from None
    if parts.scheme not in SCHEMES:
        raise BadAddress(f"no way of reaching a host is called {parts.scheme}://")
    # The part of a name between brackets keeps its case; urlsplit lowers that of names, which nobody tells apart (RFC 4343).
    user = parts.username or ""
    if not _is_name(host) or (user and not _is_name(user)):
        raise BadAddress(
            f"{text[:80]!r} names no host; it is written {parts.scheme}://[user@]host{_PORT[parts.scheme]}"
        )
    if parts.path.strip("/") or parts.query or parts.fragment:
        raise BadAddress(
            f"{text[:80]!r} goes on after the host; it is written {parts.scheme}://[user@]host{_PORT[parts.scheme]}"
        )
    if port is not None and (parts.scheme == RPC or not port):
        raise BadAddress(f"{text[:80]!r} names a port that no host is reached at")
    return Address(parts.scheme, host, user, port)


_PORT = {SSH: "[:port]", RPC: ""}


def _is_name(text: str) -> bool:
    # A name that begins with a hyphen would be an option to whatever it is handed to (CWE-88).
    return 0 < len(text) <= _LONGEST_NAME and text[0] != "-" and all(c.isprintable() and not c.isspace() for c in text)

"""As whom a host is asked over the network, where that takes a password."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from hollow_chain.reach.unreached import Unreached

if TYPE_CHECKING:
    from hollow_chain.reach.address import Address

_LONGEST = 1024
"""Bytes of a file of a password that are read."""


class Login(NamedTuple):
    """Who logs on, and by what. Its text never shows the password."""

    domain: str
    user: str
    password: str = ""
    ticket: str = ""
    """Path of the cache of Kerberos tickets that is used in place of a password (RFC 4120)."""

    def __repr__(self) -> str:
        return f"Login({self.shown!r})"

    @property
    def shown(self) -> str:
        """Who it is, in words."""
        return f"{self.domain}\\{self.user}" if self.domain else self.user


AskedFor = Callable[["Address", str], str]
"""Asks somebody for the password of a user of a host. Raises :class:`Unreached` where nobody is there to be asked."""


def nobody(address: Address, user: str) -> str:
    """Nobody has given one."""
    raise Unreached(
        f"there is no password for {user}: type one at a terminal, name a file that holds it (HOLLOW_CHAIN_PASSWORD_FILE, or password_file"
        " in a file of hosts; mode 0600), or take a Kerberos ticket (kinit)"
    )


def login_for(address: Address, password_file: Path | None, ask: AskedFor) -> Login:
    """As whom the host at *address* is asked. Raises :class:`Unreached` where that cannot be found out."""
    domain, user = split_user(address.user)
    if password_file is not None:
        return Login(domain, user or _me(), password_of(password_file))
    cache = ticket_cache()
    if cache is not None:
        principal = principal_of(cache)
        if principal is not None and (not user or user.casefold() == principal[1].casefold()):
            return Login(principal[0], principal[1], ticket=cache)
    return Login(domain, user or _me(), ask(address, address.user or _me()))


def split_user(name: str) -> tuple[str, str]:
    """The domain and the user of ``DOMAIN\\user`` or ``user@domain``; no domain where it names none."""
    if "\\" in name:
        domain, _, user = name.partition("\\")
        return domain, user
    user, _, domain = name.partition("@")
    return domain, user


def _me() -> str:
    import getpass

    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return ""


def password_of(path: Path) -> str:
    """The password that stands in a file which nobody but its owner may read. Raises :class:`Unreached`."""
    try:
        handle = os.open(path, os.O_RDONLY | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_NONBLOCK", 0))
    except OSError as error:
        raise Unreached(f"the file of the password, {path}, cannot be read: {(error.strerror or '').lower()}") from None
    with os.fdopen(handle, "rb") as file:
        about = os.fstat(handle)
        if not stat.S_ISREG(about.st_mode):
            raise Unreached(f"the file of the password, {path}, is no plain file")
        if os.name == "posix" and (about.st_mode & 0o077 or about.st_uid not in (0, os.geteuid())):
            raise Unreached(
                f"the file of the password, {path}, may be read or changed by others (mode {about.st_mode & 0o777:04o}): chmod 600 {path}"
            )
        data = file.read(_LONGEST + 1)
    try:
        text = data.decode().rstrip("\r\n")
    except UnicodeDecodeError:
        raise Unreached(f"the file of the password, {path}, is not text in UTF-8") from None
    if not text or len(data) > _LONGEST or "\n" in text or "\0" in text:
        raise Unreached(f"the file of the password, {path}, holds not one line with a password")
    return text


def ticket_cache() -> str | None:
    """The file of the user's Kerberos tickets (kinit(1), ``KRB5CCNAME``); None where there is none."""
    named = os.environ.get("KRB5CCNAME", "")
    kind, _, rest = named.partition(":") if ":" in named[:8] else ("FILE", "", named)
    path = rest or (f"/tmp/krb5cc_{os.geteuid()}" if os.name == "posix" else "")
    return path if path and kind == "FILE" and Path(path).is_file() else None


def principal_of(cache: str) -> tuple[str, str] | None:
    """The realm and the user whose tickets a cache holds; None where it is none.

    The form is that of the MIT documentation, "Credential cache file format", version 4: big-endian, the head with its length, then the
    principal: kind, count of parts, realm, parts.
    """
    try:
        with Path(cache).open("rb") as file:
            data = file.read(4096)
        if data[:2] != b"\x05\x04":
            return None
        at = 4 + int.from_bytes(data[2:4], "big") + 4
        count, at = int.from_bytes(data[at : at + 4], "big"), at + 4
        parts = []
        for _ in range(min(count, 4) + 1):
            size, at = int.from_bytes(data[at : at + 4], "big"), at + 4
            if not 0 < size <= len(data) - at:
                return None
            parts.append(data[at : at + size].decode())
            at += size
    except (OSError, UnicodeDecodeError):
        return None
    return (parts[0], "/".join(parts[1:])) if len(parts) > 1 else None

"""Accounts and groups that services name: whether they are there, locked or expired."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime

from hollow_chain.facts.host import HostAccount
from hollow_chain.reach.handles import Walker
from hollow_chain.reach.interfaces import Accounts, Reached

_MAX_ACCOUNTS = 16 << 20
"""Bytes of the list of passwords that are read; a hundred thousand accounts are less."""


def accounts(users: Iterable[str], groups: Iterable[str], reached: Reached) -> list[HostAccount]:
    """Whether each named account is there, and its groups; whether it is locked or expired, as far as that may be read."""
    found = [_user(name, reached.accounts) for name in sorted(set(users))]
    expiry = _expiry(reached.files.walker())
    for account in found:
        if account.name in expiry:
            account.locked, account.expires_at = expiry[account.name]
    return found + [_group(name, reached.accounts) for name in sorted(set(groups))]


def _expiry(walker: Walker) -> dict[str, tuple[bool, datetime | None]]:
    """Of each account: whether a password that it had is locked, and when it expires (shadow(5)); no password is kept."""
    try:
        lines = walker.read("/etc/shadow", _MAX_ACCOUNTS).data.decode("utf-8", "replace").splitlines()
    except OSError:
        return {}
    found: dict[str, tuple[bool, datetime | None]] = {}
    for words in (line.split(":") for line in lines):
        if len(words) > 7:
            days = words[7]
            end = datetime.fromtimestamp(int(days) * 86400, UTC) if days.isdigit() and len(days) < 7 else None
            found[words[0]] = (words[1].startswith("!") and len(words[1]) > 2, end)
    return found


def _user(name: str, accounts: Accounts) -> HostAccount:
    try:
        entry = accounts.user(name)
    except (KeyError, ValueError, OverflowError):
        # A number needs no entry of its own: the kernel takes any.
        return HostAccount(name=name, exists=name.isdigit())
    try:
        names = [accounts.group_name(number) for number in accounts.groups_of(entry)]
    except (KeyError, OSError):
        names = []
    return HostAccount(name=name, id=entry.number, home=entry.home, groups=names)


def _group(name: str, accounts: Accounts) -> HostAccount:
    try:
        number = accounts.known_group(name)
    except (KeyError, ValueError, OverflowError):
        return HostAccount(name=name, kind="group", exists=name.isdigit())
    return HostAccount(name=name, kind="group", id=number)

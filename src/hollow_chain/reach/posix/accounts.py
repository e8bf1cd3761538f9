"""Users and groups of this machine, by name and by number (getpwnam(3), getgrnam(3))."""

from __future__ import annotations

import grp
import os
import pwd
from typing import NamedTuple


class User(NamedTuple):
    """A user as the machine knows it."""

    name: str
    number: int
    group: int
    home: str


def user(name: str) -> User:
    """The user of that name or number. Raises :class:`KeyError`; :class:`ValueError`, :class:`OverflowError` for what is no number."""
    entry = pwd.getpwuid(int(name)) if name.isdigit() else pwd.getpwnam(name)
    return User(entry.pw_name, entry.pw_uid, entry.pw_gid, entry.pw_dir)


def user_number(name: str) -> int:
    """The number of a user. Raises :class:`KeyError`."""
    return int(name) if name.isdigit() else pwd.getpwnam(name).pw_uid


def user_name(number: int) -> str:
    """The name of a user. Raises :class:`KeyError`, :class:`OverflowError`."""
    return pwd.getpwuid(number).pw_name


def group_number(name: str) -> int:
    """The number of a group. Raises :class:`KeyError`."""
    return int(name) if name.isdigit() else grp.getgrnam(name).gr_gid


def group_name(number: int) -> str:
    """The name of a group. Raises :class:`KeyError`, :class:`OverflowError`."""
    return grp.getgrgid(number).gr_name


def groups_of(one: User) -> list[int]:
    """The numbers of all groups of a user (getgrouplist(3)). Raises :class:`OSError`."""
    return os.getgrouplist(one.name, one.group)


def known_group(name: str) -> int:
    """The number of the group of that name or number, where there is an entry of it. Raises as :func:`user` does."""
    return (grp.getgrgid(int(name)) if name.isdigit() else grp.getgrnam(name)).gr_gid

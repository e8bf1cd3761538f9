"""Users and groups of a host over SSH: of its own books (passwd(5), group(5)), and of whatever else its name services ask
(getent(1)) for those that do not stand there."""

from __future__ import annotations

from typing import NamedTuple, TypeVar

from hollow_chain.reach.ssh.attendant import Attendant


class FarUser(NamedTuple):
    """A user as the host knows it."""

    name: str
    number: int
    group: int
    home: str


class FarGroup(NamedTuple):
    """A group as the host knows it."""

    name: str
    number: int
    members: list[str]


T = TypeVar("T", FarUser, FarGroup)


class FarAccounts:
    """Accounts of a host."""

    def __init__(self, files: dict[str, str], attendant: Attendant) -> None:
        self._attendant = attendant
        self._users = _by_both(users(files.get("/etc/passwd", "")))
        self._groups = _by_both(groups(files.get("/etc/group", "")))
        self._absent: set[tuple[str, str]] = set()

    def user(self, name: str) -> FarUser:
        """The user of that name or number."""
        return self._user(_plain(name))

    def user_name(self, number: int) -> str:
        """The name of a user."""
        return self._user(str(number)).name

    def user_number(self, name: str) -> int:
        """The number of a user."""
        return int(name) if name.isdigit() else self._user(_plain(name)).number

    def group_name(self, number: int) -> str:
        """The name of a group."""
        return self._group(str(number)).name

    def known_group(self, name: str) -> int:
        """The number of a group."""
        return self._group(_plain(name)).number

    def groups_of(self, user: FarUser) -> list[int]:
        """The groups that a user belongs to."""
        own = {one.number for one in self._groups.values() if user.name in one.members}
        return [user.group, *sorted(own - {user.group})]

    def _user(self, name: str) -> FarUser:
        if name not in self._users:
            self._users |= _by_both(users(self._asked("account", name)))
        return self._users[name]

    def _group(self, name: str) -> FarGroup:
        if name not in self._groups:
            self._groups |= _by_both(groups(self._asked("group", name)))
        return self._groups[name]

    def _asked(self, kind: str, name: str) -> str:
        if (kind, name) in self._absent:
            return ""
        self._absent.add((kind, name))
        return self._attendant.ask(kind, [name]).decode("utf-8", "replace")


def _plain(name: str) -> str:
    if not name or "\0" in name or len(name) > 256:
        raise ValueError("no name of an account")
    return name


def _by_both(found: list[T]) -> dict[str, T]:
    """By name and by number; the first of several of one number is meant (getpwuid(3))."""
    known: dict[str, T] = {}
    for one in found:
        known.setdefault(one.name, one)
        known.setdefault(str(one.number), one)
    return known


def users(text: str) -> list[FarUser]:
    """The users that *text* lists."""
    lines = (line.split(":") for line in text.split("\n"))
    return [
        FarUser(f[0], int(f[2]), int(f[3]), f[5]) for f in lines if len(f) > 5 and f[2].isdigit() and f[3].isdigit()
    ]


def groups(text: str) -> list[FarGroup]:
    """The groups that *text* lists."""
    lines = (line.split(":") for line in text.split("\n"))
    return [FarGroup(f[0], int(f[2]), f[3].split(",")) for f in lines if len(f) > 3 and f[2].isdigit()]

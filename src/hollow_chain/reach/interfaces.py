"""What a reader may ask of a host, however the host is reached: narrow interfaces, and nothing of ours above them.

A way to reach hosts (this machine, another one over the network) is one object that fits :class:`Reached`. What it cannot tell it
refuses with :class:`OSError` or :class:`NotThere`, whose text says why; readers then say what could not be read.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from datetime import datetime
from typing import Any, NamedTuple, Protocol, TypeVar

from hollow_chain.facts.host import Manager
from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.handles import Walker

T = TypeVar("T")
One = TypeVar("One")


class NotThere(Exception):
    """The host has no such thing to ask (a journal, a message bus), or it may not be asked; the text says why."""


class Files(Protocol):
    """Files of the host. Those that somebody else could have put there are found and read by handle (:meth:`walker`); the rest
    are for places that only the system itself fills (``/proc``, ``/run``, folders of definitions)."""

    def walker(self, any_link: bool = False) -> Walker:
        """What finds and reads files by handle; see :class:`~hollow_chain.reach.handles.Walker`."""

    def expect(self, paths: Iterable[str], folders: Iterable[str] = ()) -> None:
        """Say that all of *paths* will be looked at, and the names in *folders*: where an answer has a long way, they are asked for
        together."""

    def text(self, path: str) -> str:
        """The text of a small file that the system makes. Raises :class:`OSError`."""

    def link(self, path: str) -> str:
        """Where a symbolic link points; empty where there is none."""

    def names(self, folder: str) -> list[str]:
        """The names in a folder, sorted; empty where there is none."""

    def exists(self, path: str) -> bool:
        """Whether anything is there, links followed."""

    def is_folder(self, path: str) -> bool:
        """Whether a folder is there, links followed."""

    def changed(self, path: str) -> float | None:
        """When what stands there, a link itself, was changed, in seconds since 1970; None where nothing does."""

    def literally(self, text: str) -> str:
        """*text* as a part of a pattern that fits nothing but it."""

    def matching(self, pattern: str) -> list[str]:
        """The paths that fit a pattern of the shell (glob(7)), sorted."""


class Running(NamedTuple):
    """What is known of a process that runs."""

    started_at: datetime
    arguments: list[str]


class Processes(Protocol):
    """Processes of the host."""

    def numbers(self) -> list[int]:
        """All that run now."""

    def group(self, process: int) -> str:
        """The text that says which group of the manager it belongs to (cgroups(7)); empty where it has none or is gone."""

    def program(self, process: int) -> str:
        """The path of its program; its own name where it was started through a link of another name; empty where it is gone."""

    def running(self, process: int) -> Running | None:
        """When it began, and with which arguments; None where it is gone."""

    def runs(self, process: int) -> bool:
        """Whether it runs."""

    def open_files(self, process: int) -> set[str]:
        """The paths of the files that it has open. Raises :class:`OSError` where that may not be read."""

    def locks(self) -> FileLocks:
        """Who has which file locked; none where the host does not tell."""


class Socket(NamedTuple):
    """A socket that waits for others: a listening one, or a bound one of a protocol without connections."""

    port: int
    address: str
    protocol: str
    """``tcp``, ``tcp6``, ``udp``, ``udp6``."""
    process: int
    """0: not known."""


class Interface(NamedTuple):
    """A network adapter."""

    name: str
    hardware_address: str
    addresses: list[str]
    up: bool | None


class Network(Protocol):
    """Sockets and adapters of the host."""

    def sockets(self, most: int) -> list[Socket]:
        """Up to *most* of those that wait for others. Raises :class:`OSError`."""

    def interfaces(self) -> list[Interface]:
        """Its adapters; empty where they cannot be read."""

    def local_sockets(self, most: int) -> dict[str, int]:
        """Up to *most* sockets that stand in the file system and wait for others, each with the process that has it (0: not known).
        Raises :class:`OSError`."""


class Volume(NamedTuple):
    """A mounted file system of a disk, sizes in bytes."""

    mounted_on: str
    kind: str
    size: int
    free: int
    inodes: int
    inodes_free: int
    read_only: bool
    no_exec: bool = False
    """Nothing on it may be executed (mount(8), ``noexec``)."""


class UserEntry(Protocol):
    """An account as the host knows it."""

    @property
    def number(self) -> int:
        """Its number."""

    @property
    def home(self) -> str:
        """Its folder."""


class Accounts(Protocol):
    """Accounts of the host, by name and by number. All raise :class:`KeyError` for what is not there, and :class:`ValueError` or
    :class:`OverflowError` for what can be none."""

    def user(self, name: str) -> UserEntry:
        """The user of that name or number."""

    def user_name(self, number: int) -> str:
        """The name of a user."""

    def user_number(self, name: str) -> int:
        """The number of a user."""

    def group_name(self, number: int) -> str:
        """The name of a group."""

    def known_group(self, name: str) -> int:
        """The number of a group."""

    def groups_of(self, user: Any) -> list[int]:
        """The groups that a user belongs to."""


class Entry(NamedTuple):
    """A record of a journal."""

    at: datetime
    fields: dict[str, str]
    """Those that were asked for; empty where the record lacks one."""


Match = Mapping[str, Sequence[str]]
"""Fields, each with the values that it may have; all of them have to fit."""


class Records(Protocol):
    """An open journal."""

    def expect(self, fits: Sequence[Match]) -> None:
        """Say that records which fit one of *fits* will be asked for, one by one: where an answer has a long way, the newest of all of
        them are asked for together."""

    def entries(self, fits: Sequence[Match], fields: Sequence[str], most: int, from_head: bool = False) -> list[Entry]:
        """Up to *most* records that fit one of *fits*, oldest first; the newest ones, unless *from_head*."""


class Each(Protocol):
    """See :meth:`Reached.each`."""

    def __call__(self, work: Callable[[One], T], items: Iterable[One]) -> list[T]:
        """What *work* gives for each of *items*."""


def in_turn(work: Callable[[One], T], items: Iterable[One]) -> list[T]:
    """What *work* gives for each of *items*, one after the other."""
    return [work(item) for item in items]


class Reached(Protocol):
    """One host, reached."""

    name: str
    family: Manager
    """Name of the family of its service manager (:mod:`hollow_chain.families`)."""
    architecture: str
    cores: int | None
    kernel: str
    """Release of the running kernel."""
    user: int
    """Number of the account by which it is asked."""
    all_rights: bool
    """Whether it is asked with all rights."""

    @property
    def files(self) -> Files:
        """Its files."""

    @property
    def processes(self) -> Processes:
        """Its processes."""

    @property
    def network(self) -> Network:
        """Its sockets and adapters."""

    @property
    def accounts(self) -> Accounts:
        """Its accounts."""

    machine: str
    """What tells the machine from all others, however it is called; empty where it has no ID of its own."""
    asked_as: str
    """The account by which it is asked, in words."""
    is_here: bool
    """Whether it is the machine that this program runs on: only there a look at an address of its own is one at it."""

    def each(self, work: Callable[[One], T], items: Iterable[One]) -> list[T]:
        """What *work* gives for each of *items*, in their order. Where an answer has a long way, the pieces wait for theirs side by
        side; the order in which they look is then not that of *items*."""

    def now(self) -> datetime:
        """The time by its clock."""

    def volumes(self) -> list[Volume]:
        """Its file systems, those of other machines left out."""

    def converse(self, talk: Callable[[Any], Awaitable[T]], seconds: float) -> T:
        """What *talk* gives, which gets its message bus (D-Bus) to ask. Raises :class:`NotThere` where there is none, where the
        conversation breaks off, or nothing is answered for *seconds*."""

    def journal(self) -> AbstractContextManager[Records]:
        """Its journal, opened. Raises :class:`NotThere`."""

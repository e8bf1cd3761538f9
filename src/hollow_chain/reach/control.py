"""What a reader may ask of a host of the control-manager family beyond what every host is asked: narrow interfaces, and the numbers
of the public programming interface that speak through them (winsvc.h, winnt.h, winreg.h).

An interface that says no raises :class:`Declined`, which carries the number of the system's error (winerror.h).
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import datetime
from typing import Any, NamedTuple, Protocol

from hollow_chain.reach.interfaces import Reached

SERVICES = r"SYSTEM\CurrentControlSet\Services"
CONTROL = r"SYSTEM\CurrentControlSet\Control"
"""Where the definitions of services, and what holds for all of them, stand below the machine's part of the registry (the documentation
of the service control manager, "Database of Installed Services")."""

DRIVERS = 0x0B
"""Kinds of services that are drivers (``SERVICE_DRIVER``)."""
OWN_PROCESS, SHARED_PROCESS = 0x10, 0x20
FOR_A_SESSION = 0xC0
"""A template of services of a user's session, and such a service (``SERVICE_USER_SERVICE``, ``SERVICE_USERSERVICE_INSTANCE``)."""
STOPPED, START_PENDING, STOP_PENDING, RUNNING, CONTINUE_PENDING, PAUSE_PENDING, PAUSED = range(1, 8)
AT_BOOT, BY_SYSTEM, AUTOMATIC, MANUAL, DISABLED = range(5)
ACCEPTS_PAUSE = 2
"""``SERVICE_ACCEPT_PAUSE_CONTINUE``."""

TEXT, EXPANDED_TEXT, BYTES, NUMBER, TEXTS = 1, 2, 3, 4, 7
"""Types of registry values (``REG_SZ``, ``REG_EXPAND_SZ``, ``REG_BINARY``, ``REG_DWORD``, ``REG_MULTI_SZ``)."""

NOT_THERE = (2, 3, 1060)
"""Numbers by which an interface says that there is no such thing."""


class Declined(OSError):
    """The system said no."""

    def __init__(self, number: int, text: str) -> None:
        super().__init__(number, text)
        self.number = number
        """Its error number (winerror.h)."""


class ServiceStatus(NamedTuple):
    """What the manager tells of the run of a service (``SERVICE_STATUS_PROCESS``)."""

    name: str
    shown_as: str
    kind: int
    state: int
    accepts: int
    number: int
    """``dwWin32ExitCode``: 0, or why it stopped or failed."""
    own_number: int
    """``dwServiceSpecificExitCode``, which counts where :attr:`number` is 1066."""
    checkpoint: int
    wait_hint: int
    """Milliseconds that it says it needs until the next checkpoint."""
    process: int


class ServiceConfig(NamedTuple):
    """What the manager has loaded of the definition of a service (``QUERY_SERVICE_CONFIG``)."""

    kind: int
    startup: int
    command: str
    group: str
    needs: list[str]
    account: str
    shown_as: str


class ServiceDatabase(Protocol):
    """The database of the service control manager. All raise :class:`Declined`."""

    @property
    def has_all_rights(self) -> bool:
        """Whether everything may be done with it, as an administrator may."""

    def statuses(self) -> list[ServiceStatus]:
        """All services, drivers among them, as they are now."""

    def status(self, name: str) -> ServiceStatus:
        """One of them, as it is now."""

    def config(self, name: str) -> ServiceConfig:
        """What is loaded of its definition."""

    def description(self, name: str) -> str:
        """Its description, where the registry only says in which library that text stands."""


class Key(NamedTuple):
    """A key of the registry."""

    values: dict[str, tuple[Any, int]]
    """By name in lower case: the data and their type."""
    below: list[str]
    """The names of the keys below it."""
    changed_at: datetime | None


class Registry(Protocol):
    """The machine's part of the registry (``HKEY_LOCAL_MACHINE``)."""

    def expect(self, paths: Iterable[str]) -> None:
        """Say that all keys at *paths* will be asked for: where an answer has a long way, they are asked for together."""

    def key(self, path: str) -> Key:
        """One key. Raises :class:`Declined`, with one of :data:`NOT_THERE` where there is none."""


class LogEntry(NamedTuple):
    """A record of an event log."""

    at: datetime
    source: str
    number: int
    level: str
    """``error``, ``warning``, ``info``."""
    text: str
    """Rendered, or what was inserted into it where the message is not to be had."""
    inserted: list[str]
    process: int = 0


class EventLogs(Protocol):
    """The event logs."""

    def entries(self, log: str, since: datetime, sources: Collection[str] | None, most: int) -> list[LogEntry]:
        """Up to *most* of the newest records of *log* that are not older than *since*, of *sources* only where they are given; oldest
        first. Raises :class:`Declined`."""


class FileRights(NamedTuple):
    """Whose a file is, and who may do what with it."""

    owner: str
    entries: list[str]
    """``user:NAME:rwx`` for what is allowed, ``deny:NAME:rwx`` for what is not, in the order of the list."""


class KnownAccount(NamedTuple):
    """An account as the system knows it."""

    name: str
    kind: str
    """``user`` or ``group``."""
    is_built_in: bool = False
    disabled: bool | None = None
    locked: bool | None = None
    expires_at: datetime | None = None
    may_run_services: bool | None = None


class AccountBook(Protocol):
    """Accounts of the host and of its domain."""

    def look_up(self, name: str) -> KnownAccount | None:
        """What is known of an account; None where there is none of that name. Raises :class:`Declined` where nobody can tell."""


Raw = tuple[int, bytes]
"""A value of the registry as it stands there: its type and its bytes."""


class ExactValues(Protocol):
    """Values of the machine's part of the registry, byte for byte. All raise :class:`Declined`."""

    def all_of(self, path: str) -> dict[str, Raw]:
        """All values of a key; none where there is no such key."""

    def make(self, path: str) -> None:
        """Make a key, where there is none."""

    def put(self, path: str, name: str, value: Raw | None) -> None:
        """Put a value in its place, or take it away where it is None."""


class EntrySettings(NamedTuple):
    """What is set of a service with the manager (``CreateService``, ``ChangeServiceConfig``, ``ChangeServiceConfig2``)."""

    command: str
    shown_as: str
    description: str
    account: str
    startup: str
    """``automatic``, ``delayed`` or ``manual``."""
    needs: list[str]


class ServiceOrders(Protocol):
    """Orders to the service control manager, each waited for until it is done or has failed. All raise :class:`Declined`."""

    def status(self, name: str) -> ServiceStatus:
        """How a service stands now."""

    def start(self, name: str) -> ServiceStatus:
        """Start a service; a database that is locked is waited for."""

    def stop(self, name: str) -> ServiceStatus:
        """Stop a service."""

    def resume(self, name: str) -> ServiceStatus:
        """Continue a service that is paused."""

    def pause(self, name: str) -> ServiceStatus:
        """Pause a service."""

    def set_startup(self, name: str, kind: str) -> bool:
        """Set the startup type, ``automatic``, ``delayed`` or ``manual``; whether the manager also took whether it is delayed."""

    def set_start_number(self, name: str, number: int) -> None:
        """Set the startup type by its number."""

    def create(self, name: str, settings: EntrySettings) -> None:
        """Register a service, started by hand only until its startup type is set."""

    def configure(self, name: str, settings: EntrySettings) -> None:
        """Change how a service is registered."""

    def delete(self, name: str) -> None:
        """Take a service off; it is gone once nobody has a handle on it."""

    def set_events(self, name: str, events: list[tuple[int, int, str]]) -> None:
        """Set the events that start or stop a service: kind, action and GUID of each (``SERVICE_TRIGGER``)."""

    def set_needs(self, name: str, needs: list[str]) -> None:
        """Set what a service needs; groups with their mark."""

    def set_account(self, name: str, account: str) -> None:
        """Set the account, one of those that need no password."""

    def set_failure_actions(self, name: str, actions: list[tuple[int, int]], forgotten_after: int) -> None:
        """Set what is done after failures: kinds and milliseconds; and after how many seconds they are forgotten."""


class ControlReached(Reached, Protocol):
    """A host of this family, reached."""

    build: str
    """Version of its system."""
    me: str
    """The account by which it is asked."""

    @property
    def database(self) -> ServiceDatabase:
        """Its service database."""

    @property
    def registry(self) -> Registry:
        """Its registry."""

    @property
    def event_logs(self) -> EventLogs:
        """Its event logs."""

    @property
    def account_book(self) -> AccountBook:
        """Its accounts."""

    @property
    def orders(self) -> ServiceOrders:
        """Its manager, as it takes orders. Raises :class:`Declined` where it takes none."""

    @property
    def exact_values(self) -> ExactValues:
        """Its registry, byte for byte."""

    def private_folder(self) -> str:
        """A folder of this program's that only the system and administrators may look into or write in, made where it is not there.

        Raises :class:`~hollow_chain.trouble.Trouble` where one stands there that is somebody else's.
        """

    def booted_at(self) -> datetime | None:
        """When it was booted."""

    def variables(self) -> dict[str, str]:
        """Variables that every process there has, whatever the registry says: where the system stands."""

    def rights(self, path: str) -> FileRights:
        """Whose a file or folder is. Raises :class:`Declined`."""

    def drive_kind(self, root: str) -> str:
        """``disk``, ``network``, ``removable`` or ``other``; empty where there is no such drive."""

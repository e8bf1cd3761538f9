"""What is known of one host, and of several: the outer types of the snapshot format, version 1."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

from hollow_chain.facts.change import Change
from hollow_chain.facts.kinds import IDENTITY, LOOKED_UP, MEASURED, SET, STATE, Name, ProcessNumber, of_kind
from hollow_chain.facts.license import LicenseFile, LicenseServer
from hollow_chain.facts.observed import Observation, ObservedCall
from hollow_chain.facts.part import Listed, Long, Moment, Part, Port, Seconds
from hollow_chain.facts.service import Service

FORMAT = "hollow-chain/snapshot"
VERSION = 1
"""Version of the snapshot format; keys may be added in it, none changes its meaning."""

Manager = Literal["systemd", "control-manager"]


class Listener(Part, gc=False):
    """A socket that listens (TCP) or receives (UDP), with who holds it."""

    port: Port
    protocol: str = "tcp"
    address: str = ""
    """Empty: all addresses."""
    process: int = 0
    program: str = ""
    service: str = ""
    """Service that the holding process belongs to."""
    shared_with: Listed[str] = []
    """All services of the process, where it hosts several."""
    reuse: bool | None = None
    """Lets others share the endpoint (``SO_REUSEPORT``, socket(7)). None: not known."""
    v6_only: bool | None = None
    """Of a listener on all IPv6 addresses: leaves IPv4 alone (ipv6(7)). None: not known."""


class Process(Part, gc=False):
    """A running process that belongs to a service."""

    happens: ClassVar[bool] = True

    process: int
    program: str = ""
    service: str = ""
    started_at: Moment | None = None
    arguments: Listed[str] = []


class HostAccount(Part, gc=False):
    """A user account of the host, or its known absence."""

    name: str
    exists: bool = True
    kind: Literal["user", "group"] = "user"
    id: int | None = None
    groups: Listed[str] = []
    home: str = ""
    locked: bool | None = None
    expires_at: Annotated[Moment | None, of_kind(SET)] = None
    may_run_services: bool | None = None


class File(Part, gc=False):
    """A file or folder that some service names, or its known absence."""

    path: str
    exists: bool = True
    kind: str = "file"
    """``file``, ``folder``, ``socket``, ``device``, ``other``."""
    owner: str = ""
    group: str = ""
    mode: str = ""
    """Permission bits in octal, such as ``0640``."""
    size: Annotated[int | None, of_kind(MEASURED)] = None
    changed_at: Moment | None = None
    altered_at: Moment | None = None
    """When its content, owner, mode, list or name was last changed (inode(7), "Last status change timestamp")."""
    executable: bool | None = None
    format: Annotated[str, of_kind(LOOKED_UP)] = ""
    """Of a program: ``elf x86_64``, ``script``, ``unknown``, ``empty``, ...: what its first bytes say."""
    interpreter: str = ""
    """Of a program: the interpreter it needs."""
    interpreter_exists: bool | None = None
    speaks_of_reports: Annotated[bool | None, of_kind(LOOKED_UP)] = None
    """Of a program that has to report to the manager that it is up: whether anything in it speaks of that. None: not known."""
    fixed: Annotated[str, of_kind(LOOKED_UP)] = ""
    """``immutable`` or ``append-only``, where that was looked up and it is: then nobody may change it otherwise, root included
    (ioctl_iflags(2))."""
    acl: Listed[str] = []
    """Entries of its access control list beyond owner, group and others, as ``user:mate:r-x`` (acl(5))."""
    held_by: ProcessNumber = 0
    """PID of a process that holds a lock on it, or has it for itself alone."""
    names_process: ProcessNumber = 0
    """Of a PID or lock file: the process that it names."""
    process_runs: Annotated[bool | None, of_kind(STATE)] = None
    """Whether that process runs; of a socket, whether anybody waits behind it."""
    link_to: str = ""
    siblings: Annotated[Listed[str], of_kind(LOOKED_UP)] = []
    """Of an absent file of one instance: the files of other instances that are there."""
    package: Annotated[str, of_kind(LOOKED_UP)] = ""
    """The package that it came with, where that was looked up."""
    valid_from: Annotated[Moment | None, of_kind(LOOKED_UP)] = None
    """Of a certificate: from when on it is valid (RFC 5280, section 4.1.2.5), where that was looked up."""
    valid_until: Annotated[Moment | None, of_kind(LOOKED_UP)] = None
    """Of a certificate: until when it is valid."""
    digest: Annotated[str, of_kind(LOOKED_UP)] = ""
    """Of a definition or a file of settings that everybody may read: the first 16 digits of the SHA-256 (FIPS 180-4) of its text with
    its secrets masked, where that was looked up. The same digest: the same version."""


class Package(Part, gc=False):
    """An installed package, as the package manager of the host lists it."""

    name: str
    version: str = ""


Trust = Literal["", "trusted", "own", "told"]
TOLD: frozenset[Trust] = frozenset(("own", "told"))
"""What others than root could have written: no machine changes anything for it alone."""


class Event(Part, gc=False):
    """One record from a journal, an event log or a program's own log file. Secrets are masked."""

    happens: ClassVar[bool] = True

    at: Moment
    text: str
    service: str = ""
    source: str = ""
    level: str = ""
    """``error``, ``warning``, ``info``, ... in lower case."""
    number: int | None = None
    code: str = ""
    """Identifier of the kind of message, as the writer gives it."""
    process: int = 0
    file: str = ""
    line: int | None = None
    by_manager: bool = False
    """Whether the service manager itself speaks, and not the program."""
    trust: Trust = ""
    """Who could have written it. ``trusted``: nobody but the manager itself, the kernel or root. ``own``: what the service
    itself says, so that only the service could have forged it. ``told``: somebody else. Empty: not known."""
    call: ObservedCall | None = None
    """Of a record that is none of a log: the call that was seen to fail."""


class Adapter(Part, gc=False):
    """A network adapter."""

    name: str
    hardware_address: str = ""
    addresses: Listed[str] = []
    up: bool | None = None


class Filesystem(Part, gc=False):
    """A mounted file system, sizes in bytes."""

    mounted_on: str
    kind: str = ""
    size: int | None = None
    free: Annotated[int | None, of_kind(MEASURED)] = None
    inodes: Annotated[int | None, of_kind(MEASURED)] = None
    inodes_free: Annotated[int | None, of_kind(MEASURED)] = None
    read_only: bool = False
    no_exec: bool = False
    """Nothing on it may be executed."""


class FirewallRule(Part, gc=False):
    """One rule: which traffic, and whether it passes."""

    passes: bool
    protocol: str = ""
    first_port: Port = 0
    last_port: Port = 65535
    source: str = ""
    to: str = ""
    program: str = ""
    """The only program that it is about; empty: any."""


class Firewall(Part):
    """A firewall on a host or between hosts: the first rule that fits decides."""

    name: str
    between: Listed[str] = []
    """Host names on its two sides; empty for a host's own."""
    passes_by_default: bool = True
    rules: Listed[FirewallRule] = []


class BootRecord(Part):
    """One boot of the past: when, and how many seconds after it each service was up."""

    happens: ClassVar[bool] = True

    at: Moment
    up_seconds: dict[str, Seconds] = {}
    tried_seconds: dict[str, Seconds] = {}
    """How many seconds after it each start was begun, as far as that is recorded."""
    failed: Listed[str] = []


OF_RECORDS, OF_SOCKETS = "records", "sockets"
"""Parts of the facts whose absence changes what can be concluded: the words of the log, and who listens where."""


class Unread(Part, gc=False):
    """Something that could not be read, and why."""

    happens: ClassVar[bool] = True

    what: str
    why: str = ""
    part: str = ""
    """Which part of the facts is missing or not whole by that: ``records`` or ``sockets``; empty: another one."""


class HostLimits(Part, gc=False):
    """Limits that hold for all services of the host."""

    start_seconds: Seconds | None = None
    start_typed: str = ""
    """The start limit as it was typed (control-manager family: milliseconds, perhaps in base 16)."""
    start_changed_at: Moment | None = None
    delayed_seconds: Seconds | None = None
    """How long after boot the delayed group begins."""
    unprivileged_port: int | None = None
    """First port that any account may take."""
    reserved_ports: Listed[str] = []
    """Single ports or ranges such as ``5000-5010`` that the system keeps for itself."""


class Host(Part):
    """One host at one moment."""

    name: Name
    manager: Manager = "systemd"
    read_at: Moment | None = None
    boot_at: Moment | None = None
    description: str = ""
    system: str = ""
    architecture: str = ""
    cores: int | None = None
    memory_bytes: int | None = None
    container: bool = False
    clock_offset: Annotated[float | None, of_kind(MEASURED)] = None
    """Seconds by which its clock is ahead of a trusted one."""
    addresses: Annotated[Listed[str], of_kind(IDENTITY)] = []
    local_names: dict[str, str] = {}
    """Names that its table of names (hosts(5)) gives to addresses of its own, of those that its services call: name to address."""
    machine: Name = ""
    """What tells the machine from all others, however it is called: a digest of its machine ID, from which nobody finds that."""
    default_target: str = ""
    reboot_due: str = ""
    """Why a reboot is due; empty where none is."""
    services: Long[Service] = []
    listeners: Long[Listener] = []
    sockets_read: Annotated[bool, of_kind(LOOKED_UP)] = False
    """Whether the whole table of sockets was read, so that one that is not in :attr:`listeners` is not there."""
    processes: Long[Process] = []
    accounts: Listed[HostAccount] = []
    files: Long[File] = []
    packages: Long[Package] = []
    """What is installed, where that was looked up."""
    filesystems: Listed[Filesystem] = []
    events: Long[Event] = []
    adapters: Annotated[Listed[Adapter], of_kind(IDENTITY)] = []
    firewalls: Listed[Firewall] = []
    boots: Listed[BootRecord] = []
    limits: HostLimits | None = None
    license_files: Listed[LicenseFile] = []
    license_servers: Listed[LicenseServer] = []
    observed: Listed[Observation] | None = None
    """Starts that were watched."""
    changes: Listed[Change] = []
    """What was changed lately, as far as that was asked for; file times of what was looked at stand in :attr:`files`."""
    unread: Listed[Unread] = []


class UnreachedHost(Part):
    """A host that was asked and could not be read."""

    name: str
    address: str = ""
    """How it is called where it is reached, where that differs."""
    why: str = ""
    silent: bool = False
    """Nothing of it answered at all: it is down, or not to be reached."""
    tried_at: Moment | None = None


CameTo = Literal["answered", "refused", "no answer", "not tried"]


class Probe(Part):
    """A call that was tried: from one host to a port of another one."""

    to: str
    """The host that was called."""
    port: Port
    address: str = ""
    """The address that was called."""
    source: str = ""
    """The host that the call came from; empty: the machine of whoever reads."""
    came_to: CameTo = "not tried"
    why: str = ""
    """Why it was not tried, or what was said."""
    seconds: Seconds | None = None
    at: Moment | None = None


class Snapshot(Part):
    """One or several hosts at one moment each: a whole document of the format."""

    format: str
    version: int
    written_by: str = ""
    hosts: Long[Host] = []
    firewalls: Listed[Firewall] = []
    unread: Listed[Unread] = []
    unreached: Listed[UnreachedHost] = []
    probes: Listed[Probe] = []
    """Calls between hosts that were tried, as far as that was asked for."""
    """Hosts that could not be read."""


def snapshot(hosts: list[Host], written_by: str = "") -> Snapshot:
    """A document of the current version that holds *hosts*."""
    return Snapshot(format=FORMAT, version=VERSION, written_by=written_by, hosts=hosts)

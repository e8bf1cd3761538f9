"""What is known of one service: the types of the snapshot format, version 1.

A *service* here is anything that a service manager starts and others can hang on: services, and on systemd
hosts also sockets, timers, mounts, devices, targets and paths (see :attr:`Service.kind`). All moments are
date-times with a zone; all durations are seconds, unless the name says otherwise. Every field but the name may
be left out: what is not known is empty, and is never taken for "all well".
"""

from __future__ import annotations

from typing import Annotated, Literal

from hollow_chain.facts.kinds import LOOKED_UP, MEASURED, STATE, ProcessNumber, of_kind
from hollow_chain.facts.part import Listed, Moment, Part, Port, Seconds
from hollow_chain.facts.runs import Job, LastRun, Progress, Start, Usage

State = Literal["running", "starting", "stopping", "stopped", "done", "paused", "failed", "unknown"]
Startup = Literal["automatic", "delayed", "manual", "event", "on-need", "disabled", "unknown"]
LinkKind = Literal["hard", "soft", "order", "clash"]
Outcome = Literal["met", "unmet", "untested"]


class Link(Part, gc=False):
    """One link of the chain, from the service that carries it to the service named in :attr:`to`.

    ``hard``: this service cannot do without it. ``soft``: it is started along, and its absence is no fault.
    ``order``: this service starts after it, if both start. ``clash``: the two cannot run at once.
    """

    to: str
    kind: LinkKind = "hard"
    host: str = ""
    """Name of the other host; empty where the link stays on its own host."""
    word: str = ""
    """The manager's own word for the link, such as ``Requires``."""
    pulls: bool = True
    """A start of this service also starts :attr:`to` (never true in effect across hosts)."""
    stops: bool = False
    """A stop of :attr:`to` takes this service along even though the link is not hard."""


class Trigger(Part, gc=False):
    """An event that starts the service: another unit, a moment, a device, the network, a request."""

    kind: str
    """``socket``, ``timer``, ``path``, ``bus``, ``device``, ``network`` or any other plain word."""
    name: str = ""
    """The unit or thing whose event it is."""
    due_at: Moment | None = None
    """When it will come, where that is known (timers)."""
    after_boot: Seconds | None = None
    """How long after boot it comes, where that is set."""
    spread: Seconds = 0.0
    """Up to so many seconds later, at random."""


class Condition(Part, gc=False):
    """A condition in the definition that is tested before each start."""

    kind: str
    """What is tested, such as ``ConditionPathExists``."""
    parameter: str = ""
    negated: bool = False
    optional: bool = False
    """One of several of which a single one has to hold."""
    outcome: Annotated[Outcome, of_kind(STATE)] = "untested"


class Definition(Part):
    """Where the service is defined, and what the manager thinks of that definition."""

    file: str = ""
    made_from: str = ""
    """The file that it was generated from, and is generated from anew at each reload; empty where it is a file of its own."""
    drop_ins: Listed[str] = []
    load: str = "loaded"
    """``loaded``, ``masked``, ``refused`` (see :attr:`error`), ``missing`` (the file is gone) or ``not-loaded`` (it is there, and the
    manager does not know it)."""
    error: str = ""
    needs_reload: bool = False
    being_removed: bool = False
    """Marked for removal, and there only until its last user lets go of it."""
    changed_at: Moment | None = None
    """Newest change of any of the files."""
    enabled_at: Moment | None = None
    """When it was set to start at boot, as far as that can be told."""
    on_disk: Annotated[dict[str, str], of_kind(STATE)] = {}
    """Settings that a reload would bring and that differ from those loaded: name to new text."""
    loaded: Annotated[dict[str, str], of_kind(STATE)] = {}
    """The same settings as they are loaded now."""


class Program(Part):
    """What the manager runs for the service."""

    path: str = ""
    arguments: Listed[str] = []
    folder: str = ""
    """Working folder."""
    root: str = ""
    """Root folder of the program where it is not the host's own."""
    outer_path: str = ""
    """Where the program of such a root lies for everybody else; empty where that cannot be told."""
    library: str = ""
    """The library with its code, where its process is one that hosts several services."""
    also_named: Listed[str] | None = None
    """Further programs that are there and that the same command line, which quotes nothing, may mean as well."""
    style: str = ""
    """What *up* means: ``simple``, ``exec``, ``forking``, ``notify``, ``dbus``, ``idle``, ``oneshot``,
    ``shared-process``, ``own-process``."""
    stays: bool = False
    """Counts as up after its program has ended."""
    deserted: Annotated[bool, of_kind(STATE)] = False
    """Whether it counts as up, was to leave a process behind, and has none."""
    paths: Listed[str] = []
    """Files and folders that its definition or its arguments name."""
    environment: Listed[str] = []
    """``NAME=value``, secrets masked."""
    environment_files: Listed[str] = []
    """Files with further variables, without which the manager does not start it."""
    optional_files: Listed[str] | None = None
    """The same of those that may be missing."""
    credential_files: Listed[str] | None = None
    """Files that the manager hands to it as credentials, and without which it does not start it."""
    input_file: str = ""
    """The file that it is given to read from."""
    pid_file: str = ""
    process: ProcessNumber = 0
    log_files: Annotated[Listed[str], of_kind(LOOKED_UP)] = []
    own_folders: Listed[str] = []
    """Folders that its definition gives it: for its state, logs, cache, configuration and what it needs while it runs."""
    used_places: Annotated[Listed[str] | None, of_kind(LOOKED_UP)] = None
    """Folders of its own, by its name or its definition, and what lies in them, as far as they were looked at."""
    generated: Annotated[dict[str, str] | None, of_kind(LOOKED_UP)] = None
    """Files of its settings that say at their head that they are generated from something else: path to that line."""
    settings_paths: Annotated[Listed[str], of_kind(LOOKED_UP)] = []
    """Files that its own settings name as locks, PID files and sockets."""
    named: Annotated[Listed[Named] | None, of_kind(LOOKED_UP)] = None
    """Files and folders that its settings name, where it complained of one and did not say of which."""
    calls: Annotated[Listed[CalledEndpoint] | None, of_kind(LOOKED_UP)] = None
    """Endpoints that its settings send it to, where it could not reach one and did not say which."""


def is_deserted(service: Service) -> bool:
    """Whether a service counts as up, was to leave a process behind, and has none."""
    return service.program is not None and service.program.deserted


def has_its_tasks(service: Service) -> bool:
    """Whether a service that is up has as many tasks as it may have."""
    most = (service.limits.lowered or {}).get("TasksMax") if service.limits is not None else None
    tasks = service.usage.tasks if service.usage is not None else None
    return most is not None and tasks is not None and tasks >= most


class Account(Part, gc=False):
    """The account that the service runs under."""

    user: str = ""
    group: str = ""
    groups: Listed[str] = []
    """Further groups that the definition gives it."""
    dynamic: bool = False
    """Made by the manager at each start."""


class Limits(Part, gc=False):
    """Limits that the manager sets on the service. None: not known; ``inf`` is written as -1."""

    start_seconds: Seconds | None = None
    start_typed: Annotated[str, of_kind(LOOKED_UP)] = ""
    """The start limit as it was typed, with its unit."""
    stop_seconds: Seconds | None = None
    rate_count: int | None = None
    rate_seconds: Seconds | None = None
    restart: str = ""
    """When the manager restarts it: ``no``, ``always``, ``on-failure``, ..."""
    restart_seconds: Seconds | None = None
    memory_bytes: int | None = None
    run_seconds: Seconds | None = None
    """For how long it may be up before the manager ends it."""
    watchdog_seconds: Seconds | None = None
    """How often it has to tell the manager that it is alive."""
    lowered: dict[str, int] | None = None
    """Bounds on what it may use (open files, tasks, address space, ...), by the manager's word for each, as far as its definition
    sets them lower than what holds for all services."""


class Confinement(Part):
    """What the manager lets the service reach of the file system and of the account's rights."""

    read_only: Listed[str] = []
    writable: Listed[str] = []
    hidden: Listed[str] = []
    capabilities: Listed[str] | None = None
    """Rights that it may have at most (capabilities(7)), as names such as ``CAP_NET_BIND_SERVICE``. None: not restricted."""
    granted: Listed[str] = []
    """Rights that it is given although its account would not have them."""
    not_run: Listed[str] | None = None
    """Places where nothing may be executed, but for what lies below :attr:`run`."""
    run: Listed[str] | None = None
    calls_by: str = ""
    """The setting that keeps calls of the kernel from it, as the manager calls it; empty where none does."""
    calls_refused: Listed[str] | None = None
    """Of the calls by which a program comes to listen (socket(2), bind(2), listen(2)) those that the setting refuses it. None: not known."""
    calls_fail_with: int | None = None
    """The error that such a call gives it. None: it is ended for it."""
    families: Listed[str] | None = None
    """Kinds of sockets that it may use, such as ``AF_UNIX``, or, with a minus sign before them, may not. None: not restricted."""
    keeps_from: Listed[str] | None = None
    """Further settings, on for it, that refuse it single calls of the kernel with ``EPERM``, as the manager calls them."""
    private_tmp: bool = False
    private_network: bool = False
    private_devices: bool = False
    """Whether it sees the devices only that each program needs, such as ``/dev/null`` (systemd.exec(5), "PrivateDevices=")."""
    no_calls_to: Listed[str] | None = None
    """Addresses and networks that it may neither call nor be called from, as far as :attr:`calls_to` does not name them."""
    calls_to: Listed[str] | None = None


class CalledEndpoint(Part, gc=False):
    """An endpoint that a service is set to call, as the client of whoever listens there."""

    address: str
    """An address, or the name of a machine."""
    port: Port
    source: str = ""
    """The setting that says so, and where it stands."""


class Named(Part, gc=False):
    """A file or folder that a setting of a service names."""

    path: str
    source: str = ""
    """The setting that says so, and where it stands."""


class Claim(Part, gc=False):
    """An endpoint that the service's definition or configuration says it will listen on."""

    port: Port
    protocol: str = "tcp"
    address: str = ""
    """Empty: all addresses."""
    source: str = ""
    free_choice: bool = False
    """Given out dynamically."""
    switched_off: bool = False
    """The definition or configuration switches this listener off."""
    reuse: bool = False
    """Shares the endpoint with others that do so too (``SO_REUSEPORT``, socket(7))."""
    v6_only: bool = False
    """Of all IPv6 addresses: leaves IPv4 alone (ipv6(7))."""
    told: bool = False
    """Read from a file that others than root may write."""
    unsure: bool = False
    """By the words around it, it may as well be an endpoint that the program connects to, or one that is not in force."""

    @property
    def counts(self) -> bool:
        """Whether it says by itself that its service wants to have this very endpoint."""
        return bool(self.port) and not (self.free_choice or self.switched_off or self.unsure)


class SeatWant(Part, gc=False):
    """An entitlement that the service asks a license server for."""

    product: str
    feature: str = ""
    version: str = ""
    seats: int = 1
    host: str = ""
    server: str = ""
    """Service name of the license server."""
    port: Port = 0
    """Port of the license server, where its service name is not known."""


MOUNTS = ("mount", "automount", "swap")
"""Kinds of units that are no programs, but put something in its place (systemd.mount(5), systemd.swap(5))."""


class Service(Part):
    """One service (or other thing that a service hangs on) of one host."""

    name: str
    kind: str = "service"
    display_name: str = ""
    description: str = ""
    aliases: Listed[str] = []
    order_group: str = ""
    """Group of services that it belongs to (control-manager family): others may need the group, as ``+`` and its name."""
    state: Annotated[State, of_kind(STATE)] = "unknown"
    detail: Annotated[str, of_kind(MEASURED)] = ""
    """The manager's own words for the state."""
    startup: Startup = "unknown"
    template: bool = False
    """Cannot be started itself: needs an instance argument."""
    template_of: str = ""
    """The template that this is an instance of."""
    instance: str = ""
    wanted_by: Listed[str] = []
    """Targets that start it at boot."""
    links: Listed[Link] = []
    triggers: Listed[Trigger] = []
    conditions: Listed[Condition] = []
    definition: Definition | None = None
    program: Program | None = None
    account: Account | None = None
    last: LastRun | None = None
    job: Job | None = None
    progress: Progress | None = None
    refuses_hand: bool = False
    """Whether its definition refuses a start by hand: only what needs it starts it."""
    stops_unneeded: bool = False
    """Whether the manager stops it where nothing that is up needs or wants it (systemd.unit(5), ``StopWhenUnneeded=``)."""
    limits: Limits | None = None
    confinement: Confinement | None = None
    usage: Usage | None = None
    starts: Listed[Start] = []
    claims: Listed[Claim] = []
    listens_at: Annotated[Listed[str], of_kind(LOOKED_UP)] = []
    """Of a socket unit: the sockets in the file system that the manager holds for its service (systemd.socket(5)), where that was
    looked up."""
    seats: Listed[SeatWant] = []
    failure_actions: Listed[str] = []
    """What the manager does after the first, second and later failures: ``restart``, ``restart after 60 s``, ``run``,
    ``reboot`` or ``none``."""
    failures_forgotten_after: Seconds | None = None
    """After how long without a failure they are counted from the first again; -1: never."""
    required_rights: Listed[str] | None = None
    """Rights (control-manager family: privileges) that it says it needs, and gets none but."""

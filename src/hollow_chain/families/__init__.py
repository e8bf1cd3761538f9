"""What differs between the families of service managers: one object each, and no comparison with a name anywhere else.

The sources: systemd's manual pages, named at each field; for the control-manager family the public documentation of its service
interface (service control manager, service start types, dependencies, error codes of starts).
"""

from __future__ import annotations

from typing import Literal

import msgspec

from hollow_chain.facts.host import Host
from hollow_chain.facts.service import LinkKind


class Family(msgspec.Struct, frozen=True, kw_only=True):
    """One kind of service managers."""

    name: Literal["systemd", "control-manager"]

    # Names, paths, programs.
    letters_alike: bool
    """Names and paths do not tell upper from lower case, and both slashes are the same."""
    names_tell_kinds: bool
    """A name ends in its kind (systemd.unit(5)); a name that does not is none of the manager's."""
    foreign_formats: frozenset[str]
    """Formats of programs that no kernel of that family runs."""

    # Starts.
    loops_over: LinkKind
    """Links of this kind, in a ring, leave the manager nothing to begin with."""
    waits_by: tuple[LinkKind, ...]
    """Links of these kinds let a start wait: only an order does (systemd.unit(5), "Before=, After="); or a dependency."""
    waits_need: bool
    """To wait for another one means to need it: there is no mere order."""
    triggers_start_any: bool
    """An event starts a service of any startup type that has triggers, manual ones too."""
    up_means_ready: bool
    """A service counts as up when it says so itself; where not, that depends on its type (systemd.service(5), "Type=")."""
    has_delayed_group: bool
    """There is a startup type for what is started some time after the boot."""

    # Limits.
    start_seconds: float
    """The start limit where nobody sets one (systemd-system.conf(5), ``DefaultTimeoutStartSec=``; the control-manager family: 30 s)."""
    limit_typed_in_milliseconds: bool
    limit_of_all_waits_for_boot: bool
    """The limit for all services is one value of the host, and is read at its boot."""

    limits_hold: bool
    """The manager itself ends a start at its limit: one that is under way past it has asked for more time, or is in a step whose limit
    counts anew (systemd.service(5), ``TimeoutStartSec=``; sd_notify(3), ``EXTEND_TIMEOUT_USEC``)."""

    # What the manager tells.
    numbers_failures: bool
    """A start that failed has a numbered error."""
    has_failed_state: bool
    """A service that failed is called failed; where not, it is called stopped, as one that nobody wanted."""
    remembers_starts: bool
    """Of a service that was started since the boot there is a record of that; no record means no start."""

    # What stands in the way.
    locked_accounts_barred: bool
    """An account that is locked or out of date may run no service: its password is asked for."""
    kernel_processes: frozenset[int]
    """Numbers under which the kernel itself holds sockets, for drivers that listen in the place of services."""
    kept_ports_refused: bool
    """Ports that the system keeps are refused to everybody, not only passed over when a free one is looked for."""
    rights_by_list: bool
    """A list alone says who may do what with a file; where not, owner, group and mode do, and a list beyond them."""
    low_ports_need_right: bool
    """Low ports are for root, and for who has the right to them (capabilities(7), ``CAP_NET_BIND_SERVICE``)."""

    # Reading and mending.
    named_paths_are_looked_at: bool
    """Whoever reads such a host looks at each path that a log or a definition names: one that was not seen tells nothing."""
    defined_in_files: bool
    """Definitions are files, and settings can be laid over them (systemd.unit(5), drop-in files)."""
    traced: bool
    """What the processes of a start try can be watched from outside (strace(1) on the manager)."""
    mended_by_machine: frozenset[str] | None
    """Verbs of acts that a machine carries out on such a host; others are for a person. None: all."""
    stand_in_reboots: bool
    """A reboot can be asked for by a machine: so far on the stand-in host only."""

    def path(self, path: str) -> str:
        """*path* in the one form that the family tells apart."""
        return path.replace("\\", "/").casefold() if self.letters_alike else path

    def word(self, systemd: str, control_manager: str) -> str:
        """The wording that fits the family."""
        return systemd if self.name == SYSTEMD.name else control_manager


SYSTEMD = Family(
    name="systemd",
    letters_alike=False,
    names_tell_kinds=True,
    foreign_formats=frozenset({"pe"}),
    loops_over="order",
    waits_by=("order",),
    waits_need=False,
    triggers_start_any=False,
    up_means_ready=False,
    has_delayed_group=False,
    start_seconds=90.0,
    limit_typed_in_milliseconds=False,
    limit_of_all_waits_for_boot=False,
    limits_hold=True,
    numbers_failures=False,
    has_failed_state=True,
    remembers_starts=True,
    locked_accounts_barred=False,
    kernel_processes=frozenset(),
    kept_ports_refused=False,
    rights_by_list=False,
    low_ports_need_right=True,
    named_paths_are_looked_at=True,
    defined_in_files=True,
    traced=True,
    mended_by_machine=None,
    stand_in_reboots=False,
)
CONTROL = Family(
    name="control-manager",
    letters_alike=True,
    names_tell_kinds=False,
    foreign_formats=frozenset({"elf"}),
    loops_over="hard",
    waits_by=("hard", "soft"),
    waits_need=True,
    triggers_start_any=True,
    up_means_ready=True,
    has_delayed_group=True,
    start_seconds=30.0,
    limit_typed_in_milliseconds=True,
    limit_of_all_waits_for_boot=True,
    limits_hold=False,
    numbers_failures=True,
    has_failed_state=False,
    remembers_starts=False,
    locked_accounts_barred=True,
    kernel_processes=frozenset({0, 4}),
    kept_ports_refused=True,
    rights_by_list=True,
    low_ports_need_right=False,
    named_paths_are_looked_at=False,
    defined_in_files=False,
    traced=False,
    mended_by_machine=frozenset(
        {"start", "stop", "restart", "continue", "pause", "startup", "limit", "wait", "recovery", "account", "reboot"}
    ),
    stand_in_reboots=True,
)
FAMILIES = {family.name: family for family in (SYSTEMD, CONTROL)}


def family_of(host: Host) -> Family:
    """The family of a host's manager."""
    return FAMILIES[host.manager]

"""What systemd lets a unit reach of the file system and of its account's rights: D-Bus properties into facts."""

from __future__ import annotations

from ipaddress import ip_address
from typing import Any

from hollow_chain.facts.service import Confinement

Properties = dict[str, Any]
_MOST_NETWORKS = 200
"""Networks of a list that are kept: a list of a whole country is longer, and no reason to read it all."""
_FOREVER = (1 << 64) - 1
"""How the manager says that there is no limit (``USEC_INFINITY``)."""

# systemd.exec(5), "ProtectSystem=" and "ProtectHome=".
_PROTECTED = {"yes": ["/usr", "/boot", "/efi"], "full": ["/usr", "/boot", "/efi", "/etc"], "strict": ["/"]}
_KERNEL_READ_ONLY = {
    "ProtectKernelTunables": ["/proc/sys", "/proc/sysrq-trigger", "/proc/irq", "/proc/fs", "/proc/acpi", "/sys"],
    "ProtectControlGroups": ["/sys/fs/cgroup"],
}
_KERNEL_HIDDEN = {
    "ProtectKernelModules": ["/lib/modules", "/usr/lib/modules"],
    "ProtectKernelLogs": ["/dev/kmsg", "/proc/kmsg"],
}
"""What single settings close of the kernel's own files (systemd.exec(5), "Sandboxing")."""
_HOMES = ["/home", "/root", "/run/user"]


_KEEP_FROM_CALLS = ("MemoryDenyWriteExecute", "RestrictRealtime", "RestrictSUIDSGID", "LockPersonality")
"""Settings that refuse single calls, whatever the account (systemd.exec(5), "Sandboxing")."""
_ALL_NAMESPACES = 0x7E020000
"""The flags of all kinds of name spaces (``CLONE_NEW*``, clone(2)), as the manager gives those that a unit may make."""


# capabilities(7), in the order of their numbers.
_RIGHTS = (
    "CHOWN", "DAC_OVERRIDE", "DAC_READ_SEARCH", "FOWNER", "FSETID", "KILL", "SETGID", "SETUID", "SETPCAP",
    "LINUX_IMMUTABLE", "NET_BIND_SERVICE", "NET_BROADCAST", "NET_ADMIN", "NET_RAW", "IPC_LOCK", "IPC_OWNER",
    "SYS_MODULE", "SYS_RAWIO", "SYS_CHROOT", "SYS_PTRACE", "SYS_PACCT", "SYS_ADMIN", "SYS_BOOT", "SYS_NICE",
    "SYS_RESOURCE", "SYS_TIME", "SYS_TTY_CONFIG", "MKNOD", "LEASE", "AUDIT_WRITE", "AUDIT_CONTROL", "SETFCAP",
    "MAC_OVERRIDE", "MAC_ADMIN", "SYSLOG", "WAKE_ALARM", "BLOCK_SUSPEND", "AUDIT_READ", "PERFMON", "BPF",
    "CHECKPOINT_RESTORE",
)  # fmt: skip
_ALL_RIGHTS = (1 << 32) - 1
"""A set that has all of these is not restricted: the first 32 rights are as old as the call, the number of later ones varies."""


def _rights(numbers: int) -> list[str]:
    return [f"CAP_{name}" for number, name in enumerate(_RIGHTS) if numbers >> number & 1]


def confinement_of(facts: Properties) -> Confinement | None:
    """What the manager keeps from a unit; None where it keeps nothing from it."""
    read_only = _PROTECTED.get(facts.get("ProtectSystem", ""), []) + [
        p.lstrip("-+") for p in facts.get("ReadOnlyPaths", ())
    ]
    hidden = [p.lstrip("-+") for p in facts.get("InaccessiblePaths", ())]
    hidden += [place for place, _ in facts.get("TemporaryFileSystem", ())]
    read_only = read_only + [place for name, places in _KERNEL_READ_ONLY.items() if facts.get(name) for place in places]
    hidden += [place for name, places in _KERNEL_HIDDEN.items() if facts.get(name) for place in places]
    not_run = [p.lstrip("-+") for p in facts.get("NoExecPaths", ())] or None
    calls_by, refused, error = _calls(facts)
    families = _families(facts)
    home = facts.get("ProtectHome", "no")
    if home in ("yes", "tmpfs"):
        hidden += _HOMES
    elif home == "read-only":
        read_only = read_only + _HOMES
    devices = bool(facts.get("PrivateDevices"))
    private_tmp, private_net = bool(facts.get("PrivateTmp")), bool(facts.get("PrivateNetwork"))
    capabilities = facts.get("CapabilityBoundingSet", _FOREVER)
    granted = facts.get("AmbientCapabilities", 0)
    restricted = capabilities & _ALL_RIGHTS != _ALL_RIGHTS
    writable = [path.lstrip("-+") for path in facts.get("ReadWritePaths", ())]
    no_calls, calls = _networks(facts.get("IPAddressDeny", ())), _networks(facts.get("IPAddressAllow", ()))
    keeps_from = [name for name in _KEEP_FROM_CALLS if facts.get(name)]
    if facts.get("RestrictNamespaces", _FOREVER) & _ALL_NAMESPACES != _ALL_NAMESPACES:
        keeps_from.append("RestrictNamespaces")
    closed = read_only or hidden or writable or not_run or no_calls or keeps_from
    if not (
        closed or private_tmp or private_net or devices or restricted or granted or calls_by or families is not None
    ):
        return None
    return Confinement(
        read_only=read_only,
        writable=writable,
        hidden=hidden,
        not_run=not_run,
        run=[p.lstrip("-+") for p in facts.get("ExecPaths", ())] or None if not_run else None,
        calls_by=calls_by,
        calls_refused=refused,
        calls_fail_with=error,
        families=families,
        keeps_from=keeps_from or None,
        private_tmp=private_tmp,
        private_network=private_net,
        private_devices=devices,
        no_calls_to=no_calls or None,
        calls_to=(calls or None) if no_calls else None,
        capabilities=_rights(capabilities) if restricted else None,
        granted=_rights(granted),
    )


def _networks(rows: Any) -> list[str]:
    """Address, length of the prefix: as the manager gives them (systemd.resource-control(5), "IPAddressAllow=")."""
    found = []
    for _, address, length in list(rows)[:_MOST_NETWORKS]:
        try:
            found.append(f"{ip_address(bytes(address))}/{int(length)}")
        except ValueError:
            continue
    return found


def _calls(facts: Properties) -> tuple[str, list[str] | None, int | None]:
    """The setting that filters the calls of a unit, those of listening that it refuses, and the error that a refused call gives
    (systemd.exec(5), "System Call Filtering"): none where such a call ends the process."""
    allows, names = facts.get("SystemCallFilter") or (False, ())
    if not allows and not names:
        return "", None, None
    # The manager gives the calls of a set one by one, each with its own error behind a colon.
    named = {str(name).partition(":")[0] for name in names}
    refused = [call for call in _OF_LISTENING if (call in named) is not bool(allows)]
    error = facts.get("SystemCallErrorNumber", 0)
    return "SystemCallFilter", refused, error if isinstance(error, int) and error > 0 else None


_OF_LISTENING = ("socket", "bind", "listen")
"""The calls without which a program cannot listen anywhere (socket(2), bind(2), listen(2))."""


def _families(facts: Properties) -> list[str] | None:
    """The kinds of sockets that a unit may or may not use (systemd.exec(5), "RestrictAddressFamilies=")."""
    allows, names = facts.get("RestrictAddressFamilies") or (False, ())
    if not allows and not names:
        return None
    return list(names) if allows else [f"-{name}" for name in names]

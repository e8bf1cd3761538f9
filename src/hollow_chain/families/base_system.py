"""What every host of a family stands on, and nobody asks about: slices, start-up targets, devices, file systems of the kernel."""

from __future__ import annotations

from hollow_chain.facts.service import Service

_KINDS = frozenset(("slice", "scope", "device", "swap"))
_TARGETS = frozenset(
    """
    basic bluetooth boot-complete cryptsetup cryptsetup-pre ctrl-alt-del default emergency exit factory-reset final first-boot-
    complete getty getty-pre graphical halt hibernate hybrid-sleep initrd integritysetup integritysetup-pre kexec local-fs local-fs-
    pre machines multi-user network network-online network-pre nss-lookup nss-user-lookup paths poweroff printer reboot remote-
    cryptsetup remote-fs remote-fs-pre remote-veritysetup rescue rpcbind runlevel2 runlevel3 runlevel4 runlevel5 shutdown sigpwr sleep
    slices smartcard sockets sound storage-target-mode suspend suspend-then-hibernate swap sysinit system-update system-update-pre
    time-set time-sync timers umount usb-gadget user-runtime-dir veritysetup veritysetup-pre
    """.split()  # noqa: SIM905 - a list of words is read as one
)
"""systemd.special(7), "Units managed by the system service manager"."""
_PLACES = frozenset(("", "proc", "sys", "dev", "run", "tmp", "boot", "efi", "usr"))
"""First parts of mount points that belong to the system itself (file-hierarchy(7)); what the kernel or the packages fill."""
_TEMPORARY = "var-tmp"
_OF_MANAGER = ("systemd-", "modprobe@", "getty@", "serial-getty@", "user@", "user-runtime-dir@")
"""How the names of services begin that the manager brings along itself (systemd(1), "See also")."""


def is_of_manager(name: str) -> bool:
    """Whether a service of that name comes with the manager, on every host."""
    return name.startswith(_OF_MANAGER)


def is_base(service: Service) -> bool:
    """Whether a unit belongs to the base system: every service of the host hangs on it, and none in particular."""
    return is_base_name(service.kind, service.name)


def is_base_name(kind: str, name: str) -> bool:
    """The same of a kind and a name."""
    if kind in _KINDS:
        return True
    stem, _, ending = name.rpartition(".")
    if ending == "target":
        return stem in _TARGETS
    return ending == "mount" and (stem.partition("-")[0] in _PLACES or stem == _TEMPORARY)

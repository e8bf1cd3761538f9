"""Mounted file systems and the room that is left on them."""

from __future__ import annotations

from hollow_chain.facts.host import Filesystem
from hollow_chain.sources.reading import HostReading


def add(reading: HostReading) -> None:
    """The file systems of disks, with the room that is left for other accounts than root (statvfs(3), ``f_bavail``)."""
    reading.host.filesystems = [
        Filesystem(
            mounted_on=one.mounted_on,
            kind=one.kind,
            size=one.size,
            free=one.free,
            inodes=one.inodes or None,
            inodes_free=one.inodes_free if one.inodes else None,
            read_only=one.read_only,
            no_exec=one.no_exec,
        )
        for one in reading.reached.volumes()
    ]

"""Mounted file systems, and how much room is left on them."""

from __future__ import annotations

import os

from hollow_chain.facts.host import Filesystem
from hollow_chain.reach.handles import NETWORK


def filesystems() -> list[Filesystem]:
    """The mounted file systems of disks, with their room. Those of other machines, which may never answer, are left out."""
    import psutil

    found = []
    try:
        parts = psutil.disk_partitions(all=True)
    except (psutil.Error, OSError):
        return []
    for part in [p for p in parts if p.fstype not in NETWORK and not p.fstype.startswith("fuse.")][:200]:
        try:
            about = os.statvfs(part.mountpoint)
        except OSError:
            continue
        if not about.f_blocks:
            continue  # of the kernel's own making: nothing is stored there
        found.append(
            Filesystem(
                mounted_on=part.mountpoint,
                kind=part.fstype,
                size=about.f_blocks * about.f_frsize,
                free=about.f_bavail * about.f_frsize,
                inodes=about.f_files,
                inodes_free=about.f_favail,
                read_only="ro" in part.opts.split(","),
            )
        )
    return found

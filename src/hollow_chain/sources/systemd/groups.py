"""Which unit a process belongs to."""

from __future__ import annotations

from hollow_chain.reach.interfaces import Processes

_SUFFIXES = (".service", ".socket", ".scope", ".mount", ".swap")
"""Kinds of units that have processes (systemd.unit(5))."""


def unit_of(process: int, processes: Processes) -> str:
    """The systemd unit that owns *process*, from its control group; empty where it has none or is gone."""
    return unit_in_cgroup(processes.group(process))


def unit_in_cgroup(text: str) -> str:
    """The unit that the text of a ``cgroup`` file in ``/proc`` names (cgroups(7)).

    The outermost unit counts: what a service makes below its own group is still the service.
    """
    for line in text.splitlines():
        _, controllers, path = (*line.split(":", 2), "", "")[:3]
        if controllers not in ("", "name=systemd"):
            continue
        for part in path.split("/"):
            if part.endswith(_SUFFIXES):
                return part
    return ""

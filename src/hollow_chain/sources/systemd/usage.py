"""What a service that runs takes of the host: its memory and tasks by its control group, the descriptors of its main process."""

from __future__ import annotations

from hollow_chain.facts.runs import Usage
from hollow_chain.facts.service import Service
from hollow_chain.lazy import pattern
from hollow_chain.reach.interfaces import Reached
from hollow_chain.sources.reading import HostReading

_GROUPS = "/sys/fs/cgroup"
"""Where the tree of control groups stands (cgroups(7), "Cgroups version 2")."""
_OPEN_FILES = pattern(r"(?m)^Max open files\s+(\d+|unlimited)\s")


def add(reading: HostReading) -> None:
    """Tell it of the chosen services."""
    for service in reading.host.services:
        if service.name in reading.chosen and service.program is not None and service.program.process:
            service.usage = _usage(service, service.program.process, reading.reached)


def _usage(service: Service, process: int, reached: Reached) -> Usage | None:
    line = next((one for one in reached.processes.group(process).splitlines() if one.startswith("0::/")), "")
    group = line.removeprefix("0::")
    own = f"{_GROUPS}{group}" if group.endswith(f"/{service.name}") else ""
    found = Usage(
        memory_bytes=_number(f"{own}/memory.current", reached) if own else None,
        tasks=_number(f"{own}/pids.current", reached) if own else None,
        open_files=_descriptors(process, reached),
        most_open_files=_most(process, reached),
    )
    return None if found == Usage() else found


def _number(path: str, reached: Reached) -> int | None:
    try:
        text = reached.files.text(path).strip()
    except OSError:
        return None
    return int(text) if text.isascii() and text.isdigit() and len(text) < 19 else None


def _descriptors(process: int, reached: Reached) -> int | None:
    return len(reached.files.names(f"/proc/{process}/fd")) or None


def _most(process: int, reached: Reached) -> int | None:
    try:
        found = _OPEN_FILES.search(reached.files.text(f"/proc/{process}/limits"))
    except OSError:
        return None
    return None if found is None else -1 if found[1] == "unlimited" else int(found[1])

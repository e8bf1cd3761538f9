"""Processes of this machine, through the kernel's own files (proc(5))."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from pathlib import Path

from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.interfaces import Running

_SHORT_NAME = 15
"""Characters of a process's name that the kernel keeps (``TASK_COMM_LEN``, proc_pid_comm(5))."""


def began(process: int) -> int:
    """When a process began, in ticks since boot (proc(5), field 22 of ``/proc/PID/stat``); 0 where there is none."""
    try:
        return int(Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[19])
    except (OSError, ValueError, IndexError):
        return 0


class LocalProcesses:
    """Processes of this machine (proc(5))."""

    def numbers(self) -> list[int]:
        """All that run now."""
        return [int(name) for name in os.listdir("/proc") if name.isdigit()]  # noqa: PTH208

    def group(self, process: int) -> str:
        """The text of its ``cgroup`` file."""
        try:
            return Path(f"/proc/{process}/cgroup").read_text()
        except OSError:
            return ""

    def program(self, process: int) -> str:
        """The path of its program, or its own name."""
        try:
            name = Path(f"/proc/{process}/comm").read_text().strip()
        except OSError:
            return ""
        try:
            path = Path(f"/proc/{process}/exe").readlink()
        except OSError:
            return name
        same = path.name.startswith(name[:_SHORT_NAME]) or name.startswith(path.name[:_SHORT_NAME])
        return str(path) if same else name

    def running(self, process: int) -> Running | None:
        """When it began, and with which arguments."""
        import psutil

        try:
            seen = psutil.Process(process)
            return Running(datetime.fromtimestamp(seen.create_time(), UTC), seen.cmdline())
        except (psutil.Error, OSError):
            return None

    def runs(self, process: int) -> bool:
        """Whether it runs."""
        return Path(f"/proc/{process}").exists()

    def open_files(self, process: int) -> set[str]:
        """The paths of the files that it has open."""
        return {str(link.readlink()) for link in Path(f"/proc/{process}/fd").iterdir()}

    def locks(self) -> FileLocks:
        """Who has which file locked."""
        try:
            return FileLocks(Path("/proc/locks").read_text(), Path("/proc/self/mountinfo").read_text(errors="replace"))
        except OSError:
            return FileLocks()

"""Services that count as up while their main process is stopped: by a signal (signal(7), ``SIGSTOP``), it does nothing until another."""

from __future__ import annotations

from hollow_chain.facts.service import Service
from hollow_chain.reach.interfaces import Files
from hollow_chain.sources.reading import HostReading

_STOPPED = "T"
"""Stopped on a signal (proc_pid_stat(5), field 3); ``t`` is one that a debugger looks at, and that goes on by itself."""


def add(reading: HostReading) -> None:
    """Call them paused."""
    files = reading.reached.files

    def mark(service: Service) -> None:
        process = service.program.process if service.program is not None and service.state == "running" else None
        if process and _is_stopped(process, files):
            service.state = "paused"
            service.detail += f", its main process {process} is stopped by a signal"

    reading.reached.each(mark, reading.host.services)


def _is_stopped(process: int, files: Files) -> bool:
    try:
        return files.text(f"/proc/{process}/stat").rpartition(")")[2].split()[0] == _STOPPED
    except (OSError, IndexError):
        return False

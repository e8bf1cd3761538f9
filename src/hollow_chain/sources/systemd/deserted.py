"""Services that count as up although no process of theirs is left, and whose start was to leave one behind.

Scripts of the older kind are run as services that stay up when all is over (systemd-sysv-generator(8)): the manager calls such a one
active, whatever became of the daemon that its script started.
"""

from __future__ import annotations

import re

from hollow_chain.facts.service import Service
from hollow_chain.lazy import pattern
from hollow_chain.reach.handles import NotOpened, Walker
from hollow_chain.sources.reading import HostReading

_EXITED = "active (exited)"
"""How the manager says that a service is up and that nothing of it runs."""
_STARTS_DAEMON = pattern(
    r"(?m)^[ \t]*DAEMON=[\"']?/|^[ \t]*daemon[ \t]|\bstart-stop-daemon\b|/run/[\w./-]{1,80}\.pid\b"
)
"""How a start script begins a daemon: by its name in a variable (init-d-script(5)), by the helpers that distributions ship for it
(start-stop-daemon(8)), or with a PID file."""
_SWITCHED_OFF = pattern(r"(?mi)^[ \t]*(?:START|ENABLE|RUN)\w*=[\"']?(?:no|false|off|0)\b")
"""A setting by which such a script leaves its daemon alone, rightly."""
_MOST = 100_000
"""Bytes of a script that are read: the longest of them have some twenty thousand."""


def add(reading: HostReading) -> None:
    """Mark them."""
    for service in reading.host.services:
        program = service.program
        if program is None or service.detail != _EXITED or program.style != "forking":
            continue
        program.deserted = bool(program.pid_file) or _was_to_leave_one(service, reading.walker)


def _was_to_leave_one(service: Service, walker: Walker) -> bool:
    script = service.definition.made_from if service.definition is not None else ""
    name = script.rpartition("/")[2]
    return (
        bool(name) and _has(walker, script, _STARTS_DAEMON) and not _has(walker, f"/etc/default/{name}", _SWITCHED_OFF)
    )


def _has(walker: Walker, path: str, form: re.Pattern[str]) -> bool:
    try:
        return form.search(walker.read(path, _MOST).data.decode("utf-8", "replace")) is not None
    except (NotOpened, OSError, ValueError):
        return False

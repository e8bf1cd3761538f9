"""Services that count as up although no process of theirs is left, and whose start was to leave one behind.

Scripts of the older kind are run as services that stay up when all is over (systemd-sysv-generator(8)): the manager calls such a one
active, whatever became of the daemon that its script started.
"""

from __future__ import annotations

import re
from datetime import timedelta

from hollow_chain.facts.service import Service
from hollow_chain.lazy import pattern
from hollow_chain.reach.handles import NotOpened, Walker
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording.forms import says

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

    def mark(service: Service) -> None:
        program = service.program
        if program is not None and service.detail == _EXITED and program.style == "forking":
            program.deserted = bool(program.pid_file) or _was_to_leave_one(service, reading.walker)

    reading.reached.each(mark, reading.host.services)


def settle(reading: HostReading) -> None:
    """Leave those alone that say nothing of any trouble: a script may have started nothing, rightly, for nothing is set up."""
    for service in reading.host.services:
        program, last = service.program, service.last
        if program is None or not program.deserted or program.pid_file:
            continue
        begun = last.started_at if last is not None else None
        own = [
            e
            for e in reading.host.events
            if e.service == service.name and not e.by_manager and (begun is None or e.at >= begun - _SECOND)
        ]
        program.deserted = any(e.level in _LEVELS or not says_nothing(e.text) for e in own)


def says_nothing(text: str) -> bool:
    """Whether a line tells of no trouble."""
    return not says(text, *_TROUBLE)


_TROUBLE = (
    "severe", "unopened", "missing", "denied", "in use", "no address", "read only", "too open", "busy", "locked", "library", "full",
    "rejected", "account unknown", "unreached", "ends", "crashed", "module missing",
)  # fmt: skip
_LEVELS = ("emergency", "alert", "critical", "error")
_SECOND = timedelta(seconds=1)
"""Logs of programs tell whole seconds."""


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

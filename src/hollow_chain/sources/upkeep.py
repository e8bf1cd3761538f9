"""What was done to this machine: records of its package managers, and whether it waits for a reboot."""

from __future__ import annotations

from datetime import datetime, timedelta

from hollow_chain.facts.host import Event, Host
from hollow_chain.facts.service import Service
from hollow_chain.reach.handles import Walker
from hollow_chain.reach.interfaces import Reached
from hollow_chain.sources.logs import moment_of
from hollow_chain.sources.package_logs import LOGS, root_tail
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording.secrets import mask_text

_AROUND = timedelta(minutes=10)
_MOST = 20
"""What is read of a log of packages: records within ten minutes of a stop (a large update takes that long), the last of them."""
_ASKED_FOR = "/run/reboot-required"
_MODULES = "/lib/modules"


def add(reading: HostReading) -> None:
    """Records of maintenance around the moments at which services were stopped, and whether a reboot is due."""
    reading.reached.files.expect(
        [*(log.path for log in LOGS), _ASKED_FOR, f"{_MODULES}/{reading.reached.kernel}"], [_MODULES]
    )
    add_records(reading.host, reading.walker)
    reading.host.reboot_due = reboot_due(reading.host.container, reading.reached, reading.walker)


def add_records(host: Host, walker: Walker) -> None:
    """What the package managers wrote around the moment at which a service that should run was stopped."""
    moments = [at for at in map(_stopped_at, host.services) if at is not None]
    if not moments:
        return
    for path in (log.path for log in LOGS):
        found: list[Event] = []
        for line in root_tail(path, walker):
            at = moment_of(line)
            if at is not None and any(abs(at - moment) < _AROUND for moment in moments):
                found.append(
                    Event(at=at, text=mask_text(line[:300]), source=f"log file {path}", level="info", trust="trusted")
                )
        host.events += found[-_MOST:]


def _stopped_at(service: Service) -> datetime | None:
    """When a service that is set to start at boot ceased to be up; None where it runs or never was."""
    last = service.last
    if service.kind != "service" or service.state not in ("stopped", "failed") or last is None:
        return None
    return (last.left_up_at or last.ended_at) if service.startup in ("automatic", "delayed") else None


def reboot_due(container: bool, reached: Reached, walker: Walker) -> str:
    """Why this machine waits for a reboot; empty where it does not, as far as can be seen."""
    files = reached.files
    if files.exists(_ASKED_FOR):
        names = " ".join(root_tail(f"{_ASKED_FOR}.pkgs", walker)).split()
        return f"asked for by {', '.join(dict.fromkeys(names[:5]))}" if names else "asked for by an update"
    running = reached.kernel
    if not container and files.names(_MODULES) and not files.exists(f"{_MODULES}/{running}"):
        return f"the modules of the running kernel {running} are gone, a newer one is installed"
    return ""

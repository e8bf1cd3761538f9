"""This machine as far as a license file concerns it: name and adapters, and for a check also ports and programs."""

from __future__ import annotations

import os
import socket
from pathlib import Path

from hollow_chain.facts.host import Host, HostLimits


def this_machine() -> Host:
    """Name and adapters of this machine; nothing else of it is read."""
    from hollow_chain.sources.processes import adapters

    found = [a for a in adapters() if a.hardware_address.replace(":", "").replace("-", "").strip("0")]
    return Host(name=socket.gethostname() or "this-host", adapters=found)


def machine_for(path: Path) -> Host:
    """This machine with its sockets, kept ports, and the programs that the license file at *path* names.

    Sockets of a license server that serves already are left out: they are where they should be.
    """
    from hollow_chain.sources.licenses import read_file
    from hollow_chain.sources.looks import Looker
    from hollow_chain.sources.processes import listeners

    host = this_machine()
    host.limits = HostLimits(reserved_ports=_kept_ports())
    named = read_file(os.path.realpath(path))  # whoever calls has named it: his links are meant
    wanted = {named.port, *(daemon.port for daemon in named.daemons)}
    sockets, _ = listeners()
    serving = _served_ports(named.port or 0) if any(s.port == named.port for s in sockets) else set()
    host.listeners = [s for s in sockets if s.port in wanted and s.port not in serving]
    looker = Looker()
    for daemon in named.daemons:
        looker.look(daemon.program, is_program=True)
    host.files = list(looker.seen.values())
    return host


def _kept_ports() -> list[str]:
    """Ports that the administrator keeps from being given out (ip-sysctl, ``ip_local_reserved_ports``)."""
    try:
        text = Path("/proc/sys/net/ipv4/ip_local_reserved_ports").read_text()
    except OSError:
        return []
    return [part for part in text.strip().split(",") if part]


def _served_ports(port: int) -> set[int]:
    """The ports of the license server that answers on *port*; empty where none does."""
    from hollow_chain.license import asking

    try:
        told = asking.ask("127.0.0.1", port, 1.0)
    except asking.NoAnswer:
        return set()
    return {port, *(d["port"] for d in told.daemons if isinstance(d.get("port"), int))}

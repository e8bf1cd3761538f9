"""This machine as far as a license file concerns it: name and adapters, and for a check also ports and programs."""

from __future__ import annotations

import os
import socket
from functools import partial
from pathlib import Path

from hollow_chain.facts.host import Host, HostLimits
from hollow_chain.reach.interfaces import Files


def this_machine() -> Host:
    """Name and adapters of this machine; nothing else of it is read."""
    from hollow_chain.reach.here import here
    from hollow_chain.sources.sockets import adapters

    found = [a for a in adapters(here().network) if a.hardware_address.replace(":", "").replace("-", "").strip("0")]
    return Host(name=socket.gethostname() or "this-host", adapters=found)


def machine_for(path: Path) -> Host:
    """This machine with its sockets, kept ports, and the programs that the license file at *path* names.

    Sockets of a license server that serves already are left out: they are where they should be.
    """
    from hollow_chain.reach.here import here
    from hollow_chain.sources.licenses import any_file, read_file
    from hollow_chain.sources.looks import Looker
    from hollow_chain.sources.sockets import listeners
    from hollow_chain.sources.systemd.groups import unit_of

    host, reached = this_machine(), here()
    walker = reached.files.walker()
    host.limits = HostLimits(reserved_ports=_kept_ports(reached.files))
    # Whoever calls has named it: his links are meant.
    named = read_file(os.path.realpath(path), partial(any_file, walker), walker)
    wanted = {named.port, *(daemon.port for daemon in named.daemons)}
    sockets, _ = listeners(reached, lambda process: unit_of(process, reached.processes))
    serving = _served_ports(named.port or 0) if any(s.port == named.port for s in sockets) else set()
    host.listeners = [s for s in sockets if s.port in wanted and s.port not in serving]
    looker = Looker(reached)
    for daemon in named.daemons:
        looker.look(daemon.program, is_program=True)
    host.files = list(looker.seen.values())
    return host


def _kept_ports(files: Files) -> list[str]:
    """Ports that the administrator keeps from being given out (ip-sysctl, ``ip_local_reserved_ports``)."""
    try:
        text = files.text("/proc/sys/net/ipv4/ip_local_reserved_ports")
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

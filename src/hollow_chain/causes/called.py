"""Sockets in the file system that a service called and that nobody answers behind, and who is to answer there (unix(7))."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.causes.case import Case, Facts
from hollow_chain.causes.standing import Standing
from hollow_chain.causes.words import came_to_nothing
from hollow_chain.chain.graph import Node
from hollow_chain.facts.habits import names_of, own_names_of
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Service
from hollow_chain.wording import lines

_MOST = 8
"""Sockets that are followed up, those called last: each is held against all services, and a log may be full of them."""


class CalledSocket(NamedTuple):
    """One of them."""

    path: str
    event: Event
    """The words that say so."""
    server: Node | None
    """Who is to answer there, where exactly one service is known that could."""


def called_sockets(case: Case) -> list[CalledSocket]:
    """Those that the last failed try called, as far as they were looked at and nobody waits there."""
    about = "called", case.node.key
    known = case.facts.memory.get(about)
    if known is None:
        known = case.facts.memory[about] = list(_called(case))
    return known  # type: ignore[return-value]


def _called(case: Case) -> Iterator[CalledSocket]:
    if not case.registered or not came_to_nothing(case) or case.standing.well:
        return
    last = {path: event for event, path in lines.called_sockets(case.own_events())}
    for path, event in list(last.items())[-_MOST:]:
        file = case.file(path)
        is_deserted = file is not None and (not file.exists or (file.kind == "socket" and file.process_runs is False))
        if is_deserted and not _closeness(case.service, path):
            yield CalledSocket(path, event, _server(case.facts, case.node, path))


def _server(facts: Facts, caller: Node, path: str) -> Node | None:
    """Of the services that the path speaks for most, the one that is down, or the only one."""
    host = facts.graph.hosts[caller.host]
    close = {s.name: _closeness(s, path) for s in host.services if not s.template and s.kind in ("service", "socket")}
    most = max(close.values(), default=0)
    nodes = [facts.graph.node(host.name, name) for name, how in close.items() if how == most and most]
    down = [node for node in nodes if facts.standing(node) is not Standing.UP]
    chosen = down or nodes
    return chosen[0] if len(chosen) == 1 else None


_DECLARED, _BY_FILE, _OWN_FOLDER, _BY_FOLDER, _BY_ACCOUNT = 5, 4, 3, 2, 1
"""How strongly a path speaks for a service, by order alone: a definition is sure, and an account is often that of several services."""


def _closeness(service: Service, path: str) -> int:
    """How strongly a socket's path speaks for *service*: its definition names it, the file or its folder bears the service's name, or
    the folder is the service's own; 0 where nothing does."""
    path = _plain(path)
    folder, _, file = path.rpartition("/")
    within = folder.split("/")[2:]  # below /run, /tmp, /srv, ...: there a folder is somebody's
    if service.kind == "socket":  # one that nobody starts leaves it to its service to listen
        is_used = service.state != "stopped" or service.startup in ("automatic", "disabled")
        return _DECLARED if is_used and path in map(_plain, service.listens_at) else 0
    own = own_names_of(service)
    if file.removeprefix(".").rpartition(".")[0] in own or file in own:
        return _BY_FILE
    if service.program is not None and any(_plain(one) == folder for one in service.program.own_folders):
        return _OWN_FOLDER
    if any(name in within for name in own):
        return _BY_FOLDER
    return _BY_ACCOUNT if any(name in within for name in names_of(service)) else 0


def _plain(path: str) -> str:
    """A path as it is, where ``/var/run`` is a link to ``/run`` (hier(7))."""
    return path.removeprefix("/var") if path.startswith("/var/run/") else path

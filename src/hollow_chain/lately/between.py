"""What differs between two readings: one host then and now, or a sick one and its twin that is well.

Told is what somebody could have set: no moments, numbers of processes or counts, which differ between any two readings. What only one
of the readings looked at is no difference.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple, TypeVar

from hollow_chain.causes import Facts
from hollow_chain.chain import Node
from hollow_chain.chain.graph import reach
from hollow_chain.facts.host import File, Filesystem, Host, HostAccount
from hollow_chain.facts.service import Limits, Service
from hollow_chain.families.base_system import is_base
from hollow_chain.wording.counts import size

_Thing = TypeVar("_Thing")
_ABSENT = "not there"
FAR = 1_000
"""How far from a service that is not well a difference is that has no link to any."""


class Divergence(NamedTuple):
    """One thing that is not as it was, or not as it is there."""

    service: str
    """Empty: the host as a whole."""
    about: str
    """What of it: ``startup type``, ``account``, ``mode of /etc/x.conf``, ..."""
    before: str
    after: str
    near: int = FAR
    """How many links lie between it and the nearest service that is not well in the later reading; 0: it is one of these."""


def differences(old: Host, facts: Facts, new: Host) -> list[Divergence]:
    """What differs between *old* and *new*, which is of *facts*: what is nearest to what is not well first."""
    near = _nearness(facts, new)
    then = {service.name: service for service in old.services if not service.template}
    now = {service.name: service for service in new.services if not service.template}
    found = [_there(name, then.get(name), now.get(name)) for name in sorted(then.keys() ^ now.keys())]
    for name in sorted(then.keys() & now.keys()):
        # Of what cannot be loaded at one of the moments nothing but that is known.
        same = _loaded(then[name]) == _loaded(now[name])
        found += _apart(name, then[name], now[name], _OF_SERVICE if same else _OF_SERVICE[:_OF_UNLOADED])
    found += _of_files(old, new)
    found += _apart("", old, new, _OF_HOST)
    for kind, of, facets in _PARTS:
        found += _keyed(kind, of(old), of(new), facets)
    found += _apart("", _listeners(old), _listeners(new), [(key, _at(key)) for key in _contested(old, new)])
    placed = [one._replace(near=near.get(one.service, FAR)) for one in found]
    # Start-up targets and the like only mirror what was changed elsewhere.
    base = {service.name for host in (old, new) for service in host.services if is_base(service)}
    placed = [one for one in placed if one.near == 0 or one.service not in base]
    return sorted(placed, key=lambda one: (one.near, not one.service, one.service))


def _nearness(facts: Facts, host: Host) -> dict[str, int]:
    """How many links below a service that is not well each one is."""
    found: dict[str, int] = {}
    for service in host.services:
        node = Node(host.name, service.name, service)
        if not facts.standing(node).well:
            found[service.name] = 0
            for below, depth in reach(node, lambda one: [edge.head for edge in facts.graph.needs(one)]):
                if below.host == host.name:
                    found[below.name] = min(depth, found.get(below.name, FAR))
    return found


def _there(name: str, old: Service | None, new: Service | None) -> Divergence:
    before, after = (f"{one.state}, {one.startup}" if one is not None else _ABSENT for one in (old, new))
    return Divergence(name, "the service itself", before, after)


_Facets = Iterable[tuple[str, Callable[[_Thing], str | None]]]


def _apart(service: str, old: _Thing, new: _Thing, facets: _Facets[_Thing]) -> Iterator[Divergence]:
    for about, text in facets:
        before, after = text(old), text(new)
        if before is not None and after is not None and before != after:
            yield Divergence(service, about, *_what_differs(before, after))


def _what_differs(before: str, after: str) -> tuple[str, str]:
    """Of lists only what the other one lacks."""
    old, new = (dict.fromkeys(text.split(", ")) for text in (before, after))
    if not old.keys() & new.keys():
        return before, after
    return ", ".join(one for one in old if one not in new), ", ".join(one for one in new if one not in old)


def _keyed(kind: str, old: dict[str, _Thing], new: dict[str, _Thing], facets: _Facets[_Thing]) -> Iterator[Divergence]:
    for key in sorted(old.keys() & new.keys()):
        for one in _apart("", old[key], new[key], facets):
            yield one._replace(about=f"{one.about} of {kind} {key}")


def _limit(name: str) -> Callable[[Service], str]:
    def text(service: Service) -> str:
        value = getattr(service.limits or Limits(), name)
        return (
            "" if value is None else "none" if value == -1 else f"{value:g}" if isinstance(value, float) else f"{value}"
        )

    return text


def _loaded(service: Service) -> str:
    return service.definition.load if service.definition else ""


def _unmet(service: Service) -> str | None:
    """The conditions that do not hold; None where they were not tested."""
    if any(one.outcome == "untested" for one in service.conditions):
        return None
    return _list(f"{one.kind}={one.parameter}" for one in service.conditions if one.outcome == "unmet")


def _links(kind: str) -> Callable[[Service], str]:
    return lambda service: _list(link.to for link in service.links if link.kind == kind)


def _list(words: Iterable[str]) -> str:
    return ", ".join(sorted(set(words)))


def _settings(service: Service) -> str:
    return " ".join(service.program.arguments[1:]) if service.program is not None else ""


def _result(service: Service) -> str:
    last = service.last
    if last is None or service.state not in ("failed", "stopped"):
        return ""
    number = last.exit_status if last.exit_status is not None else last.error_number
    return f"{last.result}{f', {number}' if number else ''}"


def _confined(service: Service) -> str:
    held = service.confinement
    if held is None:
        return ""
    parts = {
        "read only": held.read_only,
        "hidden": held.hidden,
        "rights": held.capabilities or (),
        "sockets": held.families or (),
        "not run": held.not_run or (),
    }
    return "; ".join(f"{name} {_list(words)}" for name, words in parts.items() if words)


_OF_UNLOADED = 5
"""Facets, from the first, that tell something of a definition that cannot be loaded."""
_OF_SERVICE: list[tuple[str, Callable[[Service], str | None]]] = [
    ("state", lambda s: s.state),
    ("last result", _result),
    ("startup type", lambda s: s.startup),
    ("definition", _loaded),
    ("definition files", lambda s: _list([s.definition.file, *s.definition.drop_ins]) if s.definition else ""),
    ("program", lambda s: s.program.path if s.program else ""),
    ("arguments", _settings),
    ("working folder", lambda s: s.program.folder if s.program else ""),
    ("environment", lambda s: _list(s.program.environment) if s.program else ""),
    ("account", lambda s: s.account.user if s.account else ""),
    ("group", lambda s: s.account.group if s.account else ""),
    ("needs", _links("hard")),
    ("starts along", _links("soft")),
    ("starts after", _links("order")),
    ("cannot run beside", _links("clash")),
    ("started by", lambda s: _list(t.name or t.kind for t in s.triggers)),
    ("conditions", lambda s: _list(f"{c.kind}={c.parameter}" for c in s.conditions)),
    ("conditions that do not hold", _unmet),
    ("ports claimed", lambda s: _list(f"{c.address}:{c.port}/{c.protocol}" for c in s.claims)),
    ("start limit, s", _limit("start_seconds")),
    ("stop limit, s", _limit("stop_seconds")),
    ("restart", _limit("restart")),
    ("starts allowed", _limit("rate_count")),
    ("memory limit, bytes", _limit("memory_bytes")),
    ("lowered limits", lambda s: _list(f"{k}={v}" for k, v in ((s.limits and s.limits.lowered) or {}).items())),
    ("confinement", _confined),
]


def _firewall(host: Host) -> str:
    return "; ".join(
        f"{wall.name}: {'passes' if wall.passes_by_default else 'drops'} by default, {len(wall.rules)} rules"
        for wall in host.firewalls
    )


_OF_HOST: list[tuple[str, Callable[[Host], str]]] = [
    ("system", lambda h: h.system),
    ("architecture", lambda h: h.architecture),
    ("cores", lambda h: str(h.cores or "")),
    ("memory", lambda h: size(h.memory_bytes) if h.memory_bytes else ""),
    ("start-up target", lambda h: h.default_target),
    ("reboot due", lambda h: h.reboot_due),
    ("addresses", lambda h: _list(h.addresses)),
    ("start limit of all services, s", lambda h: f"{h.limits.start_seconds or ''}" if h.limits else ""),
    ("first port for any account", lambda h: f"{h.limits.unprivileged_port or ''}" if h.limits else ""),
    ("reserved ports", lambda h: _list(h.limits.reserved_ports) if h.limits else ""),
    ("firewall", _firewall),
]
_OF_ACCOUNT: list[tuple[str, Callable[[HostAccount], str]]] = [
    ("presence", lambda a: "there" if a.exists else _ABSENT),
    ("groups", lambda a: _list(a.groups)),
    ("lock", lambda a: "" if a.locked is None else "locked" if a.locked else "not locked"),
    ("expiry", lambda a: f"{a.expires_at:%Y-%m-%d}" if a.expires_at else ""),
]
_OF_FILESYSTEM: list[tuple[str, Callable[[Filesystem], str]]] = [
    ("kind", lambda f: f.kind),
    ("size", lambda f: size(f.size) if f.size else ""),
    ("writing", lambda f: "read only" if f.read_only else "allowed"),
    ("running programs", lambda f: "refused" if f.no_exec else "allowed"),
    ("room", lambda f: "full" if f.free == 0 or f.inodes_free == 0 else ""),
]
_PARTS: list[tuple[str, Callable[[Host], dict[str, object]], list[tuple[str, Callable[[object], str]]]]] = [
    ("account", lambda h: {f"{a.name} ({a.kind})": a for a in h.accounts}, _OF_ACCOUNT),  # type: ignore[list-item]
    ("file system", lambda h: {f.mounted_on: f for f in h.filesystems}, _OF_FILESYSTEM),  # type: ignore[list-item]
]


def _of_files(old: Host, new: Host) -> Iterator[Divergence]:
    """What differs in files that both readings looked at; the content of one and the same host's by its time and size."""
    owners = _owners(new)
    then, now = ({file.path: file for file in host.files} for host in (old, new))
    same_host = old.name == new.name
    for path in sorted(then.keys() & now.keys()):
        for one in _apart(owners.get(path, ""), then[path], now[path], _OF_FILE):
            yield one._replace(about=f"{one.about} of {path}")
        before, after = then[path], now[path]
        if before.exists and after.exists and before.kind == after.kind == "file" and _is_set(path):
            sizes = before.size != after.size
            if sizes or (same_host and before.changed_at != after.changed_at):
                about = f"content of {path}"
                yield Divergence(owners.get(path, ""), about, _content(before, sizes), _content(after, sizes))


def _content(file: File, sizes: bool) -> str:
    written = f"written {file.changed_at:%Y-%m-%d %H:%M:%SZ}" if file.changed_at is not None else ""
    return (
        ", ".join(one for one in (size(file.size) if sizes and file.size is not None else "", written) if one)
        or "unknown"
    )


def _is_set(path: str) -> bool:
    """Whether it is nothing that a service writes to as it runs."""
    return not path.startswith(("/var/", "/run/", "/tmp/", "/proc/", "/dev/", "/sys/")) and ".log" not in path


def _owners(host: Host) -> dict[str, str]:
    found: dict[str, str] = {}
    for service in host.services:
        program = service.program
        for path in (program.path, *program.paths, *program.environment_files, program.folder) if program else ():
            found.setdefault(path, service.name)
    return found


_OF_FILE: list[tuple[str, Callable[[File], str | None]]] = [
    ("presence", lambda f: f.kind if f.exists else _ABSENT),
    ("owner", lambda f: f.owner if f.exists else ""),
    ("group", lambda f: f.group if f.exists else ""),
    ("mode", lambda f: f.mode if f.exists else ""),
    ("access list", lambda f: _list(f.acl)),
    ("target", lambda f: f.link_to),
    ("format", lambda f: f.format or None),
]
_Listeners = dict[str, str]


def _listeners(host: Host) -> _Listeners:
    return {
        f"{one.protocol} port {one.port}": one.service
        or one.program.replace("\\", "/").rpartition("/")[2]
        or "somebody"
        for one in host.listeners
        if one.port < _PASSING
    }


_PASSING = 32768
"""From here on ports are given out as they come (ip(7), ``ip_local_port_range``)."""


def _contested(old: Host, new: Host) -> list[str]:
    if not (old.sockets_read and new.sockets_read):
        return []
    return sorted(_listeners(old).keys() | _listeners(new).keys())


def _at(key: str) -> Callable[[_Listeners], str]:
    return lambda held: held.get(key, "nobody")

"""What differs between two readings: one host then and now, or a sick one and its twin that is well.

Told is what somebody could have set: no moments, numbers of processes or counts, which differ between any two readings. What only one
of the readings looked at is no difference.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any, NamedTuple, TypeVar

from hollow_chain.causes import Facts
from hollow_chain.chain import Node
from hollow_chain.chain.graph import reach
from hollow_chain.facts.habits import NOT_LOADED
from hollow_chain.facts.host import File, Filesystem, Host, HostAccount
from hollow_chain.facts.service import Service
from hollow_chain.families.base_system import is_base
from hollow_chain.lately.facets import Facet, facets_of
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
    stands: bool = False
    """Whether it tells how it stands, which follows from other differences."""
    field: str = ""
    """The field of the service or host that it is of (``startup``, ``account.user``, ``packages``); empty: of a thing on the host."""
    thing: str = ""
    """The one of several that it is of: a package."""
    near: int = FAR
    """How many links lie between it and the nearest service that is not well in the later reading; 0: it is one of these."""


def differences(old: Host, facts: Facts, new: Host) -> list[Divergence]:
    """What differs between *old* and *new*, which is of *facts*: what is nearest to what is not well first."""
    near = _nearness(facts, new)
    then = {service.name: service for service in old.services if not service.template}
    now = {service.name: service for service in new.services if not service.template}
    found = [_there(name, then.get(name), now.get(name)) for name in sorted(then.keys() ^ now.keys())]
    for name in sorted(then.keys() & now.keys()):
        # Of what cannot be, or was not, loaded at one of the moments little is known.
        same = _loaded(then[name]) == _loaded(now[name])
        facets = facets_of(Service)
        found += _apart(name, then[name], now[name], facets if same else [f for f in facets if f.field in _OF_UNLOADED])
    found += _of_files(old, new)
    found += _of_packages(old, new)
    found += _apart("", old, new, [*_host_facets(), *_OF_HOST])
    for kind, of, facets_of_part in _PARTS:
        found += _keyed(kind, of(old), of(new), facets_of_part())
    found += _apart("", _listeners(old), _listeners(new), [Facet(key, _at(key)) for key in _contested(old, new)])
    placed = [one._replace(near=near.get(one.service, FAR)) for one in found]
    # Start-up targets and the like only mirror what was changed elsewhere.
    base = {service.name for host in (old, new) for service in host.services if is_base(service)}
    placed = [one for one in placed if one.near == 0 or one.service not in base]
    return sorted(placed, key=lambda one: (one.near, not one.service, one.service))


def _host_facets() -> list[Facet]:
    return [one for one in facets_of(Host) if one.field not in _KEYED]


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


def _apart(service: str, old: _Thing, new: _Thing, facets: Iterable[Facet]) -> Iterator[Divergence]:
    for facet in facets:
        before, after = facet.text(old), facet.text(new)
        if before is not None and after is not None and before != after:
            yield Divergence(service, facet.about, *_what_differs(before, after), facet.stands, facet.field)


def _what_differs(before: str, after: str) -> tuple[str, str]:
    """Of lists only what the other one lacks."""
    old, new = (dict.fromkeys(text.split(", ")) for text in (before, after))
    if not old.keys() & new.keys():
        return before, after
    return ", ".join(one for one in old if one not in new), ", ".join(one for one in new if one not in old)


def _keyed(kind: str, old: dict[str, Any], new: dict[str, Any], facets: Iterable[Facet]) -> Iterator[Divergence]:
    for key in sorted(old.keys() & new.keys()):
        for one in _apart("", old[key], new[key], facets):
            yield one._replace(about=f"{one.about} of {kind} {key}")


def _loaded(service: Service) -> tuple[str, bool]:
    """How its definition was loaded, and whether it was at all: of one that is known from its file alone much is not told."""
    return service.definition.load if service.definition else "", service.detail == NOT_LOADED


_OF_UNLOADED = ("state", "startup", "definition.load", "definition.file")
"""Facets that tell something of a definition that is not loaded."""
_OF_ANY_HOST = 1.0
"""Seconds by which a clock is off that is told."""


def _clock(host: Host) -> str | None:
    offset = host.clock_offset
    return None if offset is None else "right" if abs(offset) <= _OF_ANY_HOST else f"off by {offset:.0f} s"


_OF_HOST = [Facet("clock", _clock)]
"""What is measured of a host, and told where it is out of bounds."""
_KEYED = ("services", "files", "packages", "accounts", "filesystems", "listeners")
"""Lists of a host that are compared thing by thing."""


_OF_FILESYSTEM = [
    Facet("room", lambda one: "full" if one.free == 0 or one.inodes_free == 0 else "", True),
    Facet("size", lambda one: size(one.size) if one.size else None),
]
_PARTS: list[tuple[str, Callable[[Host], dict[str, Any]], Callable[[], Iterable[Facet]]]] = [
    (
        "account",
        lambda host: {f"{one.name} ({one.kind})": one for one in host.accounts},
        lambda: facets_of(HostAccount),
    ),
    (
        "file system",
        lambda host: {one.mounted_on: one for one in host.filesystems},
        lambda: [*(one for one in facets_of(Filesystem) if one.field != "size"), *_OF_FILESYSTEM],
    ),
]


def _of_packages(old: Host, new: Host) -> Iterator[Divergence]:
    """What is installed in another version, or at one of the two only."""
    if not old.packages or not new.packages:
        return
    then, now = ({one.name: one.version for one in host.packages} for host in (old, new))
    for name in sorted(then.keys() | now.keys()):
        before, after = then.get(name, _ABSENT), now.get(name, _ABSENT)
        if before != after:
            yield Divergence("", f"package {name}", before, after, field="packages", thing=name)


def _of_files(old: Host, new: Host) -> Iterator[Divergence]:
    """What differs in files that both readings looked at; the content of one and the same host's by its time and size."""
    owners = _owners(new)
    then, now = ({file.path: file for file in host.files} for host in (old, new))
    same_host = old.name == new.name
    for path in sorted(then.keys() & now.keys()):
        before, after = then[path], now[path]
        facets = _facets_of_file() if before.exists and after.exists else _facets_of_file()[:1]
        for one in _apart(owners.get(path, ""), before, after, facets):
            yield one._replace(about=f"{one.about} of {path}")
        if before.exists and after.exists and before.kind == after.kind == "file" and _is_set(path):
            sizes = before.size != after.size
            if _has_another_text(before, after, same_host):
                about = f"content of {path}"
                yield Divergence(owners.get(path, ""), about, _content(before, sizes), _content(after, sizes))


def _has_another_text(before: File, after: File, same_host: bool) -> bool:
    """By their digests, where both are known; else by size and, on one host, by when it was written."""
    if before.digest and after.digest:
        return before.digest != after.digest
    return before.size != after.size or (same_host and before.changed_at != after.changed_at)


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


def _facets_of_file() -> list[Facet]:
    return [
        Facet("presence", lambda one: one.kind if one.exists else _ABSENT),
        Facet("target", lambda one: one.link_to),
        Facet("format", lambda one: one.format or None),
        *(one for one in facets_of(File) if one.field not in ("path", "exists", "kind", "link_to")),
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

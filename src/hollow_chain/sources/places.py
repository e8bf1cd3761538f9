"""Where facts come from, as ``--from`` names it: resolved here and nowhere else."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from hollow_chain.lazy import pattern
from hollow_chain.trouble import CALL_IS_WRONG, FACTS_UNREADABLE, Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.facts.host import Host, Snapshot, UnreachedHost
    from hollow_chain.reach.address import Address
    from hollow_chain.reach.far import FarWay
    from hollow_chain.reach.login import AskedFor
    from hollow_chain.sources.asked import Asked
    from hollow_chain.sources.hosts_file import HostsFile
    from hollow_chain.sources.many import Came, Told

_SCHEME = pattern(r"^([A-Za-z][A-Za-z0-9+.\-]{1,30})://")
"""How an address of something that is no file begins (RFC 3986, 3.1); one letter alone is a drive."""
FORMS = (
    "a snapshot file or a folder of them, a store of readings, - (a snapshot on standard input), ssh://[user@]host[:port], rpc://[user@]host,"
    " or a file of hosts (.toml)"
)
STANDARD_INPUT = "-"
AS_IT_IS = "the host as it is now"
"""What counts as unread of a host whose snapshot was taken in the place of itself."""


class Asking(NamedTuple):
    """How several hosts are asked."""

    most: int = 8
    """So many at once."""
    seconds: float = 60.0
    """For each of them."""
    told: Told = lambda well, lost, awaited: None
    ways: dict[str, FarWay] | None = None
    """Where given, is told by which way each host over the network was read."""
    ask: AskedFor | None = None
    """Asks somebody for the passwords that hosts over RPC take."""
    kept: dict[str, Snapshot] | None = None
    """Where given, is told what was read of each far source."""
    only: FarWay | None = None
    """Where given, only the host at its end is read; of the others counts what was :attr:`kept`."""
    groups: dict[str, list[str]] | None = None
    """Where given, is told the groups that files of hosts give to each host."""
    in_part: bool = True
    """Whether somebody who will not wait any longer gets what is there by then; else the reading is interrupted."""


class _Source(NamedTuple):
    """One thing that facts come from."""

    name: str
    read: Callable[[], Snapshot]
    is_far: bool
    """Whether it takes its time, and may fail by itself without spoiling the others."""
    address: str = ""
    """How a far host is called where it is reached."""
    way: FarWay | None = None
    renamed: bool = False
    """Whether the host bears :attr:`name` and no other in the facts."""


def is_live(named: Sequence[str] | None) -> bool:
    """Whether this machine is read now, which takes its time."""
    return not named


def facts_from(named: Sequence[str] | None, asked: Asked, written_by: str, asking: Asking | None = None) -> Snapshot:
    """The facts that *named* means, one thing or several together; of this machine, now, where nothing is named.

    Raises :class:`~hollow_chain.trouble.Trouble`: 2 where one is none of the forms, 3 where nothing can be read.
    """
    if not named:
        return _here(asked, written_by)
    if named.count(STANDARD_INPUT) > 1:
        raise wrong_call("--from - reads standard input, which can be read only once")
    listed: dict[Path, HostsFile] = {}
    asking = asking or Asking()
    sources = [source for one in named for source in _sources(one, asked, written_by, listed, asking.ask)]
    whole = _together(sources, asking)
    for path, hosts in listed.items():
        _declare(whole, hosts, path)
        if asking.groups is not None:
            asking.groups.update({name: host.groups for name, host in hosts.hosts.items() if host.groups})
    return whole


def _here(asked: Asked, written_by: str) -> Snapshot:
    from hollow_chain.reach.here import here
    from hollow_chain.sources.readers import readers_of
    from hollow_chain.sources.reading import read

    reached = here()
    return read(reached, readers_of(reached.family), asked, written_by)


def _sources(
    named: str, asked: Asked, written_by: str, listed: dict[Path, HostsFile], ask: AskedFor | None
) -> Iterable[_Source]:
    """What one ``--from`` means."""
    if named == STANDARD_INPUT:
        yield _Source("standard input", _of_standard_input, False)
        return
    scheme = _SCHEME.match(named)
    if scheme is not None:
        from hollow_chain.reach.far import FarWay

        yield _far(FarWay(_address(named, scheme[1]), None, ask), asked, written_by)
        return
    path = Path(named)
    if path.suffix.lower() == ".toml" and not path.is_dir():
        yield from _of_hosts_file(path, asked, written_by, listed, ask)
        return
    from hollow_chain.sources import files

    if (path / files.STORE_HEADER).is_file():
        yield _Source(named, partial(_of_store, named), False)
        return
    yield _Source(named, lambda: files.read(path), False)


def _of_store(named: str) -> Snapshot:
    """The newest reading of each host in a store."""
    from hollow_chain.facts.host import Unread
    from hollow_chain.sources.files import merged
    from hollow_chain.sources.readings import open_store

    store = open_store(named)
    found: list[Snapshot] = []
    failed: list[str] = []
    for name in store.newest():
        try:
            found.append(store.snapshot(name))
        except Trouble as trouble:
            failed.append(str(trouble))
    if not found:
        raise Trouble(failed[0] if failed else f"{named} holds no reading yet")
    whole = merged(found)
    whole.unread += [Unread(what=reason) for reason in failed]
    return whole


def _address(named: str, scheme: str) -> Address:
    from hollow_chain.reach.address import SCHEMES, BadAddress, parse

    if scheme.lower() not in SCHEMES:
        raise wrong_call(f"--from takes no {scheme}:// address; it takes {FORMS}")
    try:
        return parse(named)
    except BadAddress as problem:
        raise wrong_call(f"--from: {problem}") from None


def _far(way: FarWay, asked: Asked, written_by: str, name: str = "") -> _Source:
    from hollow_chain.reach.far import far

    def whole() -> Snapshot:
        with far(way._replace(meanwhile=_load_readers)) as reached:
            from hollow_chain.sources.readers import readers_of
            from hollow_chain.sources.reading import read

            return read(reached, readers_of(reached.family), asked, written_by)

    host = way.address.host
    return _Source(name or host, whole, True, host, way, bool(name))


def _load_readers() -> None:
    """Load what reads a host over SSH, and talks to its message bus."""
    import dbus_fast.aio  # noqa: F401

    from hollow_chain.families import SYSTEMD
    from hollow_chain.sources.readers import readers_of

    readers_of(SYSTEMD.name)


def _of_standard_input() -> Snapshot:
    from hollow_chain.facts.codec import MAX_BYTES, SnapshotError, decode
    from hollow_chain.sources.files import unpacked

    if sys.stdin is None or sys.stdin.isatty():
        raise wrong_call("--from - reads a snapshot from standard input, and a terminal is there: pipe one in")
    data = sys.stdin.buffer.read(MAX_BYTES + 1)
    if len(data) > MAX_BYTES:
        raise Trouble(f"cannot read standard input: more than {MAX_BYTES >> 20} MiB")
    if not data.strip():
        raise Trouble("cannot read standard input: nothing came; what was to write a snapshot there says why")
    try:
        return decode(unpacked(data))
    except SnapshotError as error:
        raise Trouble(f"cannot read standard input: {error}") from None


def _of_hosts_file(
    path: Path, asked: Asked, written_by: str, listed: dict[Path, HostsFile], ask: AskedFor | None
) -> Iterable[_Source]:
    from hollow_chain.sources import files, hosts_file

    hosts = listed[path] = hosts_file.read(path)
    if loose := hosts_file.loose_ends(hosts):
        raise wrong_call(
            f"{path}: {loose[0].where}: {loose[0].what}" + (f" (and {len(loose) - 1} more)" if len(loose) > 1 else "")
        )
    if not hosts.hosts:
        raise wrong_call(f"{path}: it names no host")
    for one in hosts_file.hosts_of(hosts, path):
        if one.is_here:
            yield _Source(one.name, lambda: _here(asked, written_by), True, renamed=True)
        elif (way := one.way(ask)) is not None:
            source = _far(way, asked, written_by, one.name)
            yield source._replace(read=_or_kept(source.read, one.snapshot)) if one.snapshot is not None else source
        elif (kept := one.snapshot) is not None:
            yield _Source(one.name, partial(files.read, kept), True, renamed=True)


def _or_kept(live: Callable[[], Snapshot], kept: Path) -> Callable[[], Snapshot]:
    """Read it live, and where that cannot be, take the snapshot, which then says so."""

    def read() -> Snapshot:
        from hollow_chain.facts.host import Unread
        from hollow_chain.sources import files

        try:
            return live()
        except (Trouble, OSError) as problem:
            found = files.read(kept)
            when = max((host.read_at for host in found.hosts if host.read_at), default=None)
            said = f"its snapshot{f' of {when:%Y-%m-%d %H:%M} UTC' if when else ''} was taken instead: {problem}"
            for host in found.hosts:
                host.unread.append(Unread(what=AS_IT_IS, why=said))
            return found

    return read


def _together(sources: list[_Source], asking: Asking) -> Snapshot:
    from hollow_chain.sources import files, many

    near = [source.read() for source in sources if not source.is_far]
    far = [_or_as_kept(source, asking) for source in sources if source.is_far]
    for one in far:
        if one.way is not None:
            one.way.ask_beforehand()
    came = many.at_once([(one.name, one.read) for one in far], asking.most, asking.seconds, asking.told)
    if not asking.in_part and any(isinstance(one.error, many.Interrupted) for one in came):
        raise KeyboardInterrupt
    for one, result in zip(far, came, strict=True):
        if asking.kept is not None and result.found is not None:
            asking.kept[one.name] = _copied(result.found)
    read_ones = [_named(one, result.found) for one, result in zip(far, came, strict=True) if result.found is not None]
    unreached = [_unreached(one, result) for one, result in zip(far, came, strict=True) if result.found is None]
    if not near and not read_ones:
        raise _nothing(unreached, came)
    whole = files.merged([*near, *_told_apart(read_ones)])
    for one, result in zip(far, came, strict=True):
        if asking.ways is not None and one.way is not None and result.found is not None:
            asking.ways.update({host.name: one.way for host in result.found.hosts})
    whole.unreached = [*whole.unreached, *unreached]
    return whole


def _or_as_kept(source: _Source, asking: Asking) -> _Source:
    kept = asking.kept.get(source.name) if asking.kept is not None else None
    if asking.only is None or source.way == asking.only or kept is None:
        return source
    return source._replace(read=partial(_copied, kept))


def _copied(found: Snapshot) -> Snapshot:
    """The same facts, with hosts and services of their own: names and declared needs are added to these."""
    from msgspec.structs import replace

    hosts = [replace(host, services=[replace(service) for service in host.services]) for host in found.hosts]
    return replace(found, hosts=hosts)


def _nothing(unreached: list[UnreachedHost], came: Sequence[Came[Snapshot]]) -> Trouble:
    from hollow_chain.sources.many import Interrupted

    if any(isinstance(one.error, Interrupted) for one in came):
        raise KeyboardInterrupt
    troubles = [one.error for one in came if isinstance(one.error, Trouble) and one.error.status == CALL_IS_WRONG]
    if troubles:
        return troubles[0]
    lines = [f"cannot read {one.name}: {one.why}" for one in unreached]
    return (
        Trouble(lines[0], FACTS_UNREADABLE)
        if len(lines) == 1
        else Trouble("no host could be read:", FACTS_UNREADABLE, lines)
    )


def _unreached(source: _Source, came: Came[Snapshot]) -> UnreachedHost:
    from datetime import UTC, datetime

    from hollow_chain.facts.host import UnreachedHost
    from hollow_chain.reach.unreached import Unreached
    from hollow_chain.sources.many import Interrupted

    error = came.error
    if error is not None and not isinstance(error, Exception):
        raise error
    known = isinstance(error, Trouble | OSError | Interrupted)
    why = str(error) if known else f"this is a fault of the program itself ({type(error).__name__}: {error})"
    silent = isinstance(error, TimeoutError) or (isinstance(error, Unreached) and error.silent)
    return UnreachedHost(name=source.name, address=source.address, why=why, silent=silent, tried_at=datetime.now(UTC))


def _named(source: _Source, found: Snapshot) -> Snapshot:
    """The facts with the name that a file of hosts gives to the host."""
    if source.renamed and len(found.hosts) == 1:
        rename(found.hosts[0], source.name)
    return found


def rename(host: Host, name: str) -> None:
    """Give a host another name, in all that speaks of it by its own."""
    old, host.name = host.name, name
    for service in host.services:
        for link in service.links:
            if link.host == old:
                link.host = name


def _told_apart(found: list[Snapshot]) -> list[Snapshot]:
    """Hosts that call themselves by one name, as freshly made ones do, get a number behind it."""
    taken: set[str] = set()
    for host in (host for one in found for host in one.hosts):
        name, number = host.name, 2
        while name in taken:
            name, number = f"{host.name}-{number}", number + 1
        if name != host.name:
            rename(host, name)
        taken.add(name)
    return found


def _declare(whole: Snapshot, listed: HostsFile, path: Path) -> None:
    """Add what only people know: needs between hosts, and the firewalls between them."""
    from hollow_chain.sources.hosts_file import links_from

    for host in whole.hosts:
        if host.name not in listed.hosts:
            continue
        services = {service.name: service for service in host.services}
        for name, link in links_from(listed, host.name):
            service = services.get(name) or services.get(f"{name}.service")
            if service is None:
                raise wrong_call(f"{path}: needs: {host.name} has no service {name!r}")
            owner = next((one for one in whole.hosts if one.name == link.host), None)
            link.to = _full_name(link.to, owner)
            service.links = [*service.links, link]
    whole.firewalls = [*whole.firewalls, *listed.firewalls]


def _full_name(name: str, owner: Host | None) -> str:
    names = {service.name for service in owner.services} if owner is not None else set()
    return f"{name}.service" if name not in names and f"{name}.service" in names else name

"""What a file of hosts is good for: which hosts answer, with which rights, how fast, and which declared needs lead nowhere."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import NamedTuple

from hollow_chain.facts.host import Host, Snapshot
from hollow_chain.reach.far import far
from hollow_chain.reach.here import here
from hollow_chain.reach.login import AskedFor
from hollow_chain.sources import files, many
from hollow_chain.sources.asked import Asked
from hollow_chain.sources.hosts_file import HostsFile, Loose, OneHost, hosts_of, loose_ends
from hollow_chain.sources.places import Asking
from hollow_chain.sources.readers import readers_of
from hollow_chain.sources.reading import read
from hollow_chain.trouble import Trouble


class Answered(NamedTuple):
    """What a host that was read says of the asking."""

    host: Host | None
    asked_as: str
    """The account by which it was asked; empty where its snapshot was read."""


class CheckedHost(NamedTuple):
    """One host of a file."""

    name: str
    way: str
    """How it is reached, or the file of its snapshot."""
    host: Host | None
    """What was read of it; None where nothing was."""
    asked_as: str
    why: str
    """Why nothing was read of it."""
    seconds: float


class CheckedHosts(NamedTuple):
    """A whole file, checked."""

    hosts: list[CheckedHost]
    loose: list[Loose]
    """Needs and firewalls that lead nowhere."""

    @property
    def well(self) -> bool:
        """Whether every host was read, and every need leads somewhere."""
        return not self.loose and all(one.host is not None for one in self.hosts)


def checked(listed: HostsFile, path: Path, asking: Asking) -> CheckedHosts:
    """Ask every host of a file."""
    hosts = list(hosts_of(listed, path))
    for one in hosts:
        if (way := one.way(asking.ask)) is not None:
            way.ask_beforehand()
    came = many.at_once(
        [(one.name, partial(_asked, one, asking.ask)) for one in hosts], asking.most, asking.seconds, asking.told
    )
    found = []
    for one, result in zip(hosts, came, strict=True):
        error = result.error
        if error is not None and not isinstance(error, Exception):
            raise error
        answer = result.found or Answered(None, "")
        found.append(CheckedHost(one.name, _way(one), answer.host, answer.asked_as, str(error or ""), result.seconds))
    known = {one.name: one.host for one in found if one.host is not None}
    return CheckedHosts(found, [*loose_ends(listed), *_missing_services(listed, known)])


def _way(one: OneHost) -> str:
    if one.is_here:
        return "here"
    return str(one.address) if one.address is not None else str(one.snapshot or "")


def _asked(one: OneHost, ask: AskedFor | None) -> Answered:
    if (way := one.way(ask)) is not None:
        with far(way) as reached:
            return Answered(_only(read(reached, readers_of(reached.family), Asked())), reached.asked_as)
    if one.is_here:
        reached = here()
        return Answered(_only(read(reached, readers_of(reached.family), Asked())), reached.asked_as)
    assert one.snapshot is not None
    found = files.read(one.snapshot)
    if len(found.hosts) != 1:
        raise Trouble(f"{one.snapshot} holds {len(found.hosts)} hosts, and stands for one here")
    return Answered(found.hosts[0], "")


def _only(found: Snapshot) -> Host:
    return found.hosts[0]


def _missing_services(listed: HostsFile, known: dict[str, Host]) -> Iterator[Loose]:
    """Needs whose services are not on the hosts that they name, of those that were read."""
    for at, need in enumerate(listed.needs):
        for host, service, key in (
            *((name, need.service, "service") for name in listed.named(need.on)),
            (need.at, need.needs, "needs"),
        ):
            if host in known and not _has(known[host], service):
                yield Loose(f"needs[{at}].{key}", f"{host} has no service {service!r}")


def _has(host: Host, name: str) -> bool:
    names = {known for service in host.services for known in (service.name, *service.aliases)}
    return name in names or f"{name}.service" in names or name.casefold() in {one.casefold() for one in names}

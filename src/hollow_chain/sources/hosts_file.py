"""Files of hosts: which hosts there are, how each is reached, and what only people know of them. Format, version 1.

A file of hosts is TOML (toml.io, 1.0). ``docs/hosts.md`` documents it, ``docs/hosts.schema.json`` is its JSON Schema.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Any, Literal, NamedTuple

import msgspec

from hollow_chain import decoding
from hollow_chain.facts.host import Firewall
from hollow_chain.facts.part import Listed
from hollow_chain.facts.service import Link
from hollow_chain.reach.address import RPC, Address, BadAddress, parse
from hollow_chain.reach.far import FarWay
from hollow_chain.reach.login import AskedFor
from hollow_chain.trouble import wrong_call

FORMAT = "hollow-chain/hosts"
VERSION = 1
MAX_BYTES = 16 << 20
"""Bytes of a file of hosts that are read: a hundred thousand hosts have ten million."""
HERE = "here"
"""How a file of hosts calls the machine that the program runs on."""
SUFFIX = ".toml"
Text = Annotated[str, msgspec.Meta(max_length=4096)]
WORD = "declared in the file of hosts"
"""The word of a link that only people know of."""


class ListedHost(msgspec.Struct, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """One host."""

    at: Text = ""
    """How it is reached: ``ssh://[user@]host[:port]``, ``rpc://[user@]host``, ``here``; empty: it is not, and its snapshot is taken."""
    groups: Listed[Text] = []
    """Groups that it is a member of."""
    snapshot: Text = ""
    """A snapshot of it, for when it cannot be asked; from the folder of this file on."""
    password_file: Text = ""
    """A file with the password for ``rpc://``, which nobody but its owner may read (mode 0600); from the folder of this file on."""


class ListedNeed(msgspec.Struct, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """A need that leads to another host, and that no definition tells of."""

    service: Text
    """The service that needs another one."""
    on: Text
    """The host of :attr:`service`, or a group: then each of its hosts."""
    needs: Text
    """The service that it needs."""
    at: Text
    """The host of :attr:`needs`."""
    kind: Literal["hard", "soft", "order"] = "hard"
    """As links of snapshots."""


class HostsFile(msgspec.Struct, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """A whole file of hosts."""

    format: Literal["hollow-chain/hosts"]
    version: Literal[1]
    hosts: dict[Text, ListedHost] = {}
    """By the name that each bears here."""
    needs: Listed[ListedNeed] = []
    firewalls: Listed[Firewall] = []
    """Firewalls between hosts, as in snapshots."""
    readings: Text = ""
    """A store with earlier readings of them (``capture --keep``); from the folder of this file on."""

    def named(self, name: str) -> list[str]:
        """The host of that name, or the members of that group."""
        return [name] if name in self.hosts else [one for one, host in self.hosts.items() if name in host.groups]


class OneHost(NamedTuple):
    """One host of a file, ready to be asked."""

    name: str
    address: Address | None
    """None: it is not reached over the network."""
    is_here: bool
    snapshot: Path | None
    password_file: Path | None = None

    def way(self, ask: AskedFor | None = None) -> FarWay | None:
        """How it is come to; None where it is not reached over the network. *ask* asks somebody for a password."""
        return FarWay(self.address, self.password_file, ask) if self.address is not None else None


def read(path: Path) -> HostsFile:
    """The file at *path*. Raises :class:`~hollow_chain.trouble.Trouble` (2) with the place and what is wrong there."""
    import tomllib

    try:
        if path.stat().st_size > MAX_BYTES:
            raise wrong_call(f"cannot read {path}: larger than {MAX_BYTES >> 20} MiB, which no file of hosts is")
        found = tomllib.loads(path.read_bytes().decode("utf-8"))
    except OSError as error:
        raise wrong_call(f"cannot read {path}: {(error.strerror or str(error)).lower()}") from None
    except (UnicodeDecodeError, tomllib.TOMLDecodeError, RecursionError) as error:
        raise wrong_call(f"cannot read {path}: no TOML ({error})") from None
    if found.get("format") != FORMAT:
        raise wrong_call(
            f'cannot read {path}: no file of hosts; it begins with format = "{FORMAT}" and version = {VERSION}'
        )
    try:
        listed = decoding.of_plain(found, HostsFile)
    except msgspec.ValidationError as error:
        what, _, place = str(error).partition(" - at ")
        raise wrong_call(
            f"{path}: {place.strip('`').removeprefix('$.') or 'it'}: {what[:1].lower()}{what[1:]}"
        ) from None
    for name in listed.hosts:
        if not name or not name.isprintable():
            raise wrong_call(f"{path}: hosts: {name!r} is no name of a host")
    list(hosts_of(listed, path))
    return listed


def hosts_of(listed: HostsFile, path: Path) -> Iterator[OneHost]:
    """The hosts of a file. Raises :class:`~hollow_chain.trouble.Trouble` (2) where one of them has no way to its facts."""
    for name, host in listed.hosts.items():
        kept = path.parent / host.snapshot if host.snapshot else None
        if not host.at and kept is None:
            raise wrong_call(f"{path}: hosts.{name}: say how it is reached (at), or which snapshot to take (snapshot)")
        try:
            address = parse(host.at) if host.at and host.at != HERE else None
        except BadAddress as problem:
            raise wrong_call(f"{path}: hosts.{name}.at: {problem}") from None
        secret = path.parent / host.password_file if host.password_file else None
        if secret is not None and (address is None or address.scheme != RPC):
            raise wrong_call(f"{path}: hosts.{name}.password_file: only rpc:// takes a password")
        yield OneHost(name, address, host.at == HERE, kept, secret)


class Loose(NamedTuple):
    """A need or a firewall that leads nowhere."""

    where: str
    what: str


def loose_ends(listed: HostsFile) -> list[Loose]:
    """What names hosts that the file does not have."""
    found = []
    for at, need in enumerate(listed.needs):
        where = f"needs[{at}]"
        if not listed.named(need.on):
            found.append(Loose(f"{where}.on", f"there is no host and no group {need.on!r}"))
        if need.at not in listed.hosts:
            found.append(Loose(f"{where}.at", f"there is no host {need.at!r}"))
    for at, wall in enumerate(listed.firewalls):
        found += [
            Loose(f"firewalls[{at}].between", f"there is no host {one!r}")
            for one in wall.between
            if one not in listed.hosts
        ]
    return found


def links_from(listed: HostsFile, host: str) -> Iterator[tuple[str, Link]]:
    """The services of *host* of which the file declares needs, each with its link."""
    for need in listed.needs:
        if host in listed.named(need.on):
            yield need.service, Link(to=need.needs, host=need.at, kind=need.kind, word=WORD, pulls=False)


def schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of a file of hosts, as its TOML stands in JSON."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"{FORMAT}, version {VERSION}",
        **msgspec.json.schema(HostsFile),
    }

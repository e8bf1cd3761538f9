"""The names by which a host calls itself, as far as its services call somebody by them."""

from __future__ import annotations

from collections.abc import Iterable

from hollow_chain.facts.endpoints import is_loopback, plain
from hollow_chain.facts.host import Host
from hollow_chain.reach.interfaces import Files
from hollow_chain.wording import lines
from hollow_chain.wording.things import named_endpoints

_PLACE = "/etc/hosts"
_MOST_LINES = 20_000
"""Lines of the table that are gone through: a person keeps some dozens there, and who blocks names by it ten thousands."""


def add_local_names(host: Host, files: Files) -> None:
    """Add the names that the host's own table (hosts(5)) gives to an address of its own, of those that its services call in vain, or are
    set to call. Needs its addresses, and the records."""
    called = set(_called(host))
    if called:
        host.local_names = {name: address for name, address in _listed(files, host) if name in called}


def _called(host: Host) -> Iterable[str]:
    for event in lines.saying(host.events, "unreached"):
        yield from (name for name, _ in named_endpoints(event.text))
    for service in host.services:
        calls = service.program.calls if service.program is not None else None
        yield from (one.address for one in calls or ())


def _listed(files: Files, host: Host) -> Iterable[tuple[str, str]]:
    """The names of addresses of the host's own; the first line counts that has a name."""
    try:
        lines_of_table = files.text(_PLACE).splitlines()[:_MOST_LINES]
    except OSError:
        return
    own = {plain(address) for address in host.addresses}
    seen: set[str] = set()
    for line in lines_of_table:
        address, *names = line.partition("#")[0].split() or [""]
        for name in names:
            if name not in seen and (is_loopback(address) or plain(address) in own):
                yield name, address
            seen.add(name)

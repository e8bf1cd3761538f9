"""Twins for a person: services that are one thing under two names, with what tells them apart."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.registering.twins import groups_of
from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document, when
from hollow_chain.show.page import Page

_WIDEST = 40
"""Letters of a value that are shown in a column: longer ones go on below."""


def _values(service: Service) -> dict[str, str]:
    program, account, definition, limits = service.program, service.account, service.definition, service.limits
    return {
        "state": service.state,
        "startup type": service.startup,
        "program": program.path if program else "",
        "arguments": " ".join(program.arguments[1:]) if program else "",
        "folder": program.folder if program else "",
        "account": account.user if account else "",
        "start limit": f"{limits.start_seconds:g} s" if limits and limits.start_seconds else "",
        "needs": ", ".join(sorted(link.to for link in service.links if link.kind == "hard")),
        "defined in": definition.file if definition else "",
        "changed": f"{definition.changed_at:%Y-%m-%d %H:%M}" if definition and definition.changed_at else "",
        "last up": f"{service.last.up_at:%Y-%m-%d %H:%M}" if service.last and service.last.up_at else "",
    }


def apart(group: list[Service]) -> Iterator[tuple[str, list[str]]]:
    """What tells the services of a group apart: a name, and the value of each."""
    values = [_values(service) for service in group]
    for name in values[0]:
        each = [one[name] for one in values]
        if len(set(each)) > 1:
            yield name, each


def show_twins(page: Page, hosts: list[Host]) -> int:
    """Write all groups of twins; how many there are."""
    many = 0
    for host in hosts:
        for group in groups_of(host):
            many += 1
            page.line(
                (clean(host.name, 80), "bold"), f"  {' and '.join(clean(one.name, 80) for one in group)}: one program"
            )
            for name, each in apart(group):
                page.line((f"{name:<13}", "dim"), " | ".join(clean(one or "-", 200) for one in each), indent=3, hang=13)
            page.gap()
    if many:
        page.line("Keep the one that is right: 'hollow-chain unregister NAME' takes another off, and puts it back.")
    else:
        page.line("No twins: no two services run the same.")
    return many


def twins_document(hosts: list[Host]) -> Document:
    """``hollow-chain/twins``, version 1."""
    return {
        "format": "hollow-chain/twins",
        "version": 1,
        "read_at": {host.name: when(host.read_at) for host in hosts},
        "twins": [
            {
                "host": host.name,
                "services": [{"service": one.name, "state": one.state, "startup": one.startup} for one in group],
                "apart": dict(apart(group)),
            }
            for host in hosts
            for group in groups_of(host)
        ],
    }

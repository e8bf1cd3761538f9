"""Needs on groups of services (control-manager family): each is met by one member that is up, and else leads to all of them."""

from __future__ import annotations

from msgspec.structs import replace

from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Link, Service

MARK = "+"
"""How the name of a group begins where a service needs one (the documented form of ``DependOnGroup``, ``SC_GROUP_IDENTIFIER``)."""


def resolve(host: Host) -> None:
    """Put links to members in the place of links to groups of which members are known; the others stay as they are."""
    if host.manager != "control-manager":
        return
    members: dict[str, list[Service]] = {}
    for service in host.services:
        if service.order_group:
            members.setdefault(service.order_group.casefold(), []).append(service)
    for service in host.services if members else ():
        if any(link.to.startswith(MARK) for link in service.links):
            service.links = [one for link in service.links for one in _resolved(link, service, members)]


def _resolved(link: Link, service: Service, members: dict[str, list[Service]]) -> list[Link]:
    """What a need on a group comes to: the first member that is up, else all of them."""
    group = link.to[len(MARK) :].casefold() if link.to.startswith(MARK) and not link.host else ""
    known = [one for one in members.get(group, []) if one.name != service.name]
    if not known:
        return [link]
    up = [one for one in known if one.state == "running"]
    # The next boot starts it too, where there is such a one.
    up.sort(key=lambda one: one.startup != "automatic")
    return [replace(link, to=one.name, word=f"group {link.to[len(MARK) :]}") for one in (up[:1] or known)]

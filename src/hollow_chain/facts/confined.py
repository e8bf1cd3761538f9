"""What the definition of a service may keep it from."""

from __future__ import annotations

from hollow_chain.facts.service import Service

CALLS, FAMILIES = "SystemCallFilter=", "RestrictAddressFamilies="
_OF_NETWORK = ("AF_INET", "AF_INET6")


def kept_from_sockets(service: Service) -> str:
    """The setting for which a service has no socket of a network, or may have none; empty where there is none (systemd.exec(5),
    "Sandboxing")."""
    confinement = service.confinement
    if confinement is None:
        return ""
    families = confinement.families
    if families is not None and not _allowed(families):
        return FAMILIES
    filters = confinement.calls_by == CALLS.rstrip("=")
    return CALLS if filters and confinement.calls_refused != [] else ""


def may_not_listen(service: Service) -> bool:
    """Whether it is known that a filter refuses it a call without which nobody listens."""
    return service.confinement is not None and bool(service.confinement.calls_refused)


def _allowed(families: list[str]) -> bool:
    """Whether one of the two is among the kinds of sockets that are allowed, or neither among those that are not."""
    if any(one.startswith("-") for one in families):
        return not all(f"-{one}" in families for one in _OF_NETWORK)
    return any(one in families for one in _OF_NETWORK)

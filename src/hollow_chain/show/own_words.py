"""The words of the host's own manager, where they differ from ours: whoever works on it knows these."""

from __future__ import annotations

from hollow_chain.causes.standing import skipped
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.families import family_of

OWN_WORDED = ("manual", "disabled")
"""Startup types for which a manager may have another word."""


def own_words(service: Service, host: Host) -> str:
    """Such words for the state and the startup type of *service*; empty where they are the same, or the family has none."""
    return ", ".join(one for one in (_of_startup(service, host), _of_state(service, host)) if one)


def _of_startup(service: Service, host: Host) -> str:
    if service.startup not in OWN_WORDED or not family_of(host).defined_in_files:
        return ""
    if service.definition is not None and service.definition.load == "masked":
        return "masked"
    # Called disabled there, where it is refused no start (systemctl(1), "is-enabled").
    return "not enabled" if service.startup == "manual" and service.kind == "service" else ""


def _of_state(service: Service, host: Host) -> str:
    is_such = family_of(host).defined_in_files and service.state in ("stopped", "done") and skipped(service)
    return "skipped" if is_such else ""


def startup_words(service: Service, host: Host | None) -> str:
    """The startup type, with the manager's own word where that is another one; empty where none is known."""
    if service.startup == "unknown":
        return ""
    theirs = _of_startup(service, host) if host is not None else ""
    return f"{service.startup} ({theirs})" if theirs else service.startup


def state_words(service: Service | None, host: Host | None, ours: str) -> str:
    """*ours*, the word for the state, with the manager's own where it tells more."""
    theirs = _of_state(service, host) if service is not None and host is not None else ""
    return f"{ours} ({theirs})" if theirs else ours

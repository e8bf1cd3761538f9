"""The names of the services of this machine, as quickly as they can be had: for somebody who is typing one.

On systemd hosts they are read from the folders of definitions (systemd.unit(5), "Unit File Load Path") and from the links that the
manager keeps for all that runs (``/run/systemd/units``); on the other family the manager is asked for its list.
"""

from __future__ import annotations

from hollow_chain.reach.here import here
from hollow_chain.reach.interfaces import Reached

_FOLDERS = (
    "/etc/systemd/system",
    "/run/systemd/system",
    "/run/systemd/generator",
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
)
_RUNNING, _LINK = "/run/systemd/units", "invocation:"
_KINDS = (".service", ".socket", ".timer", ".path", ".mount")
"""Kinds that somebody asks about by name."""


def names_here() -> list[str]:
    """The names; empty where they cannot be had without asking for long."""
    reached = here()
    statuses = getattr(getattr(reached, "database", None), "statuses", None)
    return sorted(one.name for one in statuses()) if statuses is not None else _units(reached)


def _units(reached: Reached) -> list[str]:
    files = reached.files
    found = {name for folder in _FOLDERS for name in files.names(folder)}
    found |= {name.removeprefix(_LINK) for name in files.names(_RUNNING) if name.startswith(_LINK)}
    return sorted(name for name in found if name.endswith(_KINDS) and "@." not in name)

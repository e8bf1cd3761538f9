"""What was changed on a host, and when: a type of the snapshot format, version 1."""

from __future__ import annotations

from datetime import timedelta
from typing import ClassVar, Literal

from hollow_chain.facts.part import Listed, Moment, Part

LONGEST_AGO = timedelta(days=30)
"""How old a change may be to be told where nobody says otherwise: what is older had a month to show."""
ChangeKind = Literal[
    "definition", "settings", "program", "data", "package", "startup", "state", "command", "account", "system", "boot"
]
"""What a change is about. ``system``: settings that hold for the whole host. ``command``: what somebody had done with the rights of
root, in his own words."""


class Change(Part, gc=False):
    """One change, as far as the host keeps a trace of it. Secrets are masked."""

    happens: ClassVar[bool] = True

    at: Moment
    kind: ChangeKind
    what: str
    """The path, package, service, account or command line."""
    did: str = "changed"
    """``changed``, ``installed``, ``upgraded``, ``removed``, ``started``, ``stopped``, ``failed``, ``set to start at boot``, ..."""
    services: Listed[str] = []
    """The services that it is about; empty: the host as a whole."""
    by: str = ""
    """Who did it, where that is recorded."""
    before: str = ""
    after: str = ""
    source: str = ""
    trusted: bool = True
    """False: others than root could have brought the trace about."""

"""How long the certificates are valid that a service names which complains of one."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.facts.service import Service
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording import lines
from hollow_chain.wording.things import paths_in

_MOST = 24
"""Files that are looked into for one service: its own certificate and key, those that it trusts, and some to spare."""


def add(reading: HostReading) -> None:
    """Look into the files that its words, arguments and settings name; only the two moments are kept."""
    complaints = lines.saying(reading.host.events, "certificate over")
    if not complaints:
        return
    looker = reading.looker
    for service in reading.host.services:
        quoted = [path for event in complaints if event.service == service.name for path in paths_in(event.text)]
        named = [*quoted, *_named(service)] if any(e.service == service.name for e in complaints) else []
        for path in list(dict.fromkeys(named))[:_MOST]:
            file = looker.look(path)
            if file is not None and file.exists and file.kind == "file":
                looker.add_validity(file)


def _named(service: Service) -> Iterator[str]:
    if service.program is not None and not service.program.root:  # paths below another root mean something else
        yield from (*service.program.settings_paths, *service.program.paths)

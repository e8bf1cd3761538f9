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
    quoted: dict[str, list[str]] = {}
    for event in lines.saying(reading.host.events, "certificate over"):
        quoted.setdefault(event.service, []).extend(paths_in(event.text))
    looker = reading.looker
    for service in (one for one in reading.host.services if one.name in quoted):
        for path in list(dict.fromkeys((*quoted[service.name], *_named(service))))[:_MOST]:
            file = looker.look(path)
            if file is not None and file.exists and file.kind == "file":
                looker.add_validity(file)


def _named(service: Service) -> Iterator[str]:
    if service.program is not None and not service.program.root:  # paths below another root mean something else
        yield from (*service.program.settings_paths, *service.program.paths)

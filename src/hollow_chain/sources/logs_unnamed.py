"""Log files that neither the definition nor the settings of a service name: found beside what is its own, by the moment of their last line.

A program that writes its log where it was built to write it says nothing of that in its definition. A person lists the folders that it
may mean, and opens what was written when it ended.
"""

from __future__ import annotations

import stat
from collections.abc import Iterable, Iterator
from datetime import timedelta
from typing import NamedTuple

from hollow_chain.facts.habits import folder_of, names_of, own_names_of
from hollow_chain.facts.service import Service
from hollow_chain.lazy import pattern
from hollow_chain.sources.evidence_files import EvidenceReader

_LOGS = "/var/log"
_BELOW = ("log", "logs")
"""What programs call the folder of their logs, below one that is their own."""
_SHARED = frozenset((
    "/", "/root", "/home", "/opt", "/srv", "/etc", "/tmp", "/run", "/var", "/var/tmp", "/var/lib", "/var/log", "/var/cache", "/var/spool",
    "/var/run", "/mnt", "/media", "/dev", "/usr", "/usr/local",
))  # fmt: skip
"""Folders that are nobody's own (hier(7))."""
_BY_NAME = ("/var/lib", "/opt", "/srv")
"""Where folders lie that bear the name of a service by habit."""
_SYSTEM = ("/usr/bin", "/usr/sbin", "/usr/lib", "/usr/libexec", "/usr/share", "/usr/local/bin", "/usr/local/sbin", "/bin", "/sbin", "/lib",
           "/proc", "/sys")  # fmt: skip
"""Folders in and below which programs lie and no logs."""
_PROGRAMS = ("bin", "sbin", "libexec")
"""Folders beside which that of the logs lies."""
_OUTSIDE = ("server", "service", "daemon", "system", "the", "run", "start")
"""Words that begin the names of too many things."""
_SHORTEST_WORD = 3
_EARLY, _LATE = timedelta(seconds=1), timedelta(seconds=3)
"""How far the last line of a log may lie before the start and behind the end of the run that it is of, as clocks and writers differ."""
_MOST_FOLDERS, _MOST_NAMES = 16, 200
"""Folders that are listed for one service, and names in each that are looked at."""
_WORDS = pattern(r"[^A-Za-z0-9]+")
_PACKED = (".gz", ".xz", ".zst", ".bz2", ".db", ".journal", ".pid", ".lock", ".sock")
"""Ends of names of files that are no log, or one of days ago."""


class OwnNames(NamedTuple):
    """The names that the services of a host bear by habit."""

    known: frozenset[str]

    def of_another(self, name: str, service: Service) -> bool:
        """Whether *name* is that of another service and not one of this one's."""
        return name in self.known and name not in names_of(service)


def own_names(services: Iterable[Service]) -> OwnNames:
    """The names of all *services*."""
    return OwnNames(frozenset(name for one in services if one.kind == "service" for name in own_names_of(one)))


def written_in_last_run(service: Service, names: OwnNames, reader: EvidenceReader) -> list[str]:
    """Files that look like logs of *service* and were last written while its last run lasted, the latest first."""
    last = service.last
    if last is None or last.started_at is None:
        return []
    begun = (last.started_at - _EARLY).timestamp()
    ended = (last.ended_at + _LATE).timestamp() if last.ended_at and last.ended_at >= last.started_at else None
    near: list[tuple[float, str]] = []
    paths = _paths(service, names, reader)
    reader.walker.expect(paths)
    for path in paths:
        at = written(reader, path)
        if at is not None and at >= begun and (ended is None or at <= ended):
            near.append((at, path))
    return [path for _, path in sorted(near, reverse=True)]


def written(reader: EvidenceReader, path: str) -> float | None:
    """When a regular file was last written; None where there is none."""
    try:
        about = reader.walker.find(path).about
    except OSError:
        return None
    return about.st_mtime if about is not None and stat.S_ISREG(about.st_mode) else None


def _paths(service: Service, names: OwnNames, reader: EvidenceReader) -> list[str]:
    walker = reader.walker
    own = list(dict.fromkeys(_own_folders(service)))[:_MOST_FOLDERS]
    listed = [*own, *(f"{folder}/{name}" for folder in own for name in _BELOW)]
    walker.expect((), (*listed, _LOGS))
    found = [f"{folder}/{name}" for folder in own for name in walker.names(folder, _MOST_NAMES) if _is_log(name)]
    found += [
        f"{folder}/{below}/{name}"
        for folder in own
        for below in _BELOW
        for name in walker.names(f"{folder}/{below}", _MOST_NAMES)
    ]
    begins = _first_words(service)
    called = [name for name in walker.names(_LOGS) if _first(name) in begins and not names.of_another(name, service)]
    walker.expect((), (f"{_LOGS}/{name}" for name in called))
    found += [f"{_LOGS}/{name}" for name in called]
    found += [
        f"{_LOGS}/{folder}/{name}" for folder in called for name in walker.names(f"{_LOGS}/{folder}", _MOST_NAMES)
    ]
    return [path for path in dict.fromkeys(found) if not path.endswith(_PACKED)]


def _own_folders(service: Service) -> Iterator[str]:
    """Folders that are the service's own: that it begins in, that the manager makes for it, that its program lies in."""
    program = service.program
    if program is None or program.root:
        return
    named = [folder_of(service), *program.own_folders]
    for path in (program.path, *program.arguments[1:]):
        if path.startswith("/") and "/../" not in path:
            folder = path.rpartition("/")[0]
            above, _, name = folder.rpartition("/")
            named += [folder, above] if name in _PROGRAMS else [folder]
    named += [f"{root}/{name}" for root in _BY_NAME for name in own_names_of(service)]
    for folder in named:
        plain = folder.rstrip("/")
        if plain and plain not in _SHARED and not any(plain == one or plain.startswith(f"{one}/") for one in _SYSTEM):
            yield plain


def _is_log(name: str) -> bool:
    return "log" in _WORDS.split(name.lower()) or name.endswith((".err", ".out"))


def _first(name: str) -> str:
    """The word that a name begins with, in lower case."""
    return next((word for word in _WORDS.split(name.lower()) if word), "")


def _first_words(service: Service) -> frozenset[str]:
    words = {_first(name) for name in own_names_of(service)}
    return frozenset(word for word in words if len(word) >= _SHORTEST_WORD and word not in _OUTSIDE)

"""The changes of a host in one list: those that were recorded, and those that the times of what was looked at tell."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime, timedelta

from hollow_chain.facts.change import Change, ChangeKind
from hollow_chain.facts.host import File, Host
from hollow_chain.facts.service import Service
from hollow_chain.families import family_of

_TWO_TIMES = 2.0
"""Seconds by which the two times of a file differ at the least where something else than its content was changed."""
_WRITTEN_AS_IT_RUNS = ("/run/", "/var/", "/tmp/", "/proc/", "/dev/", "/sys/")
"""Places that services write to as they run (hier(7))."""


def changes_of(host: Host, service: str = "", since: datetime | None = None) -> list[Change]:
    """The changes of *host*, of one service of it where that is named, oldest first; not those before *since*."""
    found = [one for one in host.changes if not service or service in one.services]
    known = Known(found)
    files = {file.path: file for file in host.files}
    for one in host.services:
        if service in ("", one.name):
            found += [change for change in told_by_facts(host, one, files) if not known.has(change)]
    if not service:
        found += _of_limits(host)
    until = host.read_at
    kept = [one for one in found if (since is None or one.at >= since) and (until is None or one.at <= until + _AHEAD)]
    return sorted(kept, key=lambda one: (one.at, one.kind, one.what))


class Known:
    """What is recorded, so that the facts need not tell it once more."""

    def __init__(self, recorded: Iterable[Change]) -> None:
        self._things: set[tuple[str, str]] = set()
        for one in recorded:
            self._things.add((one.kind, one.what))
            # The facts have one moment for all files of a definition.
            self._things.update((one.kind, name) for name in one.services if one.kind == "definition")

    def has(self, change: Change) -> bool:
        """Whether a change that the facts tell is one of these."""
        names = change.services if change.kind == "definition" else ()
        return (change.kind, change.what) in self._things or any((change.kind, name) in self._things for name in names)


_AHEAD = timedelta(minutes=1)
"""By how much the clock of a file system may be ahead of that of the host."""


def _of_limits(host: Host) -> Iterator[Change]:
    limits = host.limits
    if limits is not None and limits.start_changed_at is not None:
        what = "the start limit of all services"
        yield Change(
            at=limits.start_changed_at, kind="system", what=what, after=limits.start_typed, source="service manager"
        )


def told_by_facts(host: Host, service: Service, files: Mapping[str, File]) -> list[Change]:
    """What the definition of a service and the times of *files* that it names tell; nothing where whoever read the host has looked
    at these already, and left out what came with packages."""
    was_looked_at = bool(host.changes) and family_of(host).defined_in_files
    return [] if service.template or was_looked_at else list(_of_service(host, service, files))


def _of_service(host: Host, service: Service, files: Mapping[str, File]) -> Iterator[Change]:
    definition, program, mine = service.definition, service.program, [service.name]
    source = "file times" if family_of(host).defined_in_files else "registry"
    if definition is not None and definition.changed_at is not None:
        what = f"the definition of {service.name}" if definition.drop_ins or not definition.file else definition.file
        yield Change(at=definition.changed_at, kind="definition", what=what, services=mine, source=source)
    if definition is not None and definition.enabled_at is not None:
        did = "set to start at boot"
        yield Change(
            at=definition.enabled_at, kind="startup", what=service.name, did=did, services=mine, source="file times"
        )
    if program is None:
        return
    kinds: dict[str, ChangeKind] = {program.path: "program"}
    named = [*program.paths, *program.environment_files]
    kinds |= {path: "settings" for path in named if path not in kinds and not path.startswith(_WRITTEN_AS_IT_RUNS)}
    for path, kind in kinds.items():
        file = files.get(path)
        at = (file.altered_at or file.changed_at) if file is not None and file.exists and file.kind == "file" else None
        if file is not None and at is not None:
            yield Change(at=at, kind=kind, what=path, did=_did(file), services=mine, source="file times")


def _did(file: File) -> str:
    if file.altered_at is None or file.changed_at is None:
        return "written"
    same = abs((file.altered_at - file.changed_at).total_seconds()) < _TWO_TIMES
    return "written" if same else "replaced or given other rights"

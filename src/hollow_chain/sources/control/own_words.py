"""What failed services say in files of their own, and what their settings claim, by the general form of both."""

from __future__ import annotations

from collections import Counter
from datetime import datetime
from pathlib import PureWindowsPath

from hollow_chain.facts.host import Event, Host
from hollow_chain.facts.service import Service
from hollow_chain.sources import claims, logs, settings
from hollow_chain.sources.control.looks import has_failed
from hollow_chain.sources.evidence_files import EvidenceReader, Text, texts
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording import lines

_SETTINGS = (".conf", ".cfg", ".cnf", ".ini", ".json", ".yaml", ".yml", ".toml", ".config", ".properties", ".xml")
_LOGS = (".log", ".err", ".out")
_MOST_SETTINGS, _MOST_LOGS, _MOST_NAMES = 12, 16, 200
"""Files of settings and logs of one service that are read, and names in a folder that are gone through."""
_FOLDERS_OF_LOGS = ("log", "logs")


def add(reading: HostReading) -> None:
    """Of services that failed: their claims, and the records of their own log files."""
    host, reader = reading.host, reading.evidence
    looked_at = [s for s in host.services if has_failed(s) or s.name in reading.chosen]
    failed = [service for service in looked_at if service.program is not None and service.kind == "service"]
    folders = Counter(_folder_of(one) for one in host.services) if failed else Counter()
    names = _Names(reader)
    for service in failed:
        assert service.program is not None
        configured = configuration(service, reader, names)
        claims.add(service, reader, configured)
        named = [*service.program.log_files, *(p for p in service.program.paths if _speaks_of_logs(p))]
        for text in configured.values():
            named += settings.log_paths_of_text(text.text)
        others = _named_by_others(service, host)
        near = [
            path for path in _beside(service, names, folders[_folder_of(service)] > 1) if path.casefold() not in others
        ]
        service.program.log_files = list(dict.fromkeys([*named, *near]))[:_MOST_LOGS]
        host.events += _records(service, reader, host.boot_at)
    _add_claims_on(_untold_ports(host, failed), reading, names)


def _untold_ports(host: Host, failed: list[Service]) -> set[int]:
    """Ports that *failed* services found taken, or want, by sockets of which the system does not tell whose they are."""
    untold = {one.port for one in host.listeners if not (one.service or one.process or one.program)}
    names = {service.name for service in failed}
    told = [event for event in host.events if event.service in names] if untold else []
    wanted = {port for _, _, port in lines.endpoint_in_use(told)} | {c.port for s in failed for c in s.claims}
    return untold & wanted


def _add_claims_on(ports: set[int], reading: HostReading, names: _Names) -> None:
    """Of what runs, the claims on these ports: whoever is set to one most likely has its socket."""
    for service in reading.host.services if ports else ():
        if service.state == "running" and service.kind == "service" and service.program and not service.program.library:
            kept = list(service.claims)
            claims.add(service, reading.evidence, configuration(service, reading.evidence, names))
            service.claims = [claim for claim in service.claims if claim in kept or claim.port in ports]


def add_claims(reading: HostReading) -> None:
    """The claims of every service that runs, failed, or starts at boot."""
    names = _Names(reading.evidence)
    for service in reading.host.services:
        if service.program is None or service.kind != "service" or service.program.library:
            continue
        if service.state in ("running", "starting", "paused") or service.startup in ("automatic", "delayed"):
            claims.add(service, reading.evidence, configuration(service, reading.evidence, names))


def add_told_claims(reading: HostReading) -> None:
    """The claims that stand on the command lines of services: they cost nothing."""
    for service in reading.host.services:
        if service.kind == "service" and service.program is not None:
            claims.add(service, reading.evidence, {})


def configuration(service: Service, reader: EvidenceReader, names: _Names) -> dict[str, Text]:
    """The settings of a service: files that its command line names, and those beside its program that bear its name."""
    program = service.program
    if program is None:
        return {}
    named = [path for path in program.paths if PureWindowsPath(path).suffix.lower() in _SETTINGS]
    place = PureWindowsPath(program.path)
    stems = {place.stem.casefold(), service.name.casefold(), "config", "settings", "appsettings"}
    near = [
        str(place.parent / name)
        for name in (names.of(str(place.parent)) if not _is_shared(place) else ())
        if PureWindowsPath(name).suffix.lower() in _SETTINGS and _stem(name) in stems
    ]
    return texts(reader, service, [*named, *near][:_MOST_SETTINGS])


def _stem(name: str) -> str:
    """The name of a file up to its first point: that of a program may stand before two endings."""
    return name.casefold().partition(".")[0]


def _is_shared(place: PureWindowsPath) -> bool:
    """Whether a program lies among those of the system, where no file beside it is its own."""
    parts = [part.casefold() for part in place.parts[:-1]]
    return "system32" in parts or "syswow64" in parts or len(parts) < 2


def _speaks_of_logs(path: str) -> bool:
    place = PureWindowsPath(path)
    return place.suffix.lower() in _LOGS or any(part.casefold() in _FOLDERS_OF_LOGS for part in place.parts[1:-1])


def _folder_of(service: Service) -> str:
    """The folder of its program: what lies in one that other services' programs lie in too is not its own as such."""
    path = service.program.path if service.program is not None else ""
    return path.replace("/", "\\").rpartition("\\")[0].casefold()


class _Names:
    """The names in folders, each gone through once."""

    def __init__(self, reader: EvidenceReader) -> None:
        self._reader = reader
        self._known: dict[str, list[str]] = {}

    def of(self, folder: str) -> list[str]:
        """The names in a folder."""
        found = self._known.get(folder)
        if found is None:
            found = self._known[folder] = self._reader.walker.names(folder, _MOST_NAMES)
        return found


def _named_by_others(service: Service, host: Host) -> set[str]:
    """Paths on the command lines of other services."""
    return {
        path.replace("/", "\\").casefold()
        for one in host.services
        if one.program is not None and one.name != service.name
        for path in one.program.paths
    }


def _beside(service: Service, names: _Names, shared: bool) -> list[str]:
    """Logs in the folder of the program, in a folder for logs there, and in that of its name among the data of programs."""
    assert service.program is not None
    place = PureWindowsPath(service.program.path)
    if _is_shared(place):
        return []
    data = f"{place.drive}\\ProgramData"
    folders = [str(place.parent), *(str(place.parent / name) for name in _FOLDERS_OF_LOGS)]
    own_names = (service.name,) if shared else (service.name, place.stem)
    folders += [f"{data}\\{name}{below}" for name in dict.fromkeys(own_names) for below in ("", "\\logs", "\\log")]
    found = []
    for folder in folders:
        beside = folder == str(place.parent) or (shared and folder.startswith(f"{place.parent}\\"))
        for name in names.of(folder):
            is_log = PureWindowsPath(name).suffix.lower() in _LOGS
            # Beside the program, where others may lie too, only what bears its name.
            if is_log and (not beside or _stem(name).startswith(tuple(one.casefold() for one in own_names))):
                found.append(f"{folder}\\{name}")
    return found


def _records(service: Service, reader: EvidenceReader, boot_at: datetime | None) -> list[Event]:
    """What its logs say since the boot, with which the numbers of failures begin anew; of several runs, the last."""
    last = service.last
    since = (last.started_at if last is not None else None) or boot_at
    assert service.program is not None
    found = []
    for path in service.program.log_files:
        text = reader.text(service, path, logs.TAIL_BYTES, from_end=True)
        if since is not None and text is not None and text.changed >= since and logs.is_text(text.text):
            found += logs.records_of(text, service.name, since)
            if len({event.source for event in found}) >= logs.MOST_FILES:
                break
    return found

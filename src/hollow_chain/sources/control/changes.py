"""What was changed lately on a host of the control-manager family: by the manager's and the installer's own records.

When a definition was last changed, the registry tells by its keys, which stand with the definitions.
"""

from __future__ import annotations

from hollow_chain.facts.change import LONGEST_AGO, Change, ChangeKind
from hollow_chain.reach.control import Declined, LogEntry
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.control.records import MANAGER
from hollow_chain.sources.log_files import SpokenNames
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording.secrets import mask_text

_MOST = 300
"""Records of each log that are read."""
_INSTALLER = "MsiInstaller"
_RETYPED, _MADE, _ASKED_TO_STOP = 7040, 7045, 7042
"""Records of the manager's: a startup type was changed, a service was made, a stop was asked for (its messages, as documented)."""
_PACKAGES = {1033: "installed", 11707: "installed", 1034: "removed", 11724: "removed", 1036: "upgraded"}
"""Records of the installer of packages, by their numbers."""


def add(reading: HostReading) -> None:
    """What the records tell, where somebody asks what was changed."""
    host, reached = reading.host, control(reading)
    since = reached.now() - LONGEST_AGO
    names = SpokenNames(host)
    try:
        told = [_of_manager(one, names) for one in reached.event_logs.entries("System", since, (MANAGER,), _MOST)]
        told += [_of_installer(one) for one in reached.event_logs.entries("Application", since, (_INSTALLER,), _MOST)]
    except Declined:
        return  # who reads the records says so
    host.changes = sorted((one for one in told if one is not None), key=lambda one: one.at)


def _of_manager(entry: LogEntry, names: SpokenNames) -> Change | None:
    words = [mask_text(word[:300]) for word in entry.inserted]
    name = names.named_in(words[0]) if words else ""
    if entry.number == _RETYPED and len(words) > 2:
        name = name or (words[3] if len(words) > 3 else words[0])
        return _change(entry, "startup", name, "given another startup type", words[1], words[2])
    if entry.number == _MADE and words:
        return _change(entry, "definition", name or words[0], "registered", "", words[1] if len(words) > 1 else "")
    if entry.number == _ASKED_TO_STOP and words:
        return _change(entry, "state", name or words[0], "asked to stop")
    return None


def _change(entry: LogEntry, kind: ChangeKind, name: str, did: str, before: str = "", after: str = "") -> Change:
    return Change(
        at=entry.at,
        kind=kind,
        what=name,
        did=did,
        services=[name],
        before=before,
        after=after,
        source="system event log",
    )


def _of_installer(entry: LogEntry) -> Change | None:
    did = _PACKAGES.get(entry.number)
    if did is None or not entry.inserted:
        return None
    version = entry.inserted[1] if len(entry.inserted) > 1 else ""
    return Change(
        at=entry.at,
        kind="package",
        what=mask_text(entry.inserted[0][:200]),
        did=did,
        after=mask_text(version[:60]),
        source="application event log",
    )

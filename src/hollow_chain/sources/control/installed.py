"""What is installed on a host of the control-manager family: what installers register so that it can be removed again (the documented
key ``Uninstall``, of programs of both widths)."""

from __future__ import annotations

from hollow_chain.facts.host import Package
from hollow_chain.reach.control import Declined, Registry
from hollow_chain.sources.control.definitions import text_of
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording.secrets import mask_text

_PLACES = (
    "SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Uninstall",
    "SOFTWARE\\WOW6432Node\\Microsoft\\Windows\\CurrentVersion\\Uninstall",
)
_MOST = 5_000
"""Installed programs that are read."""


def add(reading: HostReading) -> None:
    """The packages of a host, each once."""
    registry = control(reading).registry
    found = {(one.name, one.version): one for place in _PLACES for one in _below(registry, place)}
    reading.host.packages += [found[key] for key in sorted(found)]


def _below(registry: Registry, place: str) -> list[Package]:
    try:
        names = registry.key(place).below[:_MOST]
    except Declined:
        return []  # nothing was ever installed there
    paths = [f"{place}\\{name}" for name in names]
    registry.expect(paths)
    found = []
    for path, own in zip(paths, names, strict=True):
        try:
            key = registry.key(path)
        except Declined:
            continue
        name = text_of(key, "DisplayName") or own
        found.append(Package(name=mask_text(name[:200]), version=mask_text(text_of(key, "DisplayVersion")[:200])))
    return found

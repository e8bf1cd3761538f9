"""The readers of hosts, by family: each family's are loaded when such a host is read. A new family is a line here and a folder."""

from __future__ import annotations

from collections.abc import Callable

from hollow_chain.facts.host import Manager
from hollow_chain.families import CONTROL, SYSTEMD
from hollow_chain.sources.reading import FamilyReaders


def _systemd() -> FamilyReaders:
    from hollow_chain.sources.systemd.readers import READERS

    return READERS


def _control() -> FamilyReaders:
    from hollow_chain.sources.control.readers import READERS

    return READERS


FAMILY_READERS: dict[str, Callable[[], FamilyReaders]] = {SYSTEMD.name: _systemd, CONTROL.name: _control}


def readers_of(family: Manager) -> FamilyReaders:
    """The readers that make up a host of that family."""
    return FAMILY_READERS[family]()

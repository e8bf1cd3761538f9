"""Reading a live host: one reader after the other, each a small function from what is reached to facts."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import NamedTuple

from hollow_chain.facts.host import Host, Snapshot, snapshot
from hollow_chain.facts.service import Service
from hollow_chain.reach.handles import Walker
from hollow_chain.reach.interfaces import Processes, Reached
from hollow_chain.sources.asked import Asked
from hollow_chain.sources.evidence_files import EvidenceReader
from hollow_chain.sources.looks import Looker


class HostReading:
    """One reading of one host under way: how it is reached, what is wanted, and the facts so far."""

    def __init__(self, reached: Reached, asked: Asked, family: FamilyReaders) -> None:
        self.reached, self.asked = reached, asked
        self.host = Host(
            name=reached.name,
            manager=reached.family,
            read_at=reached.now(),
            architecture=reached.architecture,
            cores=reached.cores,
            machine=reached.machine,
        )
        self._family = family
        self.closely: frozenset[str] = frozenset(asked.extra)
        """Services that are looked at closely, whether or not they are well."""
        self.chosen: frozenset[str] = frozenset()
        """Those of which all is wanted: past starts, what they take of the host, every file of their own."""

    def service_of(self, process: int) -> str:
        """The service that a process belongs to; empty where it is none's."""
        return self._family.unit_of(process, self.reached.processes)

    @cached_property
    def evidence(self) -> EvidenceReader:
        """What reads the files of services."""
        return self._family.evidence(self.reached)

    @property
    def walker(self) -> Walker:
        """What finds and reads files of the system."""
        return self.evidence.walker

    @cached_property
    def looker(self) -> Looker:
        """What looks at paths, each once."""
        return Looker(self.reached)

    def close(self) -> None:
        """Let go of the folders that were come through."""
        self.evidence.close()
        if "looker" in self.__dict__:
            self.looker.close()


class Reader(NamedTuple):
    """One step of a reading."""

    read: Callable[[HostReading], None]
    beside: bool = False
    """Whether it asks nothing of the manager, so that it runs while the manager is being asked; it may then not look at the facts
    of others."""
    wanted: Callable[[Asked], bool] = lambda asked: True


class FamilyReaders(NamedTuple):
    """All that it takes to read a host of one family of service managers."""

    readers: Sequence[Reader]
    """In their order."""
    unit_of: Callable[[int, Processes], str]
    """The service that a process belongs to, as far as the process itself tells."""
    evidence: Callable[[Reached], EvidenceReader] = EvidenceReader
    """What reads the files of services."""


def read(reached: Reached, family: FamilyReaders, asked: Asked, written_by: str = "") -> Snapshot:
    """The facts of a host.

    Raises :class:`~hollow_chain.trouble.Trouble` where its manager cannot be asked.
    """
    reading = HostReading(reached, asked, family)
    wanted = [reader for reader in family.readers if reader.wanted(asked)]
    beside = _Beside(reading, [reader for reader in wanted if reader.beside])
    in_turn = [reader for reader in wanted if not reader.beside]
    beside.start()
    try:
        in_turn[0].read(reading)
    finally:
        beside.join()  # a thread that is still reading when the interpreter ends may crash it
    beside.settle()
    try:
        if asked.closely is not None:
            reading.chosen = frozenset(asked.closely(reading.host))
            reading.closely |= reading.chosen
        reading.host.observed = list(asked.observed) or None
        if asked.supposed is not None:
            _suppose(reading, asked.supposed(reading.host, reading.looker.look))
        for reader in in_turn[1:]:
            reader.read(reading)
    finally:
        reading.close()
    return snapshot([reading.host], written_by)


def _suppose(reading: HostReading, new: Service) -> None:
    """Have *new* looked at with the others, unless there is one of that name."""
    known = {name for service in reading.host.services for name in (service.name, *service.aliases)}
    if new.name not in known:
        reading.host.services.append(new)


class _Beside(threading.Thread):
    """Reads what does not come from the manager while the manager is being asked."""

    def __init__(self, reading: HostReading, readers: Sequence[Reader]) -> None:
        super().__init__(daemon=True)
        self._reading, self._readers = reading, readers
        self._error: BaseException | None = None

    def run(self) -> None:
        try:
            for reader in self._readers:
                reader.read(self._reading)
        except BaseException as error:
            self._error = error

    def settle(self) -> None:
        """Raise here what went wrong there."""
        if self._error is not None:
            raise self._error

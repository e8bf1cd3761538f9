"""The readers that make up a systemd host, in their order. A new source is a line here and a module."""

from __future__ import annotations

from hollow_chain.sources import (
    certificates,
    claims,
    filesystems,
    licenses,
    looking,
    own_words,
    packages,
    sockets,
    upkeep,
    versions,
)
from hollow_chain.sources.reading import FamilyReaders, Reader
from hollow_chain.sources.systemd import (
    changes,
    conditions,
    deserted,
    groups,
    halted,
    records,
    socket_units,
    units,
    usage,
)

READERS = FamilyReaders(
    readers=(
        Reader(sockets.add, beside=True),
        Reader(sockets.add_adapters, beside=True),
        Reader(units.add),
        Reader(deserted.add),
        Reader(halted.add),
        Reader(filesystems.add),
        Reader(socket_units.name_holders),
        Reader(records.add),
        Reader(own_words.add),
        Reader(deserted.settle),
        Reader(upkeep.add),
        Reader(licenses.add),
        Reader(looking.look),
        Reader(certificates.add),
        Reader(socket_units.add_paths),
        Reader(conditions.add),
        Reader(looking.add_holders),
        Reader(looking.add_files),
        Reader(looking.add_accounts),
        Reader(looking.add_processes),
        Reader(socket_units.add_claims, wanted=lambda asked: asked.with_claims),
        Reader(claims.add_to_all, wanted=lambda asked: asked.with_claims),
        Reader(claims.add_to_asked, wanted=lambda asked: bool(asked.extra) and not asked.with_claims),
        Reader(usage.add, wanted=lambda asked: asked.closely is not None),
        Reader(changes.add),
        Reader(packages.add, wanted=lambda asked: asked.with_packages),
        Reader(versions.add, wanted=lambda asked: asked.with_versions),
    ),
    unit_of=groups.unit_of,
)
"""What a host is read by. The first that is not read beside the others asks the manager; records need services, a service's own
words need its records, looks need what all of these name, and the processes behind locks need the looks."""

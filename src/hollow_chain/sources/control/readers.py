"""The readers that make up a host of the control-manager family, in their order. A new source is a line here and a module."""

from __future__ import annotations

from hollow_chain.sources import filesystems, licenses, sockets
from hollow_chain.sources.control import (
    accounts,
    changes,
    environment,
    firewall,
    holders,
    installed,
    looks,
    own_words,
    progress,
    records,
    services,
)
from hollow_chain.sources.control.evidence import ControlEvidenceReader
from hollow_chain.sources.reading import FamilyReaders, Reader

READERS = FamilyReaders(
    readers=(
        Reader(holders.add_sockets, beside=True),
        Reader(sockets.add_adapters, beside=True),
        Reader(services.add),
        Reader(environment.add),
        Reader(filesystems.add),
        Reader(holders.name_holders),
        Reader(records.add),
        Reader(own_words.add_told_claims),
        Reader(own_words.add),
        Reader(licenses.add),
        Reader(looks.look),
        Reader(accounts.add),
        Reader(firewall.add, wanted=lambda asked: asked.with_claims),
        Reader(own_words.add_claims, wanted=lambda asked: asked.with_claims),
        Reader(changes.add, wanted=lambda asked: asked.with_changes or asked.closely is not None),
        Reader(installed.add, wanted=lambda asked: asked.with_versions),
        Reader(progress.settle),
    ),
    unit_of=lambda process, processes: "",
    evidence=ControlEvidenceReader,
)
"""What a host is read by. The first that is not read beside the others asks the manager; who holds a socket is told by the services,
their own words need the records, looks need what all of these name, and what was under way is looked at again at the end."""

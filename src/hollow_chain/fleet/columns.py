"""The tables of the index: a row a reading, and a row a service of it. Documented in ``docs/fleet.md``; columns may be added, none changes
its meaning."""

from __future__ import annotations

from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

with needs(EXTRA, "an index of readings"):
    import pyarrow as pa

FORMAT = b"hollow-chain/readings-index"
VERSION = 1
FORMAT_KEY, VERSION_KEY, ROUNDS_KEY, REPLACES_KEY = b"format", b"version", b"rounds", b"replaces"
"""Keys of the metadata of each file: the rounds that it holds, and the files whose place it has taken, both as lists in JSON."""
_MOMENT = pa.timestamp("us", tz="UTC")
CAUSE = pa.struct(
    [
        ("cause", pa.string()),
        ("host", pa.string()),
        ("service", pa.string()),
        ("confidence", pa.float32()),
        ("says", pa.string()),
    ]
)
"""A cause of what is wrong with a service, and where it sits."""
HOSTS = pa.schema(
    [
        ("round", pa.string()),
        ("kept_at", _MOMENT),
        ("host", pa.string()),
        ("read", pa.bool_()),
        ("why", pa.string()),
        ("file", pa.string()),
        ("read_at", _MOMENT),
        ("boot_at", _MOMENT),
        ("family", pa.string()),
        ("system", pa.string()),
        ("architecture", pa.string()),
        ("cores", pa.int32()),
        ("memory_bytes", pa.int64()),
        ("container", pa.bool_()),
        ("clock_offset", pa.float64()),
        ("default_target", pa.string()),
        ("reboot_due", pa.string()),
        ("machine", pa.string()),
        ("groups", pa.list_(pa.string())),
        ("packages", pa.string()),
        ("hangs_on", pa.list_(pa.string())),
        ("services", pa.int32()),
        ("unwell", pa.int32()),
        ("down_after_boot", pa.int32()),
        ("failing_since", _MOMENT),
        ("unread", pa.list_(pa.string())),
    ]
)
"""One row a reading. ``read`` is false of a host that was asked and could not be read, and ``why`` says why; ``packages`` names the set of
them that is installed; ``unwell`` counts the services that are not well or that depend on one that is not."""
PACKAGES = pa.schema([("packages", pa.string()), ("package", pa.list_(pa.string()))])
"""One row a set of installed packages, which most hosts of a kind share: what it is called in the table of readings, and the packages,
names and versions with a blank between."""
SERVICES = pa.schema(
    [
        ("round", pa.string()),
        ("host", pa.string()),
        ("service", pa.string()),
        ("read_at", _MOMENT),
        ("family", pa.string()),
        ("kind", pa.string()),
        ("title", pa.string()),
        ("state", pa.string()),
        ("startup", pa.string()),
        ("standing", pa.string()),
        ("result", pa.string()),
        ("failing_since", _MOMENT),
        ("definition", pa.string()),
        ("configuration", pa.string()),
        ("program", pa.string()),
        ("program_size", pa.int64()),
        ("program_changed_at", _MOMENT),
        ("account", pa.string()),
        ("ports", pa.list_(pa.string())),
        ("needs", pa.list_(pa.string())),
        ("start_limit", pa.float64()),
        ("stop_limit", pa.float64()),
        ("memory_limit", pa.int64()),
        ("restart", pa.string()),
        ("begun_after", pa.float64()),
        ("up_after", pa.float64()),
        ("down_after_boot", pa.bool_()),
        ("causes", pa.list_(CAUSE)),
    ]
)
"""One row a service. ``standing``: ``up``, ``not yet``, ``idle``, ``down``, ``unstable``; ``definition`` and ``configuration`` are
digests; limits are seconds and bytes, -1 for none; ``begun_after`` and ``up_after`` are seconds after the boot; ``causes`` come the
surest first."""

"""A survey as a table in Parquet: a row a host."""

from __future__ import annotations

from hollow_chain.fleet.surveying import Survey
from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

with needs(EXTRA, "a table"):
    import pyarrow as pa
    import pyarrow.parquet as pq

_MOMENT = pa.timestamp("us", tz="UTC")
COLUMNS = pa.schema(
    [
        ("host", pa.string()),
        ("stands", pa.string()),
        ("read_at", _MOMENT),
        ("since", _MOMENT),
        ("services", pa.list_(pa.string())),
        ("causes", pa.list_(pa.string())),
        ("why", pa.string()),
        ("groups", pa.list_(pa.string())),
        ("family", pa.string()),
        ("system", pa.string()),
    ]
)
"""``services`` are those that are not well; ``causes`` the causes that sit on the host, as ``cause on service``."""


def table_bytes(survey: Survey) -> bytes:
    """The table as a file."""
    causes: dict[str, list[str]] = {}
    for one in survey.causes:
        for host in one.hosts:
            causes.setdefault(host, []).append(f"{one.cause} on {one.service}")
    rows = [
        {
            "host": line.host,
            "stands": line.stands,
            "read_at": line.read_at,
            "since": line.since,
            "services": line.services,
            "causes": causes.get(line.host, []),
            "why": line.why,
            "groups": line.groups,
            "family": line.family,
            "system": line.system,
        }
        for line in survey.lines
    ]
    sink = pa.BufferOutputStream()
    pq.write_table(pa.Table.from_pylist(rows, COLUMNS), sink, compression="zstd")
    return bytes(sink.getvalue())

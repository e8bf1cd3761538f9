"""``capture``: this machine's facts into a snapshot file."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from hollow_chain.cli import common, finding


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("capture")(capture)


def capture(
    out: Annotated[
        Path | None,
        typer.Option(
            "--out", help="File to write; - for standard output. Default: HOST.json here.", show_default=False
        ),
    ] = None,
    source: common.From = None,
    host: common.HostName = "",
    logs: common.Logs = None,
    columns: common.Columns = "",
    json: common.Json = False,
) -> int:
    """Write a host's facts into a snapshot file, secrets masked; nothing leaves the machine."""
    snapshot = common.load(source, with_claims=True, logs=logs, columns=columns, host=host)

    from hollow_chain.facts.codec import encode

    if host:
        from hollow_chain.chain import Graph

        kept = finding.hosts_named(Graph(snapshot), host)
        snapshot.hosts = [h for h in snapshot.hosts if h.name in kept]
    if source:
        from hollow_chain.wording.secrets import mask_snapshot

        mask_snapshot(snapshot)
    data = encode(snapshot)
    if str(out) == "-":
        common.put(data.decode().rstrip("\n"))
        return 0
    path = out or Path(f"{_file_name(snapshot.hosts[0].name)}.json")
    common.write_private(path, data, named=out is not None)
    from hollow_chain.wording.secrets import count_masks

    masked = count_masks(data)
    counts = {
        "hosts": len(snapshot.hosts),
        "services": sum(len(h.services) for h in snapshot.hosts),
        "records": sum(len(h.events) for h in snapshot.hosts),
    }
    if json:
        from hollow_chain.show.documents import capture_document, to_json

        common.put(to_json(capture_document(snapshot, str(path), counts, masked)))
        return 0
    for item in (item for h in snapshot.hosts for item in h.unread):
        common.warn(f"not read: {item.what}{f' ({item.why})' if item.why else ''}")
    from hollow_chain.show.clean import clean

    said = ", ".join(f"{number} {word if number != 1 else word[:-1]}" for word, number in counts.items() if number)
    common.put(f"wrote {clean(str(path))}: {said}, {len(data) / 1024:.0f} KiB; {_masked_words(masked)}")
    return 0


def _masked_words(masked: int) -> str:
    if not masked:
        return "nothing in it looked like a secret: read it before you hand it on"
    return f"{masked} secret{'s are' if masked != 1 else ' is'} masked in it: read it before you hand it on"


def _file_name(host: str) -> str:
    return "".join(c if c.isalnum() or c in "-_." else "_" for c in host)[:100].lstrip(".") or "host"

"""``capture``: this machine's facts into a snapshot file."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, finding, fleeting
from hollow_chain.trouble import FACTS_UNREADABLE, Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.facts import Snapshot

    _Keeper = Callable[[Snapshot, dict[str, list[str]], bool], int]


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("capture")(capture)


def capture(
    out: Annotated[
        str,
        typer.Option(
            "--out",
            help="File to write; - for standard output; of several hosts a folder, a file for each. Default: HOST.json here.",
            show_default=False,
        ),
    ] = "",
    source: common.From = None,
    host: common.HostName = "",
    logs: common.Logs = None,
    columns: common.Columns = "",
    compress: Annotated[bool, typer.Option("--compress", help="Compress what is written (gzip).")] = False,
    keep: Annotated[
        str,
        typer.Option(
            "--keep",
            help="Add it to a store of readings instead: a folder, or an address of fsspec; see 'hollow-chain keep'.",
            show_default=False,
        ),
    ] = "",
    on: fleeting.On = "",
    at_once: common.AtOnce = common.AT_ONCE,
    within: common.Within = common.WITHIN,
    json: common.Json = False,
) -> int:
    """Write facts into a snapshot file, secrets masked: of this machine, or of the hosts that --from names.

    With --keep a reading of each host is added to a store, with what is wrong on it: see 'survey' and 'drift'.
    Exit status 3 where one of several hosts could not be read; those that could are written all the same.
    """
    keeper = _keeper(keep, on, out, compress)
    groups: dict[str, list[str]] = {}
    snapshot = common.load(
        source,
        with_claims=True,
        logs=logs,
        columns=columns,
        host=host,
        at_once=at_once,
        within=within,
        with_versions=keeper is not None,
        groups=groups,
    )

    if host:
        from hollow_chain.chain import Graph

        kept = finding.hosts_named(Graph(snapshot), host)
        snapshot.hosts = [h for h in snapshot.hosts if h.name in kept]
    if source:
        from hollow_chain.wording.secrets import mask_snapshot

        mask_snapshot(snapshot)
    if keeper is not None:
        return keeper(snapshot, groups, json)

    from hollow_chain.facts.codec import encode

    if out == "-":
        data = encode(snapshot)
        if compress:
            common.put_bytes(packed(data))
        else:
            common.put(data.decode().rstrip("\n"))
        return _status(snapshot)
    from hollow_chain.wording.secrets import count_masks

    masked, size, written = 0, 0, []
    for part, path in _parts(snapshot, out, compress):
        data = encode(part)
        masked += count_masks(data)
        data = packed(data) if compress else data
        size += len(data)
        common.write_private(path, data, named=bool(out))
        written.append(str(path))
    counts = {
        "hosts": len(snapshot.hosts),
        "services": sum(len(h.services) for h in snapshot.hosts),
        "records": sum(len(h.events) for h in snapshot.hosts),
    }
    place = written[0] if len(written) == 1 else out
    if json:
        from hollow_chain.show.documents import capture_document, to_json

        common.put(to_json(capture_document(snapshot, place, counts, masked) | {"files": written}))
        return _status(snapshot)
    for host_of, item in ((h, item) for h in snapshot.hosts for item in h.unread):
        where = f"{host_of.name}: " if len(snapshot.hosts) > 1 else ""
        common.warn(f"{where}not read: {item.what}{f' ({item.why})' if item.why else ''}")
    from hollow_chain.show.clean import clean

    said = ", ".join(f"{number} {word if number != 1 else word[:-1]}" for word, number in counts.items() if number)
    common.put(f"wrote {clean(place)}: {said}, {size / 1024:.0f} KiB; {_masked_words(masked)}")
    return _status(snapshot)


def _keeper(named: str, on: str, out: str, compress: bool) -> _Keeper | None:
    """What keeps a reading; made before any host is asked, so that a wrong store costs nobody anything."""
    if not named:
        if on:
            raise wrong_call("--on says who diagnoses what is kept: name a store with --keep")
        return None
    if out or compress:
        raise wrong_call("--keep adds to a store, whose files have names of their own: leave out --out and --compress")
    from hollow_chain.sources.readings import open_store

    spread = fleeting.spread(on, "a store of readings")
    store = open_store(named, make=True)

    def kept(snapshot: Snapshot, groups: dict[str, list[str]], json: bool) -> int:
        from datetime import UTC, datetime

        from hollow_chain.fleet.keeping import keep_round

        with fleeting.Working() as told:
            done = keep_round(store, snapshot, groups, datetime.now(UTC), spread, told)
        for line in done.troubles:
            common.warn(line)
        if json:
            from hollow_chain.show.documents import to_json
            from hollow_chain.show.fleet import kept_document

            common.put(to_json(kept_document(store.said, done, len(snapshot.unreached))))
        else:
            from hollow_chain.show.clean import clean
            from hollow_chain.wording.counts import counted

            said = f"{counted(done.hosts, 'reading')}, {done.bytes / 1024:.0f} KiB"
            common.put(f"kept in {clean(store.said)}: {said}; {len(snapshot.unreached)} not read")
        return _status(snapshot)

    return kept


def packed(data: bytes) -> bytes:
    """*data* compressed; equal data give equal bytes."""
    import gzip

    return gzip.compress(data, 6, mtime=0)


def _status(snapshot: Snapshot) -> int:
    return FACTS_UNREADABLE if snapshot.unreached else 0


def _parts(snapshot: Snapshot, out: str, compress: bool) -> Iterator[tuple[Snapshot, Path]]:
    """What goes into which file: all into one, or each host into one of its own where *out* is a folder."""
    end = ".json.gz" if compress else ".json"
    path = Path(out) if out else None
    is_folder = path is not None and (
        path.is_dir() or out.endswith(("/", "\\")) or (len(snapshot.hosts) > 1 and not path.suffix)
    )
    if path is not None and not is_folder:
        yield snapshot, path
        return
    if path is None and len(snapshot.hosts) == 1:
        yield snapshot, Path(f"{_file_name(snapshot.hosts[0].name)}{end}")
        return
    if path is None:
        raise wrong_call(
            f"there are {len(snapshot.hosts)} hosts; name a folder for their files, or one file, with --out"
        )
    try:
        path.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError as error:
        raise Trouble(f"cannot make the folder {path}: {(error.strerror or str(error)).lower()}") from None
    import msgspec

    taken: set[str] = set()
    for host in snapshot.hosts:
        name, number = _file_name(host.name), 2
        while name in taken:
            name, number = f"{_file_name(host.name)}-{number}", number + 1
        taken.add(name)
        alone = msgspec.structs.replace(snapshot, hosts=[host], unreached=[])
        yield alone, path / f"{name}{end}"


def _masked_words(masked: int) -> str:
    if not masked:
        return "nothing in it looked like a secret: read it before you hand it on"
    return f"{masked} secret{'s are' if masked != 1 else ' is'} masked in it: read it before you hand it on"


def _file_name(host: str) -> str:
    return "".join(c if c.isalnum() or c in "-_." else "_" for c in host)[:100].lstrip(".") or "host"

"""The program's own log file: found from facts, read from its end, bounded, masked."""

from __future__ import annotations

import os
import re
from datetime import UTC, datetime, timedelta
from pathlib import Path

from hollow_chain.facts.host import Event
from hollow_chain.facts.mask import mask_text
from hollow_chain.facts.service import Service

TAIL_BYTES = 16 << 10
MOST_LINES = 25
MOST_FILES = 4
_STAMP = re.compile(r"(\d{4})[-/](\d\d)[-/](\d\d)[ T](\d\d):(\d\d):(\d\d)")
_LEVEL = re.compile(r"(?i)\b(emerg(?:ency)?|alert|crit(?:ical)?|fatal|panic|err(?:or)?|warn(?:ing)?|notice|info)\b")
_LEVELS = {"emerg": "emergency", "aler": "alert", "crit": "critical", "fata": "critical", "pani": "critical", "err": "error",
           "warn": "warning", "noti": "notice", "info": "info"}  # fmt: skip


def own_records(service: Service, named: list[str]) -> list[Event]:
    """What the log files of *service* say since its last start was tried.

    *named* are the files that its definition, arguments or configuration name as logs; to these come the files in
    the log folder of its name. A file that was not written since the last start says nothing about it.
    """
    since = service.last.started_at if service.last else None
    if since is None:
        return []
    found: list[Event] = []
    for path in _candidates(service, named):
        try:
            changed = datetime.fromtimestamp(path.stat().st_mtime, UTC)
        except OSError:
            continue
        if changed >= since - timedelta(seconds=2):
            found += _tail(path, service.name, since, changed)
            if len({event.source for event in found}) >= MOST_FILES:
                break
    return found


def _candidates(service: Service, named: list[str]) -> list[Path]:
    stem = service.name.rpartition(".")[0].partition("@")[0]
    program = service.program.path.rpartition("/")[2] if service.program else ""
    folders = [Path("/var/log") / name for name in dict.fromkeys((stem, program, stem.removesuffix("-server"))) if name]
    near: list[Path] = []
    for folder in folders:
        try:
            near += sorted((p for p in folder.iterdir() if p.is_file()), key=lambda p: -p.stat().st_mtime)[:MOST_FILES]
        except OSError:
            continue
    chosen = [Path(path) for path in named if path.startswith("/")] + near
    return [path for path in dict.fromkeys(chosen) if path.suffix not in (".gz", ".xz", ".zst") and path.is_file()]


def _tail(path: Path, service: str, since: datetime, changed: datetime) -> list[Event]:
    try:
        with path.open("rb") as file:
            file.seek(max(0, os.fstat(file.fileno()).st_size - TAIL_BYTES))
            lines = file.read(TAIL_BYTES).decode("utf-8", "replace").splitlines()
    except OSError:
        return []
    found: list[Event] = []
    for line in lines[-MOST_LINES:]:
        at = moment_of(line)
        if not line.strip() or (at is not None and at < since - timedelta(seconds=2)):
            continue
        level = _LEVEL.search(line[:120])
        found.append(
            Event(
                at=min(at, changed) if at else changed,
                text=mask_text(line[:1000]),
                service=service,
                source=f"log file {path}",
                level=next(
                    (word for start, word in _LEVELS.items() if level and level[1].lower().startswith(start)), ""
                ),
            )
        )
    return found


def moment_of(line: str) -> datetime | None:
    """The time stamp at the head of a line, taken as local time where it names no zone."""
    stamp = _STAMP.search(line[:80])
    if stamp is None:
        return None
    try:
        return datetime(*map(int, stamp.groups())).astimezone(UTC)  # type: ignore[arg-type]
    except (ValueError, OverflowError, OSError):
        return None

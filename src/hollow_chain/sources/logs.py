"""The program's own log file: found from facts, read from its end, bounded, masked."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hollow_chain.facts.habits import names_of
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Service
from hollow_chain.lazy import pattern
from hollow_chain.sources.evidence_files import EvidenceReader, Text
from hollow_chain.sources.logs_unnamed import written
from hollow_chain.wording.structured import spoken, uncolored

TAIL_BYTES = 16 << 10
MOST_LINES = 25
MOST_FILES = 4
"""What is read of a service's own logs: the ends of a few files, and as many lines as a program writes in a failed start."""
_MOST_OF_LINE = 1000
"""Characters of a line that are kept."""
_STAMP = pattern(r"(\d{4})[-/](\d\d)[-/](\d\d)[ T](\d\d):(\d\d):(\d\d)")
_LEVEL = pattern(r"(?i)\b(emerg(?:ency)?|alert|crit(?:ical)?|fatal|panic|err(?:or)?|warn(?:ing)?|notice|info)\b")
_LEVELS = {"emerg": "emergency", "aler": "alert", "crit": "critical", "fata": "critical", "pani": "critical", "err": "error",
           "warn": "warning", "noti": "notice", "info": "info"}  # fmt: skip


def own_records(service: Service, named: list[str], reader: EvidenceReader) -> list[Event]:
    """What the log files of *service* say since its last start was tried.

    *named* are the files that its definition, arguments or configuration name as logs; to these come the files in
    the log folder of its name. A file that was not written since the last start says nothing about it.
    """
    since = service.last.started_at if service.last else None
    if since is None:
        return []
    found: list[Event] = []
    for path in _candidates(service, named, reader):
        text = reader.text(service, path, TAIL_BYTES, from_end=True)
        if text is not None and text.changed >= since - timedelta(seconds=2) and is_text(text.text):
            found += records_of(text, service.name, since)
            if len({event.source for event in found}) >= MOST_FILES:
                break
    return found


_OTHERS_IN_TEXT = 0.02
"""Share of signs that no text has, up to which it is one: a name in another encoding stands in many logs."""


def is_text(text: str) -> bool:
    """Whether it is text at all: what lies in a log folder may be a data base."""
    odd = sum(text.count(sign) for sign in "\0\ufffd")
    return "\0\0" not in text and odd <= _OTHERS_IN_TEXT * len(text)


def _candidates(service: Service, named: list[str], reader: EvidenceReader) -> list[str]:
    account = service.account.user if service.account else ""
    near: list[tuple[float, str]] = []
    for name in (name for name in names_of(service) if name != account):
        folder = f"/var/log/{name}"
        paths = [f"{folder}/{one}" for one in reader.walker.names(folder)]
        reader.walker.expect(paths)
        near += [(written(reader, path) or 0.0, path) for path in paths]
    latest = [path for _, path in sorted(near, reverse=True)[: MOST_FILES * 3]]
    chosen = [path for path in named if path.startswith("/")] + latest
    return [path for path in dict.fromkeys(chosen) if not path.endswith((".gz", ".xz", ".zst"))]


def records_of(text: Text, service: str, since: datetime) -> list[Event]:
    """The last lines of a log, as records of *service*; those before *since* are left out."""
    lines = uncolored(text.text).splitlines()
    found: list[Event] = []
    for line in lines[-MOST_LINES:] if text.whole else lines[1:][-MOST_LINES:]:
        at = moment_of(line)
        if not line.strip() or (at is not None and at < since - timedelta(seconds=2)):
            continue
        said = spoken(line, _MOST_OF_LINE)
        found.append(
            Event(
                at=min(at, text.changed) if at else text.changed,
                text=said.text,
                service=service,
                source=f"log file {text.path}",
                level=said.level or _level_in(line),
                trust=text.trust,
            )
        )
    return found


def _level_in(line: str) -> str:
    level = _LEVEL.search(line[:120])
    return next((word for start, word in _LEVELS.items() if level and level[1].lower().startswith(start)), "")


def moment_of(line: str) -> datetime | None:
    """The time stamp at the head of a line, taken as local time where it names no zone."""
    stamp = _STAMP.search(line[:80])
    if stamp is None:
        return None
    try:
        return datetime(*map(int, stamp.groups())).astimezone(UTC)  # type: ignore[arg-type]
    except (ValueError, OverflowError, OSError):
        return None

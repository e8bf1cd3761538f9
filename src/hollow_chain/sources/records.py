"""Log files of other hosts as records: syslog (RFC 5424, RFC 3164), JSON lines, CSV. Bytes in, records out; no disk here.

A column or key is known by a name of general use, or by a mapping that the caller gives.
"""

from __future__ import annotations

import csv
import itertools
import re
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any

import msgspec

from hollow_chain.facts.host import Event
from hollow_chain.lazy import pattern
from hollow_chain.sources.text_bytes import text_of
from hollow_chain.trouble import Trouble
from hollow_chain.wording.secrets import mask_texts
from hollow_chain.wording.structured import level_of_word

MAX_TEXT = 2000
"""Characters of a record that are kept: what it is about stands in its first sentences, and rules read each many times."""
MAX_LINE = 1 << 16
"""Characters of one line that are read; a record in JSON may carry much beside its text."""
_TOGETHER = 256
"""Records that are looked through for secrets together: a word that is in none of them is then sought once."""
PARTS = ("at", "text", "service", "level", "number", "host", "process")
_NAMES = {
    "at": ("at", "time", "timestamp", "@timestamp", "ts", "date", "datetime", "date and time", "__realtime_timestamp", "t"),
    "text": ("text", "message", "msg", "description", "event", "log", "line"),
    "service": ("service", "unit", "_systemd_unit", "source", "provider", "program", "app", "appname", "logger", "syslog_identifier",
                "process name", "component"),
    "level": ("level", "severity", "lvl", "priority", "loglevel"),
    "number": ("number", "error", "error number", "errno", "error code", "status", "code", "event_id", "event id", "id"),
    "host": ("host", "hostname", "computer", "machine", "_hostname"),
    "process": ("process", "pid", "process id", "_pid", "procid"),
}  # fmt: skip
_SEVERITIES = ("emergency", "alert", "critical", "error", "warning", "notice", "info", "debug")
"""Severities of syslog by number (RFC 5424, 6.2.1)."""
_RFC5424 = pattern(
    r"^<(?P<pri>\d{1,3})>1 (?P<at>\S+) (?P<host>\S+) (?P<service>\S+) (?P<process>\S+) \S+ (?P<rest>.*)$", re.DOTALL
)
_STRUCTURED = pattern(r'^(?:-|(?:\[(?:[^\]"\\]|\\.|"(?:[^"\\]|\\.)*")*\])+) ?')
_RFC3164 = pattern(
    r"^(?:<(?P<pri>\d{1,3})>)?(?P<at>[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d|\d{4}-\d\d-\d\dT\S+) (?P<host>\S+) "
    r"(?P<service>[^\s:\[]{1,64})(?:\[(?P<process>\d{1,9})\])?: ?(?P<text>.*)$",
    re.DOTALL,
)
_NUMBER_SAID = pattern(r"(?i)%%(\d{1,5})\b|\berror(?: code| number)?[ :=#]+(?:0x0{0,4})?(\d{1,5})\b")


class RecordError(Trouble):
    """The log is not one that can be read; the text says where and why (exit status 3)."""


class Columns(msgspec.Struct, frozen=True):
    """Which column or key holds which part of a record, and how moments are written where that is not a standard form."""

    names: dict[str, str] = msgspec.field(default_factory=dict)
    moment_form: str = ""

    @classmethod
    def parsed(cls, text: str) -> Columns:
        """From ``at=Date and time,text=What``; a form of moments may follow after a bar: ``at=When|%d.%m.%Y %H:%M:%S``.

        Raises :class:`ValueError` with the reason.
        """
        names: dict[str, str] = {}
        form = ""
        for word in filter(None, (part.strip() for part in text.split(","))):
            part, equals, column = word.partition("=")
            if not equals or part.strip() not in PARTS or not column.strip():
                raise ValueError(f"{word!r} is not PART=COLUMN; the parts are {', '.join(PARTS)}")
            column, _, its_form = column.partition("|")
            names[part.strip()] = column.strip()
            form = its_form or form
        return cls(names, form)


class LogRecord(msgspec.Struct, frozen=True, gc=False):
    """One record with the host that it names, if any."""

    event: Event
    host: str = ""


def read(data: bytes, source: str, columns: Columns, year_of: datetime) -> Iterator[LogRecord]:
    """The records of a log in any of the known forms; *year_of* is when it was last written, for stamps without a year.

    One at a time: a log of short lines would take twenty times its size as a list. Raises :class:`RecordError` where the form is
    not known, or no line of it can be read.
    """
    text = _text(data)
    first = next(_lines(text), "")
    if not first:
        return
    form = _form(first, columns)
    found = form(_lines(text), source, columns, year_of)
    none = True
    while some := list(itertools.islice(found, _TOGETHER)):
        none = False
        for record, masked in zip(some, mask_texts([one.event.text for one in some]), strict=True):
            record.event.text = masked
            yield record
    if none:
        number = sum(1 for _ in _lines(text))
        raise RecordError(f"none of its {number} lines could be read as {form.__doc__ or 'records'}")


def _lines(text: str) -> Iterator[str]:
    """The lines of *text* that say something."""
    at = 0
    while at < len(text):
        end = text.find("\n", at)
        end = len(text) if end < 0 else end
        line = text[at:end].rstrip("\r")
        if line.strip():
            yield line[:MAX_LINE]
        at = end + 1


def _text(data: bytes) -> str:
    text = text_of(data)
    if "\0" in text[:4096]:
        raise RecordError("it is a binary file, not a log in text form")
    return text


Form = Callable[[Iterator[str], str, Columns, datetime], Iterator[LogRecord]]


def _form(first: str, columns: Columns) -> Form:
    if first.lstrip().startswith("{"):
        return _json_lines
    if _RFC5424.match(first) or _RFC3164.match(first):
        return _syslog
    cells = _cells(first)
    if len(cells) > 1 and (columns.names or {"at", "text"} <= set(_mapped(cells, columns))):
        return _csv
    raise RecordError(
        "line 1 is no syslog line (RFC 5424 or 3164), no JSON object, and no CSV heading with a column for time and text; "
        "name the columns of a CSV with --columns"
    )


def _mapped(names: list[str], columns: Columns) -> dict[str, str]:
    """Which of *names* holds which part."""
    found: dict[str, str] = {}
    folded = {name.strip().casefold(): name for name in reversed(names)}
    for part in PARTS:
        wanted = (columns.names[part].casefold(),) if part in columns.names else _NAMES[part]
        known = next((folded[name] for name in wanted if name in folded), None)
        if known is not None and known not in found.values():
            found[part] = known
    return found


def _json_lines(lines: Iterator[str], source: str, columns: Columns, year_of: datetime) -> Iterator[LogRecord]:
    """JSON lines"""
    for line in lines:
        try:
            entry = msgspec.json.decode(line)
        except (msgspec.DecodeError, RecursionError):
            continue
        if isinstance(entry, dict):
            keys = _mapped([key for key in entry if isinstance(key, str)], columns)
            record = _record({part: entry[key] for part, key in keys.items()}, source, columns)
            if record is not None:
                yield record


def _csv(lines: Iterator[str], source: str, columns: Columns, year_of: datetime) -> Iterator[LogRecord]:
    """CSV with a heading"""
    first = next(lines)
    rows = csv.reader((f"{line}\n" for line in itertools.chain([first], lines)), delimiter=_delimiter(first))
    try:
        heading = next(rows)
    except csv.Error as error:
        raise RecordError(f"line 1: {error}") from None
    known = _mapped(heading, columns)
    missing = [name for part, name in columns.names.items() if part not in known]
    if missing or not {"at", "text"} <= set(known):
        wanted = ", ".join(missing) or "a time and a text"
        raise RecordError(f"line 1: no column for {wanted}; there are: {', '.join(heading)[:200]}")
    places = {part: heading.index(name) for part, name in known.items()}
    try:
        for row in rows:
            cells = {part: row[place] for part, place in places.items() if place < len(row)}
            record = _record(cells, source, columns)
            if record is not None:
                yield record
    except csv.Error as error:
        raise RecordError(f"line {rows.line_num}: {error}") from None


def _delimiter(heading: str) -> str:
    return max(",;\t|", key=heading.count)


def _cells(line: str) -> list[str]:
    """The cells of a heading; none of what is no CSV (a carriage return in mid-line)."""
    try:
        return next(csv.reader([line], delimiter=_delimiter(line)), [])
    except csv.Error:
        return []


def _syslog(lines: Iterator[str], source: str, columns: Columns, year_of: datetime) -> Iterator[LogRecord]:
    """syslog lines"""
    for line in lines:
        found = _RFC5424.match(line) if line.startswith("<") else None
        if found:
            pri, at, host, service, process, text = found.groups()
            text = _STRUCTURED.sub("", text, count=1).lstrip("\ufeff")
        elif found := _RFC3164.match(line):
            pri, at, host, service, process, text = found.groups()
        else:
            continue
        moment = _moment(at, "", year_of)
        level = _SEVERITIES[int(pri) % len(_SEVERITIES)] if pri else ""
        record = _made(source, moment, text, _known(service), level, None, _known(process), _known(host))
        if record is not None:
            yield record


def _known(word: str | None) -> str:
    """A part of a line of RFC 5424, of which a dash says that it is not known."""
    return "" if word is None or word == "-" else word


def _record(parts: dict[str, Any], source: str, columns: Columns) -> LogRecord | None:
    moment = _moment(parts.get("at"), columns.moment_form)
    more = (parts.get(name) for name in ("service", "level", "number", "process", "host"))
    return _made(source, moment, parts.get("text"), *more)


def _made(
    source: str,
    moment: datetime | None,
    text: Any,
    service: Any = "",
    level: Any = "",
    number: Any = None,
    process: Any = None,
    host: Any = "",
) -> LogRecord | None:
    said = "" if text is None else str(text).strip()
    if moment is None or not said:
        return None
    event = Event(
        at=moment,
        text=said[:MAX_TEXT],
        service=str(service or "")[:200],
        source=source,
        level=_level(level) if level else "",
        number=number_in(said) or (None if number is None else _number(number)),
        process=_number(process) or 0 if process else 0,
    )
    return LogRecord(event, str(host or "")[:200])


def number_in(text: str) -> int | None:
    """The error number that a text speaks of; None where it speaks of none."""
    if "%%" not in text and "rror" not in text and "RROR" not in text:
        return None  # most lines: two looks are quicker than a search
    found = _NUMBER_SAID.search(text)
    return int(found[1] or found[2]) if found else None


_INTEGER = pattern(r"-?\d{1,15}")
_EPOCH = pattern(r"\d{9,17}(?:\.\d+)?")
_MONTH = pattern(r"[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d$")
_MONTHS = {
    name: at
    for at, name in enumerate(["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], 1)
}


def _number(value: Any) -> int | None:
    if value is None:
        return None
    digits = str(value).strip()
    return int(digits) if _INTEGER.fullmatch(digits) else None


def _level(value: Any) -> str:
    return _level_of(str(value or "").strip()[:40].lower())


@lru_cache(maxsize=64)
def _level_of(word: str) -> str:
    if len(word) == 1 and word in "01234567":
        return _SEVERITIES[int(word)]
    return level_of_word(word)


def _moment(value: Any, form: str, year_of: datetime | None = None) -> datetime | None:
    """A moment from its text or number; without a zone it is taken as UTC. None where it cannot be read."""
    text = str(value or "").strip()
    try:
        if form:
            return _zoned(datetime.strptime(text, form))
        if _EPOCH.fullmatch(text):
            return _of_epoch(float(text))
        if year_of is not None and _MONTH.match(text):
            return _without_year(text, year_of)
        return _zoned(datetime.fromisoformat(text.replace("/", "-", 2)))
    except (ValueError, KeyError, OverflowError, OSError):
        return None


def _of_epoch(number: float) -> datetime:
    """Seconds, milliseconds or microseconds since 1970, told apart by their size."""
    while number > 1e11:
        number /= 1000
    return datetime.fromtimestamp(number, UTC)


def _without_year(text: str, year_of: datetime) -> datetime:
    """A stamp of RFC 3164 in the last year in which it is not later than the log was written."""
    month, day, hour, minute, second = _MONTHS[text[:3]], *map(int, (text[4:6], text[7:9], text[10:12], text[13:15]))
    for year in (year_of.year, year_of.year - 1):
        try:
            found = datetime(year, month, day, hour, minute, second, tzinfo=UTC)
        except ValueError:  # the 29th of February
            continue
        if (found - year_of).total_seconds() < 86400:
            return found
    raise ValueError(text)


def _zoned(moment: datetime) -> datetime:
    return moment if moment.tzinfo else moment.replace(tzinfo=UTC)

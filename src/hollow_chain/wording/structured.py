"""Log lines that are JSON objects: their message, with what else they say of an error, as a line that the forms can read."""

from __future__ import annotations

from typing import Any, NamedTuple

import msgspec

from hollow_chain.lazy import pattern
from hollow_chain.wording.secrets import mask_text

LONGEST_LINE = 1 << 16
"""Characters of a line that is looked into: beyond that it is taken as it stands."""
_MOST_VALUE = 500
"""Characters of one value beside the message."""
_MOST_TEXT = 4000
"""Characters of such a line after which no further field is put behind them: each is looked for in what stands there."""
_MESSAGE = ("message", "msg", "@message", "event", "text", "log", "short_message", "body")
_OF_ERROR = (
    "error",
    "err",
    "exception",
    "cause",
    "reason",
    "detail",
    "details",
    "error_message",
    "errormessage",
    "exc_info",
    "@x",
)
_LEVEL = ("level", "lvl", "severity", "loglevel", "log_level", "@level", "@l", "levelname", "severitytext", "priority")
_ASIDE = frozenset((
    "time", "timestamp", "@timestamp", "ts", "date", "datetime", "t", "@t", "asctime", "pid", "process", "process_id", "thread",
    "threadname", "thread_name", "threadid", "tid", "hostname", "host_name", "logger", "logger_name", "loggername", "caller", "callsite",
    "stack", "stacktrace", "stack_trace", "version", "@version", "v", "span", "spans", "trace_id", "span_id", "traceid", "spanid",
    "filename", "lineno", "line_number", "func", "function", "funcname", "target", "module", "app", "service", "name", "eventid", "@mt",
))  # fmt: skip
"""Fields that tell when and where a line was written, and nothing of what it is about."""
_WORDS = {"emerg": "emergency", "panic": "emergency", "alert": "alert", "crit": "critical", "fatal": "critical", "err": "error",
          "warn": "warning", "notice": "notice", "info": "info", "debug": "debug", "trace": "debug", "verbose": "debug"}  # fmt: skip
"""How words for levels begin."""
_STEPS = ((60, "critical"), (50, "error"), (40, "warning"), (30, "info"), (10, "debug"))
"""Levels by tens, from the least number on, as several libraries of JSON logs have them."""
_DEEPEST = 3
"""How far objects within an object are looked into."""


class Sentence(NamedTuple):
    """What such a line says."""

    text: str
    level: str


def unpacked(line: str) -> Sentence | None:
    """A line that is a JSON object with a message in it; None where it is none. Fields in which the message is not told again are
    put behind it."""
    if line[:1] != "{" or len(line) > LONGEST_LINE or not line.rstrip().endswith("}"):
        return None
    try:
        entry = msgspec.json.decode(line)
    except (msgspec.DecodeError, RecursionError):
        return None
    if not isinstance(entry, dict):
        return None
    folded = {str(key).casefold(): value for key, value in entry.items()}
    message = next((key for key in _MESSAGE if isinstance(folded.get(key), str)), "")
    error = next((_said(folded[key]) for key in _OF_ERROR if key in folded and _said(folded[key])), "")
    said = " ".join(str(folded.get(message, "")).split("\n"))
    if not said and not error:
        return None
    text = f"{said}: {error}" if error and error not in said and said else said or error
    for key, value in folded.items():
        if len(text) > _MOST_TEXT:
            break
        if key not in _ASIDE and key not in _LEVEL and key not in _OF_ERROR and key != message:
            more = _said(value)
            if more and more not in text:
                text += f" {key}={more}"
    return Sentence(text, next((_level(folded[key]) for key in _LEVEL if key in folded), ""))


_ORDERS = pattern(r"\x1b(?:\[[0-?]{0,40}[ -/]{0,4}[@-~]|\][^\x07\x1b\n]{0,500}(?:\x07|\x1b\\)|[()*+][0-9A-Z])")
"""What a program writes for a terminal among its words: colors, moves of the cursor, titles (ECMA-48, "CSI" and "OSC")."""


def uncolored(line: str) -> str:
    """*line* without what is meant for a terminal: it is no part of what it says."""
    return _ORDERS.sub("", line) if "\x1b" in line else line


_FRAME = "".join(map(chr, range(0x2500, 0x2580)))
"""What a program draws frames and trees with around its words (the Unicode block "Box Drawing")."""


def unframed(line: str) -> str:
    """*line* without the frame that a program drew around it; how far it is set in there is kept."""
    if line.isascii():
        return line
    found = line.lstrip(" \t")
    if found[:1] in _FRAME:
        line = found.lstrip(_FRAME).removeprefix(" ") or line
    return line.rstrip(_FRAME + " \t") or line if line[-1:] in _FRAME else line


def spoken(line: str, most: int) -> Sentence:
    """What a line of a log says, in up to *most* characters, without its colors, its frame and its secrets; its level only where it is such an
    object."""
    line = unframed(uncolored(line))
    found = unpacked(mask_text(line)) if line[:1] == "{" and len(line) <= LONGEST_LINE else None
    return (
        Sentence(mask_text(line[:most]), "")
        if found is None
        else Sentence(mask_text(uncolored(found.text)[:most]), found.level)
    )


def _said(value: Any, depth: int = 0) -> str:
    """A value in words; of one that has parts, those that speak."""
    if isinstance(value, bool) or value is None or depth >= _DEEPEST:
        return ""
    if isinstance(value, (str, int, float)):
        return " ".join(str(value)[:_MOST_VALUE].split("\n")).strip()
    if isinstance(value, dict):
        folded = {str(key).casefold(): part for key, part in value.items()}
        told = [_said(folded[key], depth + 1) for key in (*_MESSAGE, *_OF_ERROR, "path", "address") if key in folded]
        return " ".join(filter(None, told))
    return ""


def _level(value: Any) -> str:
    if isinstance(value, int) and not isinstance(value, bool):
        return next((name for least, name in _STEPS if value >= least), "")
    return level_of_word(str(value)[:40].lower())


def level_of_word(word: str) -> str:
    """The level that a word in small letters stands for; empty where it stands for none."""
    return next((level for start, level in _WORDS.items() if word.startswith(start)), "")

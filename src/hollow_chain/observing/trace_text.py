"""The lines of a trace of system calls, as strace(1) writes them with ``-f -ttt -y``: text in, plain values out.

Whatever a traced program puts into a path or an argument is escaped by the tracer, so that a line is always one call; what cannot be read
is left out, and nothing raises.
"""

from __future__ import annotations

import re
from typing import NamedTuple

_LINE = re.compile(r"(\d{1,10}) +(\d{1,12}\.\d{1,9}) (.*)", re.DOTALL)
_RESUMED = re.compile(r"<\.\.\. (\w+) resumed>")
_NAME = re.compile(r"(\w{1,40})\(")
_RESULT = re.compile(r"\) += (0x[0-9a-f]+|-?\d+|\?)(?:<((?:[^>\\]|\\.)*)>)?(?: (E[A-Z0-9]+) \()?")
_EXITED = re.compile(r"\+\+\+ exited with (\d{1,3}) \+\+\+")
_KILLED = re.compile(r"\+\+\+ killed by (SIG[A-Z0-9+]+)")
_SIGNAL = re.compile(r"--- (SIG[A-Z0-9+]+) \{(.*)\} ---")
_BY_FILTER = re.compile(r"si_code=SYS_SECCOMP.*?si_syscall=(?:__NR_)?(\w+)")
_UNFINISHED = " <unfinished ...>"
_MOST_ARGUMENTS = 32
"""Arguments of a call that are told apart: none has more than six, each of which may hold some."""
_MOST_CUT = 1_000
"""Calls cut by a signal that are told: one for each thread."""
_OPENS, _CLOSES = "([{", ")]}"
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "v": "\v", "f": "\f", "\\": "\\", '"': '"'}
_ESCAPED = re.compile(r"\\(?:x([0-9a-fA-F]{2})|([0-7]{1,3})|(.))", re.DOTALL)
MOST_LETTERS = 20_000
"""Letters of a line that are read: a path has 4,096 at most, each escaped in four (path_resolution(7))."""


class TracedCall(NamedTuple):
    """One call, as far as it got."""

    process: int
    """Its thread, as the kernel counts."""
    at: float
    """When it began, in seconds since 1970."""
    name: str
    arguments: tuple[str, ...]
    """Each as it is written."""
    value: int | None
    """What it returned; None where it never did."""
    error: str = ""
    """The name of its error, such as ``ENOENT``."""
    ended: float = 0.0
    """When it returned, or was cut; 0 where it is under way."""
    descriptor: bool = False
    """Whether what it returned is a descriptor, by the path that the tracer put beside it."""


class TracedEnd(NamedTuple):
    """The end of a process or thread."""

    process: int
    at: float
    status: int | None
    """Its exit status; None where a signal ended it."""
    signal: str = ""
    call: str = ""
    """The call that it was in when a signal ended it."""


class TracedSignal(NamedTuple):
    """A signal that reached a process."""

    process: int
    at: float
    signal: str
    refused: str = ""
    """The call for which a filter of calls sent it (seccomp(2)), by its name or number."""


Traced = TracedCall | TracedEnd | TracedSignal


class TraceReader:
    """Reads one line after the other; a call that others come between is told when it returns."""

    def __init__(self) -> None:
        self._open: dict[int, tuple[float, str, str]] = {}
        self._cut: list[tuple[int, float, str]] = []

    def read(self, line: str) -> Traced | None:
        """What a line tells; None where it tells nothing yet, or cannot be read."""
        found = _LINE.match(line[:MOST_LETTERS])
        if found is None:
            return None
        process, at, rest = int(found[1]), float(found[2]), found[3].rstrip("\n")
        if rest.startswith("+++ "):
            return self._end(process, at, rest)
        if rest.startswith("--- "):
            return _signal(process, at, rest)
        resumed = _RESUMED.match(rest)
        if resumed:
            began, name, text = self._open.pop(process, (at, resumed[1], f"{resumed[1]}("))
            return _call(process, began, at, text + rest[resumed.end() :]) if name == resumed[1] else None
        if rest.endswith((_UNFINISHED, f"{_UNFINISHED}) = ?")):
            name_found = _NAME.match(rest)
            if name_found:
                self._open[process] = at, name_found[1], rest.partition(_UNFINISHED)[0]
            return None
        return _call(process, at, at, rest)

    def unfinished(self) -> list[TracedCall]:
        """The calls that have not returned, in the order in which they began: those that are under way, and those that a signal cut."""
        left = [*((process, at, text) for process, (at, _, text) in self._open.items()), *self._cut[-_MOST_CUT:]]
        found = (_call(process, at, 0.0, f"{text}) = ?") for process, at, text in left)
        return sorted((one for one in found if one is not None), key=lambda one: one.at)

    def _end(self, process: int, at: float, rest: str) -> TracedEnd | None:
        cut = self._open.pop(process, None)
        if cut is not None and rest.startswith("+++ killed"):
            self._cut.append((process, cut[0], cut[2]))
        if exited := _EXITED.match(rest):
            return TracedEnd(process, at, int(exited[1]))
        if killed := _KILLED.match(rest):
            return TracedEnd(process, at, None, killed[1], cut[1] if cut is not None else "")
        return None


def _signal(process: int, at: float, rest: str) -> TracedSignal | None:
    found = _SIGNAL.match(rest)
    if found is None:
        return None
    refused = _BY_FILTER.search(found[2])
    return TracedSignal(process, at, found[1], refused[1] if refused else "")


def _number(text: str) -> int:
    """A value as strace writes it: of base ten, sixteen (``0x``), or eight (``0`` before it: what umask(2) returns)."""
    return int(text, 8 if text.lstrip("-").startswith("0") and text.lstrip("-")[:2].lower() != "0x" else 0)


def _call(process: int, at: float, ended: float, text: str) -> TracedCall | None:
    name = _NAME.match(text)
    if name is None:
        return None
    arguments, close = split(text, name.end())
    result = _RESULT.match(text, close)
    if result is None:
        return None
    value = None if result[1] == "?" else _number(result[1])
    return TracedCall(process, at, name[1], tuple(arguments), value, result[3] or "", ended, bool(result[2]))


def split(text: str, begin: int) -> tuple[list[str], int]:
    """The arguments of a call that begin at *begin*, and where its bracket closes (the end of the text, where it does not)."""
    found: list[str] = []
    depth, start, at = 0, begin, begin
    while at < len(text):
        letter = text[at]
        if letter == '"':
            at = _past_quotes(text, at)
            continue
        if letter == "<" and at > start and (text[at - 1].isdigit() or text.endswith("AT_FDCWD", start, at)):
            at = _past_angle(text, at)
            continue
        if letter in _OPENS:
            depth += 1
        elif letter in _CLOSES and depth:
            depth -= 1
        elif letter == ")":
            break
        elif letter == "," and not depth and len(found) < _MOST_ARGUMENTS:
            found.append(text[start:at].strip())
            start = at + 1
        at += 1
    last = text[start:at].strip()
    return [*found, last] if last or found else [], at


def _past_quotes(text: str, at: int) -> int:
    at += 1
    while at < len(text) and text[at] != '"':
        at += 2 if text[at] == "\\" else 1
    return at + 1


def _past_angle(text: str, at: int) -> int:
    """Past ``</path>``: what is in it has its own brackets escaped, but for the arrow of a connection."""
    while at < len(text) and (text[at] != ">" or text[at - 1] == "-"):
        at += 2 if text[at] == "\\" else 1
    return at + 1


def unquoted(argument: str) -> str | None:
    """The text of an argument that is one in quotes, whole; None of any other."""
    begin = 1 if argument.startswith("@") else 0
    if len(argument) < begin + 2 or argument[begin] != '"' or not argument.endswith('"'):
        return None
    return unescaped(argument[begin + 1 : -1])


def unescaped(text: str) -> str:
    """A text as it was before the tracer wrote it."""
    if "\\" not in text:
        return text
    raw = _ESCAPED.sub(_one, text)
    # What is beyond ASCII comes byte by byte.
    return raw.encode("latin-1", "replace").decode("utf-8", "replace")


def _one(found: re.Match[str]) -> str:
    if found[1]:
        return chr(int(found[1], 16))
    if found[2]:
        return chr(int(found[2], 8) & 255)
    return _ESCAPES.get(found[3], found[3])


_DESCRIPTOR = re.compile(r"^(?:-?\d{1,10}|AT_FDCWD)<((?:[^>\\]|\\.|(?<=-)>)*)>")


def path_of_descriptor(argument: str) -> str:
    """The path behind a descriptor, as the tracer found it; empty where it is none, such as a socket."""
    found = _DESCRIPTOR.match(argument)
    path = unescaped(found[1]) if found else ""
    return path.removesuffix(" (deleted)") if path.startswith("/") else ""

"""Reading log lines by their form, never by the program that wrote them."""

from __future__ import annotations

import errno
import os
import re
from collections.abc import Callable, Iterator
from typing import NamedTuple

from hollow_chain.facts.host import Event

_PATH = r"(?P<path>/[^\s\"'`,;:()<>\[\]]+(?:/[^\s\"'`,;:()<>\[\]]*)*)"
_IN_PATH = re.compile(_PATH)
_MISSING = re.compile(
    r"(?i)no such file or directory|\bENOENT\b|does not exist|doesn't exist|(?:was |is )?not found|cannot find"
)
_DENIED = re.compile(
    r"(?i)permission denied|\bEACCES\b|\bEPERM\b|operation not permitted|access (?:is )?denied|not permitted"
)
_IN_USE = re.compile(
    r"(?i)address already in use|\bEADDRINUSE\b|already in use|port \d+ is (?:already )?(?:in use|taken|allocated)"
)
_NO_ADDRESS = re.compile(r"(?i)cannot assign requested address|\bEADDRNOTAVAIL\b")
_OWNERSHIP = re.compile(
    r"(?i)must (?:not )?be (?:owned|writable|readable|accessible)|(?:wrong|bad|invalid|incorrect|unsafe|insecure) "
    r"(?:owner(?:ship)?|permissions?|modes?)|permissions? .{0,60}(?:too open|not secure|too permissive)|"
    r"(?:group|world)[- ](?:writable|readable|accessible)"
)
_READ_ONLY = re.compile(r"(?i)read-only file ?system|\bEROFS\b")
_UNREACHED = re.compile(
    r"(?i)connection refused|\bECONNREFUSED\b|(?:could not|failed to|cannot|can't|unable to) (?:connect|reach)|no route to host|"
    r"(?:connection|connect|host) (?:timed out|unreachable)|does not answer|not reachable"
)
_LIBRARY = re.compile(r"loading shared librar(?:y|ies): (?P<library>[\w.+\-/]+)")
_NO_SPACE = re.compile(r"(?i)no space left|\bENOSPC\b|disk (?:is )?full|disk quota exceeded|\bEDQUOT\b")
_REJECTED = re.compile(
    r"(?i)\b(?:syntax error|parse error|parsing (?:error|failed)|unknown (?:directive|option|key|keyword|parameter|setting|"
    r"configuration|variable|command|section|statement)|invalid (?:directive|option|value|argument|parameter|setting|"
    r"configuration|command|syntax|number|port|boolean|line)|unexpected (?:token|end|character|\S{1,12}|argument)|unrecogni[sz]ed|"
    r"bad (?:directive|configuration|config|argument|number|option|value|line)|"
    r"(?:config(?:uration)?(?: file)?|settings?) (?:file )?(?:error|test (?:is )?failed|is invalid|contains errors)|"
    r"(?:error|failed|fatal error|errors?)[^/]{0,40}\bconfig(?:uration)?(?: file)?\b|is not terminated by|wrong number of arguments|"
    r"not allowed here|invalid number of arguments|duplicate (?:directive|key|listen|entry)|malformed|missing (?:terminating|closing|value))"
)
_AT_LINE = (
    re.compile(_PATH + r"(?::|,? ?\(?(?:on |at )?line:? ?)(?P<line>\d+)"),
    re.compile(r"(?i)line:? (?P<line>\d+)\)?:? (?:of|in|from) (?:the )?(?:file |configuration file )?[\"'`]?" + _PATH),
    re.compile(r"(?i)(?:in|of|file) [\"'`]?" + _PATH + r"[\"'`]?,? (?:on |at )?(?:line |:)(?P<line>\d+)"),
)
_LINE_ONLY = re.compile(r"(?i)\b(?:at|on|in)? ?line:? (?P<line>\d+)\b|>>> ?'")
_USER = re.compile(
    r"(?i)(?:user|account|uid)\s+(?:name\s+)?[\"'`]?(?P<user>[A-Za-z_][\w.-]{0,31})[\"'`]?\s+(?:does not exist|not found|is unknown)"
    r"|(?:unknown|no such|invalid|can't find|cannot find)\s+(?:the )?(?:user|account)(?: name)?:?\s*[\"'`]?(?P<user2>[A-Za-z_][\w.-]{0,31})"
)
_ENDPOINT = re.compile(
    r"(?:(?P<address>\d{1,3}(?:\.\d{1,3}){3}|\[[0-9A-Fa-f:]+\]|\*|localhost|::1?|0\.0\.0\.0)[:#])(?P<port>\d{1,5})\b"
    r"|(?i:\bport[ :=#'\"]+)(?P<port2>\d{1,5})\b"
)
_WORDS = {os.strerror(number).lower(): name for number, name in errno.errorcode.items()}
NOISE = ("Started ", "Starting ", "Stopped ", "Stopping ", "Scheduled restart job", "Consumed ")


class ConfigError(NamedTuple):
    """A configuration file that a program complains of, as its log says it."""

    event: Event
    path: str
    line: int | None


def of_manager(event: Event) -> bool:
    """Whether the record is the service manager's own, not the program's."""
    return event.source == "journal (systemd)"


def paths_near(events: list[Event], index: int) -> list[str]:
    """The paths that a record quotes; where it quotes none, those of the lines just before it by the same writer."""
    event = events[index]
    for other in (event, *events[max(0, index - 3) : index][::-1]):
        found = paths_in(other.text) if other.source == event.source else []
        if found:
            return found
    return []


def paths_in(text: str) -> list[str]:
    """The absolute paths that a line quotes."""
    return [found["path"].rstrip("./") or "/" for found in _IN_PATH.finditer(text)]


def missing_paths(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Paths that a record calls absent."""
    for index, event in enumerate(events):
        if not _MISSING.search(event.text):
            continue
        # The complaint may name the line that names the path: that line was read as well.
        located = _located(event.text)
        quoted = [e for e in events if located and e.source == f"configuration {located[0]}" and e.line == located[1]]
        for path in [p for e in quoted for p in paths_in(e.text)] or paths_near(events, index):
            yield event, path


def denied(events: list[Event]) -> list[Event]:
    """Records that say that something was not permitted."""
    return [event for event in events if _DENIED.search(event.text)]


def endpoint_in_use(events: list[Event]) -> Iterator[tuple[Event, str, int]]:
    """Endpoints (address, port) that a record calls taken."""
    yield from _endpoints(events, lambda event: _IN_USE.search(event.text))


def address_not_there(events: list[Event]) -> Iterator[tuple[Event, str, int]]:
    """Endpoints whose address a record calls not assigned to this machine."""
    yield from _endpoints(events, lambda event: _NO_ADDRESS.search(event.text))


def says_in_use(text: str) -> bool:
    """Whether a line calls an address taken."""
    return bool(_IN_USE.search(text))


def says_read_only(text: str) -> bool:
    """Whether a line calls a file system read-only."""
    return bool(_READ_ONLY.search(text))


def says_ownership(text: str) -> bool:
    """Whether a line complains of an owner or a mode as such."""
    return bool(_OWNERSHIP.search(text))


def refused(events: list[Event]) -> Iterator[tuple[Event, list[str]]]:
    """Records that say that something was not permitted, or that a file system is read-only; with the paths meant."""
    for index, event in enumerate(events):
        if _DENIED.search(event.text) or _READ_ONLY.search(event.text) or _OWNERSHIP.search(event.text):
            yield event, paths_near(events, index)


def endpoints_in(chosen: list[Event], events: list[Event]) -> Iterator[tuple[Event, str, int]]:
    """Endpoints named by the *chosen* ones of *events*, or just before them."""
    wanted = {id(event) for event in chosen}
    yield from _endpoints(events, lambda event: id(event) in wanted)


def _endpoints(events: list[Event], fits: Callable[[Event], object]) -> Iterator[tuple[Event, str, int]]:
    for index, event in enumerate(events):
        if not fits(event):
            continue
        # The number may stand a line above the complaint, or below it.
        near = (event, *events[max(0, index - 2) : index][::-1], *events[index + 1 : index + 3])
        for text in (e.text for e in near):
            found = [(m["address"] or "", int(m["port"] or m["port2"])) for m in _ENDPOINT.finditer(text)]
            found = [(a.strip("[]"), p) for a, p in found if 0 < p < 65536]
            if found:
                for address, port in found:
                    yield event, address, port
                break


def unreached(events: list[Event]) -> list[Event]:
    """Records that say that something which should answer did not."""
    return [event for event in events if _UNREACHED.search(event.text)]


def missing_libraries(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Shared libraries that the loader did not find (ld.so(8))."""
    for event in events:
        for found in _LIBRARY.finditer(event.text):
            yield event, found["library"]


def no_space(events: list[Event]) -> list[Event]:
    """Records that say that a disk or quota is full."""
    return [event for event in events if _NO_SPACE.search(event.text)]


def unknown_user(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """User names that a record calls unknown."""
    for event in events:
        for found in _USER.finditer(event.text):
            yield event, found["user"] or found["user2"]


def config_errors(events: list[Event]) -> list[ConfigError]:
    """Complaints about a configuration: a file with a line, or the words of a parser."""
    found: list[ConfigError] = []
    for index, event in enumerate(events):
        located = _located(event.text)
        rejects = bool(_REJECTED.search(event.text))
        if located and (rejects or event.level in ("", "emergency", "alert", "critical", "error", "info", "warning")):
            if rejects or (not _DENIED.search(event.text) and not _MISSING.search(event.text)):
                found.append(ConfigError(event, *located))
        elif rejects:
            only = _LINE_ONLY.search(event.text)
            paths = [p for p in paths_in(event.text) if "." in p or "/etc/" in p]
            line = int(only["line"]) if only and only["line"] else _line_near(events, index)
            found.append(ConfigError(event, paths[0] if paths else "", line))
    return found


def _line_near(events: list[Event], index: int) -> int | None:
    for event in events[max(0, index - 2) : index + 3]:
        only = _LINE_ONLY.search(event.text)
        if only and only["line"]:
            return int(only["line"])
    return None


def _located(text: str) -> tuple[str, int] | None:
    for form in _AT_LINE:
        match = form.search(text)
        if match:
            return match["path"], int(match["line"][:9])
    return None


def errno_names(text: str) -> list[str]:
    """The names of all error numbers whose standard text or name stands in *text* (errno(3))."""
    lower = text.lower()
    return [name for words, name in _WORDS.items() if words in lower or re.search(rf"\b{name}\b", text)]


def telling(events: list[Event], most: int = 3) -> list[Event]:
    """The last records that say something beyond the manager's own routine, errors before other lines."""
    spoken = [e for e in events if e.text.strip() and not e.text.startswith(NOISE)]
    severe = [e for e in spoken if e.level in ("emergency", "alert", "critical", "error")]
    own = [e for e in spoken if not of_manager(e)]
    return ([e for e in severe if e in own] or own or severe or spoken)[-most:]

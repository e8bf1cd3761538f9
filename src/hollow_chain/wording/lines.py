"""Reading log lines by their form, never by the program that wrote them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from ipaddress import ip_address
from typing import NamedTuple

from hollow_chain.facts.host import Event
from hollow_chain.lazy import pattern

_PATH = r"(?P<path>(?:(?<![A-Za-z])[A-Za-z]:[\\/](?!/)|/)[^\s\"'`,;:()<>\[\]]{1,1000})"
_BEGINS = r"(?<![^\s\"'`,;:()<>\[\]=])"
"""Where a path begins: not in the middle of one, so that a long one is read once and not from each of its parts."""
_IN_PATH = pattern(r"(?<![\w.\-:/\])])" + _PATH + r"|(?<=://)(?!)|(?<=file://)" + _PATH.replace("path", "path2"))
_MISSING = pattern(
    r"(?i)no such file or directory|\bENOENT\b|does not exist|doesn't exist|(?:was |is )?not found|cannot find|"
    r"not a directory|\bENOTDIR\b"
)
_UNOPENED = pattern(
    r"(?i)\b(?:unable to|cannot|can't|can not|could not|couldn't|failed to|fail to|failure to|error|errors?|failed)\b.{0,40}?"
    r"\b(?:open|opening|read|reading|load|loading|access|accessing|stat|include|including|write|writing|create|creating|"
    r"chdir|change|enter|use|using|find|process|start|bind|initiali[sz]e|lock|locking)\b|\bmissing\b|\bopen(?:ing)?\b.{0,200}\bfail"
)
_DENIED = pattern(
    r"(?i)permission denied|\bEACCES\b|\bEPERM\b|operation not permitted|access (?:is |was )?denied|not permitted|not (?:readable|writable|writeable)"
)
_IN_USE = pattern(
    r"(?i)address (?:is )?already in use|\bEADDRINUSE\b|already in use|port \d+ is (?:already )?(?:in use|taken|allocated)|address in use"
)
_NO_ADDRESS = pattern(r"(?i)cannot assign requested address|can't assign requested address|\bEADDRNOTAVAIL\b")
_OWNERSHIP = pattern(
    r"(?i)must (?:not )?be (?:owned|writable|readable|accessible)|(?:wrong|bad|invalid|incorrect|unsafe|insecure) "
    r"(?:owner(?:ship)?|permissions?|modes?)|permissions? .{0,60}(?:too open|not secure|too permissive)|"
    r"(?:group|world)[- ](?:writable|readable|accessible)"
)
_READ_ONLY = pattern(r"(?i)read-only file ?system|\bEROFS\b")
_UNREACHED = pattern(
    r"(?i)connection refused|\bECONNREFUSED\b|(?:could not|failed to|cannot|can't|unable to) (?:connect|reach)|no route to host|"
    r"(?:connection|connect|host|network)(?: is)? (?:timed out|unreachable)|does not answer|not reachable|\bETIMEDOUT\b|\bEHOSTUNREACH\b"
)
_HOST_AWAY = pattern(
    r"(?i)no route to host|\bEHOSTUNREACH\b|\bENETUNREACH\b|(?:network|host) is (?:unreachable|down)|connection timed out|\bETIMEDOUT\b|"
    r"i/o timeout|name or service not known|temporary failure in name resolution|(?:could not|cannot|can't|unable to|failed to) resolve|"
    r"no such host|host (?:name )?(?:was )?not found|unknown host|nodename nor servname"
)
_BUSY = pattern(
    r"(?i)device or resource busy|\bEBUSY\b|text file busy|\bETXTBSY\b|used by another (?:process|program|application|service)|"
    r"in use by another|already (?:claimed|opened|reserved|in exclusive use)|exclusive(?:ly)? (?:use|access|lock)|sharing violation"
)
_LIBRARY = pattern(r"(?:loading shared librar(?:y|ies)|cannot load|can't load): (?P<library>[\w.+\-/]+)")
_NO_SPACE = pattern(r"(?i)no space left|\bENOSPC\b|disk (?:is )?full|disk quota exceeded|\bEDQUOT\b|out of disk space")
_CLOCK = pattern(
    r"(?i)clock (?:skew|is (?:wrong|off|behind|ahead|not set))|(?:certificate|ticket|token|signature)[^.]{0,60}(?:not yet valid|in the future)|"
    r"time (?:skew|is in the future|stamp in the future)|system time[^.]{0,40}(?:wrong|invalid|in the past)|not yet valid"
)
_WHAT = (
    r"(?:directive|option|flag|switch|key|keyword|parameter|setting|field|attribute|configuration|variable|command|section|"
    r"statement|argument|property|word|identifier|token|clause|instruction|element|value|syntax|number|boolean|line|port|mode|type|address)"
)
_REJECTED = pattern(
    rf"(?i)\b(?:syntax error|parse error|parsing (?:error|failed)|(?:unknown|unrecogni[sz]ed|unsupported|invalid|illegal|undefined|bad|"
    rf"unexpected|no such|missing|duplicate|obsolete)(?: [\w\-]+){{0,2}} {_WHAT}s?\b|unrecogni[sz]ed|unexpected (?:token|end|character|\S{{1,12}})|"
    rf"flag provided but not defined|(?:failed|unable|cannot|could not|can't) (?:to )?(?:parse|compile|decode|interpret|understand)|"
    rf"(?:config(?:uration)?(?: file)?|settings?) (?:file )?(?:error|test (?:is )?failed|is invalid|contains errors|invalid)|"
    rf"(?:error|failed|fatal error|errors?)[^/]{{0,40}}\bconfig(?:uration)?(?: file)?\b|is not terminated by|wrong number of arguments|"
    rf"not allowed here|invalid number of arguments|malformed|(?:compilation|compiler)[^.]{{0,20}} failed|expected one of|"
    rf"is not a valid|is not valid|not understood|bad config|bogus|out of range|unterminated|unbalanced|perhaps misspelled|"
    rf"(?:requires|needs|takes) (?:a|an|one|at least|exactly)\b[^.]{{0,30}}(?:argument|value|parameter)|"
    rf"must be (?:a|an|one of|set|specified|defined|between))"
)
_SOURCE_CODE = pattern(r"(?i)\.(?:py|pm|pl|c|cc|cpp|h|go|js|ts|rb|java|lua|rs|cs|php)$")
_SETTINGS_FILE = r"(?P<path>[\w.\-]+\.(?:ini|conf|cfg|cnf|config|xml|json|ya?ml|toml|properties))"
_AT_LINE = (
    pattern(_BEGINS + _PATH + r"(?i:[\"'`]?(?::|,? ?\(?(?:on |at )?line:? ?))(?P<line>\d+)"),
    pattern(r"(?i)line:? (?P<line>\d{1,9})\)?:? (?:of|in|from) (?:the )?(?:file |configuration file )?[\"'`]?" + _PATH),
    pattern(r"(?i)(?:in|of|file) [\"'`]?" + _PATH + r"[\"'`]?,? (?:on |at )?(?:line |:)(?P<line>\d+)"),
    pattern(rf"(?i)(?<![\w/\\.\-]){_SETTINGS_FILE}[\"'`]?(?::|,? ?\(?(?:on |at )?line:? ?)(?P<line>\d+)"),
)
_LINE_ONLY = pattern(r"(?i)\b(?:at|on|in)? ?line:? (?P<line>\d+)\b|>>> ?'")
_NAME = r"[\"'`<]?(?P<user{0}>[A-Za-z_][\w.-]{{0,31}})[\"'`>]?"
_USER = pattern(
    r"(?i)\b(?:user|account|uid)\s+(?:name\s+)?" + _NAME.format(1) + r"\s+(?:does(?: not|n't) exist|(?:was |is )?not found|is unknown|unknown)"
    r"|(?:unknown|no such|invalid|bad|(?:can't|cannot|can not|could not|couldn't|unable to|failed to) (?:find|look ?up|get|resolve|locate)|"
    r"no passwd entry for)\s+(?:the )?(?:system )?(?:user|account|uid)(?: ?name| id)?(?: for)?:?\s*" + _NAME.format(2)
    + r"|getpwnam\([\"']?(?P<user3>[A-Za-z_][\w.-]{0,31})[\"']?\)"
)  # fmt: skip
_NOT_A_NAME = frozenset(
    {"not", "to", "is", "in", "name", "for", "the", "does", "was", "and", "or", "id", "option", "failed", "with"}
)
_ADDRESS = r"\d{1,3}(?:\.\d{1,3}){3}|\[[0-9A-Fa-f:]+\]|\*|localhost|::1?|0\.0\.0\.0"
_ENDPOINT = pattern(
    rf"(?:(?P<address>{_ADDRESS})[:#])(?P<port>\d{{1,5}})\b"
    r"|(?i:\bport[ :=#'\"]+(?:number )?)(?P<port2>\d{1,5})\b"
    r"|(?<![\w\]:.*/\"])[:#](?P<port3>\d{2,5})(?![\w:.]\d|\d)"
    rf"|(?P<address4>{_ADDRESS}),? port:? (?P<port4>\d{{1,5}})\b"
)
_SINGLE_ADDRESS = pattern(
    r"(?<![\w.:])(?P<v4>\d{1,3}(?:\.\d{1,3}){3})(?![\w.]*\.\d)|(?<![\w:.])(?P<v6>[0-9A-Fa-f]{1,4}(?::[0-9A-Fa-f]{0,4}){2,7})(?![\w:])"
)
_SEVERE = pattern(
    r"(?i)\b(?:emerg|alert|crit|critical|fatal|panic|err|error|errors|fail|failed|failure|cannot|can't|unable|denied|refused|invalid|abort|aborted|aborting)\b"
)
_EMPTY_COMPLAINT = pattern(
    r"(?i)^[^a-z]{0,80}(?:\w{1,40}: )?(?:\[?\w{1,40}\]? )?(?:abort(?:ed|ing)?|exit(?:ed|ing)?|fail(?:ed|ure)?|error|going down)\W{0,40}$"
)
NOISE = ("Started ", "Starting ", "Stopped ", "Stopping ", "Scheduled restart job", "Consumed ")


class ConfigError(NamedTuple):
    """A configuration file that a program complains of, as its log says it."""

    event: Event
    path: str
    line: int | None
    rejects: bool = True
    """Whether it is in the words of a parser; otherwise only a file and a line are named."""


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
    found = (match["path"] or match["path2"] for match in _IN_PATH.finditer(text))
    # The manager speaks of what it mounts for a service by the place where it prepares it (systemd.exec(5)).
    return [path.removeprefix("/run/systemd/unit-root").rstrip("./") or "/" for path in found if path]


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


def unopened_paths(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Paths that a record says could not be opened or used, without saying why."""
    for event in events:
        if _UNOPENED.search(event.text) and not event.source.startswith("configuration "):
            for path in paths_in(event.text):
                yield event, path


def denied(events: list[Event]) -> list[Event]:
    """Records that say that something was not permitted."""
    return [event for event in events if _DENIED.search(event.text)]


def endpoint_in_use(events: list[Event]) -> Iterator[tuple[Event, str, int]]:
    """Endpoints (address, port) that a record calls taken."""
    yield from _endpoints(events, lambda event: _IN_USE.search(event.text))


def address_not_there(events: list[Event]) -> Iterator[tuple[Event, str, int]]:
    """Endpoints whose address a record calls not assigned to this machine; port 0 where only an address is named."""
    said = [event for event in events if says_no_address(event.text)]
    found = list(endpoints_in(said, events))
    yield from (one for one in found if one[1])
    yield from (
        (event, address, 0) for event in said for address in addresses_in(event.text) if not any(f[1] for f in found)
    )
    yield from found


def says_no_address(text: str) -> bool:
    """Whether a line calls an address not assigned to this machine."""
    return bool(_NO_ADDRESS.search(text))


def addresses_in(text: str) -> list[str]:
    """The single IP addresses that a line quotes."""
    found = (match["v4"] or match["v6"] for match in _SINGLE_ADDRESS.finditer(text))
    return [text for text in found if _is_address(text)]


def _is_address(text: str) -> bool:
    """Whether it is an address, and not a time of day or a version."""
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


def says_in_use(text: str) -> bool:
    """Whether a line calls an address taken."""
    return bool(_IN_USE.search(text))


def says_busy(text: str) -> bool:
    """Whether a line says that somebody else has a thing for himself alone."""
    return bool(_BUSY.search(text))


def says_read_only(text: str) -> bool:
    """Whether a line calls a file system read-only."""
    return bool(_READ_ONLY.search(text))


def says_ownership(text: str) -> bool:
    """Whether a line complains of an owner or a mode as such."""
    return bool(_OWNERSHIP.search(text))


def says_missing(text: str) -> bool:
    """Whether a line calls something absent."""
    return bool(_MISSING.search(text))


def says_denied(text: str) -> bool:
    """Whether a line says that something was not permitted."""
    return bool(_DENIED.search(text))


def refused(events: list[Event]) -> Iterator[tuple[Event, list[str]]]:
    """Records that say that something was not permitted, or that a file system is read-only; with the paths meant."""
    for index, event in enumerate(events):
        if _DENIED.search(event.text) or _READ_ONLY.search(event.text) or _OWNERSHIP.search(event.text):
            yield event, paths_near(events, index)


def busy(events: list[Event]) -> Iterator[tuple[Event, list[str]]]:
    """Records that say that somebody else has a thing for himself alone; with the paths that they name."""
    for index, event in enumerate(events):
        if _BUSY.search(event.text) and not _IN_USE.search(event.text.replace("exclusive", "")):
            yield event, paths_near(events, index)


def endpoints_in(chosen: list[Event], events: list[Event]) -> Iterator[tuple[Event, str, int]]:
    """Endpoints named by the *chosen* ones of *events*, or just before them."""
    wanted = {id(event) for event in chosen}
    yield from _endpoints(events, lambda event: id(event) in wanted)


def endpoints_of(text: str) -> list[tuple[str, int]]:
    """The endpoints (address, port) that a line names; an empty address where it names only the port."""
    found = [
        (m["address"] or m["address4"] or "", int(m["port"] or m["port2"] or m["port3"] or m["port4"]))
        for m in _ENDPOINT.finditer(text)
    ]
    return [(address.strip("[]"), port) for address, port in found if 0 < port < 65536]


def _endpoints(events: list[Event], fits: Callable[[Event], object]) -> Iterator[tuple[Event, str, int]]:
    for index, event in enumerate(events):
        if not fits(event):
            continue
        # The number may stand a line above the complaint, or below it.
        near = (event, *events[max(0, index - 2) : index][::-1], *events[index + 1 : index + 3])
        for text in (e.text for e in near):
            found = endpoints_of(text)
            if found:
                for address, port in found:
                    yield event, address, port
                break


def unreached(events: list[Event]) -> list[Event]:
    """Records that say that something which should answer did not."""
    return [event for event in events if _UNREACHED.search(event.text)]


def hosts_away(events: list[Event]) -> list[Event]:
    """Records that say that another machine as such could not be reached, or its name not be found."""
    return [event for event in events if _HOST_AWAY.search(event.text)]


def clock_complaints(events: list[Event]) -> list[Event]:
    """Records that complain of a clock."""
    return [event for event in events if _CLOCK.search(event.text)]


def missing_libraries(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Shared libraries that the loader did not find (ld.so(8))."""
    for event in events:
        for found in _LIBRARY.finditer(event.text):
            if _MISSING.search(event.text) or "shared librar" in event.text:
                yield event, found["library"]


def no_space(events: list[Event]) -> list[Event]:
    """Records that say that a disk or quota is full."""
    return [event for event in events if _NO_SPACE.search(event.text)]


def unknown_user(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """User names that a record calls unknown."""
    for event in events:
        for found in _USER.finditer(event.text):
            name = found["user1"] or found["user2"] or found["user3"]
            if name.lower() not in _NOT_A_NAME:
                yield event, name


_MERELY_NOTED = pattern(r"(?i):\d+(?::\d+)?:\s*\[?(?:note|notice|info|debug)\b")
"""A place in a file, with a word that says how little it matters (the form of compilers and linters)."""


def config_errors(events: list[Event]) -> list[ConfigError]:
    """Complaints about a configuration: a file with a line, or the words of a parser."""
    found: list[ConfigError] = []
    for index, event in enumerate(events):
        if event.source.startswith("configuration "):
            continue  # the line complained of, not the complaint
        located = _located(event.text)
        if located and (_SOURCE_CODE.search(located[0]) or _MERELY_NOTED.search(event.text)):
            continue  # where in the program, not where in its configuration; or no complaint at all
        rejects = bool(_REJECTED.search(event.text))
        if located and (rejects or event.level in ("", "emergency", "alert", "critical", "error", "info", "warning")):
            absent = _MISSING.search(event.text) and not _HOST_AWAY.search(event.text)
            if rejects or not (absent or _DENIED.search(event.text)):
                found.append(ConfigError(event, *located, rejects))
        elif rejects:
            near = _located_near(events, index)
            only = _LINE_ONLY.search(event.text)
            paths = [p for p in paths_in(event.text) if "." in p or "/etc/" in p]
            line = int(only["line"]) if only and only["line"] else None if near else _line_near(events, index)
            if near and not paths:
                paths, line = [near[0]], near[1]
            found.append(ConfigError(event, paths[0] if paths else "", line))
    return found


def _located_near(events: list[Event], index: int) -> tuple[str, int] | None:
    for event in events[index + 1 : index + 4]:
        if event.source == events[index].source and (found := _located(event.text)):
            return found
    return None


def _line_near(events: list[Event], index: int) -> int | None:
    for event in events[max(0, index - 2) : index + 3]:
        only = _LINE_ONLY.search(event.text)
        if only and only["line"]:
            return int(only["line"])
    return None


def _located(text: str) -> tuple[str, int] | None:
    for form in _AT_LINE:
        match = form.search(text)
        if match and not match["path"].startswith("//"):
            return match["path"], int(match["line"][:9])
    return None


def telling(events: list[Event], most: int = 3) -> list[Event]:
    """The last records that say something beyond the manager's own routine, errors before other lines."""
    spoken = [e for e in events if e.text.strip() and not e.text.startswith(NOISE)]
    own = [e for e in spoken if not of_manager(e) and not e.source.startswith("configuration ")]
    severe = [e for e in own if e.level in ("emergency", "alert", "critical", "error") or _SEVERE.search(e.text)]
    full = [e for e in severe if not _EMPTY_COMPLAINT.match(e.text)]
    of_level = [e for e in spoken if e.level in ("emergency", "alert", "critical", "error")]
    return (full or severe or own or of_level or spoken)[-most:]

"""What the log records of a service say, by the forms of their lines."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import timedelta

from hollow_chain.facts.host import Event
from hollow_chain.lazy import pattern
from hollow_chain.wording import forms
from hollow_chain.wording.forms import says
from hollow_chain.wording.things import (
    addresses_in,
    endpoints_of,
    paths_in,
    place_in,
    quoted_hosts,
)

SEVERE_LEVELS = ("emergency", "alert", "critical", "error")
BEFORE = 3
"""Lines before a complaint in which what it is about may stand; programs that need more say it again."""
_ONE_BREATH = timedelta(seconds=2)
"""Records farther apart are not about one thing: a program that cannot open a file says so at once, and logs tell whole seconds."""
CONFIGURATION = "configuration "
"""How the source of a record begins that is a line of a configuration file, put beside the record that complains of it."""


def paths_near(events: list[Event], index: int) -> list[str]:
    """The paths that a record quotes; where it quotes none, those of the lines just before it by the same writer."""
    event = events[index]
    if event.call is not None:
        return [event.call.thing] if event.call.thing.startswith("/") else []
    for other in (event, *events[max(0, index - BEFORE) : index][::-1]):
        found = paths_in(other.text) if of_one_breath(event, other) else []
        if found:
            return found
    return []


def of_one_breath(event: Event, other: Event) -> bool:
    """Whether two records are by one writer, and one process where that is known, within a moment."""
    one_process = event.process == other.process or not (event.process and other.process)
    return other.source == event.source and one_process and abs(event.at - other.at) <= _ONE_BREATH


def missing_paths(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Paths that a record calls absent."""
    for index, event in enumerate(events):
        if not says(event.text, "missing"):
            continue
        if says(event.text, "module missing"):
            # The paths around it are where it was sought, and the sources that asked for it.
            is_named = forms.read(event.text).named("module missing", "module")
            yield from ((event, path) for path in ([] if is_named else paths_in(event.text)[:1]))
            continue
        # The complaint may name the line that names the path: that line was read as well.
        located = place_in(event.text)
        quoted = [e for e in events if located and e.source == CONFIGURATION + located[0] and e.line == located[1]]
        for path in [p for e in quoted for p in paths_in(e.text)] or paths_near(events, index):
            yield event, path


def unopened_paths(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Paths that a record says could not be opened or used, without saying why."""
    for index, event in enumerate(events):
        if says(event.text, "unopened") and not event.source.startswith(CONFIGURATION):
            for path in paths_in(event.text) or _paths_of_trace(events, index) or _paths_after(events, index):
                yield event, path


def _paths_of_trace(events: list[Event], index: int) -> list[str]:
    """The paths in the last call that a trace shows before the error in which it ends; not where in the program that stands."""
    for other in events[max(0, index - _IN_TRACE) : index][::-1]:
        if not (other.text[:1].isspace() and of_one_breath(events[index], other)):
            return []
        found = paths_in(other.text)
        if found or says(other.text, "in code"):
            return [] if says(other.text, "in code") else found
    return []


_LISTENS = pattern(
    r"\b(?:server_)?bind\b *\(|[.`' ](?:server_)?bind'?$|\bsetupListenHandle\b|\.Net\.bind\b|\bbind\(2\)"
)
"""A call in a trace that takes an endpoint, as the sources of several languages write it."""


def listens_in_trace(events: list[Event], event: Event) -> bool:
    """Whether the trace that ends in a record, or begins with it, comes from a call that takes an endpoint."""
    index = next((at for at, other in enumerate(events) if other is event), 0)
    before = events[max(0, index - _IN_TRACE) : index]
    near = [one for one in (*before, *events[index + 1 : index + 1 + _IN_TRACE]) if of_one_breath(event, one)]
    return any(of_trace(one.text) and _LISTENS.search(one.text) is not None for one in near)


_IN_TRACE = 3
"""Lines of a trace before its error among which the last call stands: itself, a mark below it, and its place."""


def _paths_after(events: list[Event], index: int) -> list[str]:
    """The paths of the line right after one that names none, where the two are of one breath: "We looked for:"."""
    after = events[index + 1 : index + 2]
    return [path for other in after if of_one_breath(events[index], other) for path in paths_in(other.text)]


_DOWN = pattern(
    r"(?i)(?P<quote>['\"`]?)(?P<name>[A-Za-z][\w@.\-]{2,60})(?P=quote)(?: service| daemon| server)? (?:is|was|has|are)(?: currently)?"
    r"(?:(?:n't| not)(?: yet)?(?: been| be)? (?:running|started|active|up|available|ready|responding)| (?:down|stopped|inactive|unavailable))\b"
)


def told_down(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Names of what records say that it does not run."""
    for event in events:
        for found in _DOWN.finditer(event.text[:_LONGEST]):
            yield event, found["name"].removesuffix(".service")


_LONGEST = 1000
"""Characters of a line that are gone through for such names."""
_EXISTS = pattern(r"(?i)(?<!such )\bfile exists\b|\bEEXIST\b|FileAlreadyExists")


def is_there_already(text: str) -> bool:
    """Whether a line says so of a file that was to be made, and by nobody else (open(2), ``O_EXCL``)."""
    return _EXISTS.search(text) is not None


def saying(events: list[Event], *what: str) -> list[Event]:
    """The records that say one of these things."""
    return [event for event in events if says(event.text, *what)]


def called_sockets(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Sockets in the file system that a record says were called in vain; what the service itself was to make is none."""
    for index, event in enumerate(events):
        if event.call is not None:
            if event.call.kind == "connect" and event.call.thing.startswith("/"):
                yield event, event.call.thing
        elif says(event.text, "missing", "unreached") and not _MAKES.search(event.text):
            for path in paths_near(events, index):
                if calls(event, path):
                    yield event, path


def calls(event: Event, path: str) -> bool:
    """Whether a record speaks of *path* as of a socket that was called: by the name, or by its words."""
    if event.call is not None:
        return event.call.kind == "connect"
    return bool(_SOCKET_PATH.search(path) or _CALLS.search(event.text.replace(path, " ")))


_SOCKET_PATH = pattern(r"(?i)(?:\.sock|\.socket|socket|/\.s\.[\w.]{1,60})$")
_CALLS = pattern(r"(?i)\b(?:connect\w{0,6}|dial\w{0,4}|socket)\b")
_MAKES = pattern(r"(?i)\b(?:bind\w{0,4}|listen\w{0,4}|creat\w{1,4}|chmod|chown|unlink\w{0,4}|mkdir)\b")


def certificates_over(events: list[Event]) -> list[Event]:
    """The records that call a certificate no longer valid; some name both ends of its time at once, and then which of them it is."""
    return [event for event in saying(events, "certificate over") if not _NOT_YET.search(event.text)]


_NOT_YET = pattern(r"(?i)\bexpired or (?:is )?not yet valid\b.{0,80} is before ")


def endpoint_in_use(events: list[Event]) -> Iterator[tuple[Event, str, int]]:
    """Endpoints (address, port) that a record calls taken."""
    yield from _endpoints(events, lambda event: says(event.text, "in use"))


def address_not_there(events: list[Event]) -> Iterator[tuple[Event, str, int]]:
    """Endpoints whose address a record calls not assigned to this machine; port 0 where only an address is named."""
    said = saying(events, "no address")
    found = list(endpoints_in(said, events))
    yield from (one for one in found if one[1])
    yield from (
        (event, address, 0) for event in said for address in addresses_in(event.text) if not any(f[1] for f in found)
    )
    yield from found


def refused(events: list[Event]) -> Iterator[tuple[Event, list[str]]]:
    """Records that say that something was not permitted, or that a file system is read-only; with the paths meant."""
    for index, event in enumerate(events):
        if says(event.text, "denied", "read only", "ownership"):
            speaker = _IN_SCRIPT.match(event.text)
            yield event, [path for path in paths_near(events, index) if speaker is None or path != speaker[1]]


_IN_SCRIPT = pattern(r"(/[^\s:]{1,300}): (?:line )?\d{1,6}: ")
"""How a shell begins a complaint: with its script and the line there, which is not what was refused (sh(1p))."""


def busy(events: list[Event]) -> Iterator[tuple[Event, list[str]]]:
    """Records that say that somebody else has a thing for himself alone; with the paths that they name."""
    for index, event in enumerate(events):
        if says(event.text, "busy") and not says(event.text, "in use"):
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
        near = near if event.call is None else (event,)
        for text in (e.text for e in near):
            found = endpoints_of(text)
            if found:
                for address, port in found:
                    yield event, address, port
                break


def missing_libraries(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Shared libraries that the loader did not find (ld.so(8))."""
    for event in events:
        for name in dict.fromkeys(forms.read(event.text).named("library", "library")):
            if not _LIBRARY.search(name) and "shared librar" not in event.text:
                continue  # "cannot load" is said of many things
            bounded = says(event.text, "bounded memory", "denied")
            refused = any(words in event.text.lower() for words in _REFUSED_LIBRARY)
            if says(event.text, "missing") or ("shared librar" in event.text and not bounded and not refused):
                yield event, name


_LIBRARY = pattern(r"(?i)\.so\b|\.dll$|\.dylib$|^lib[\w+-]+")
_REFUSED_LIBRARY = (
    "file too short",
    "invalid elf header",
    "wrong elf class",
    "not a dynamic",
    "cannot open shared object file: no data",
)
"""What the loader says of a library that it found and does not take (``elf/dl-load.c`` of the C library)."""


def refused_libraries(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Shared libraries that are there, and that the loader refused."""
    for event in events:
        if "shared librar" in event.text and any(words in event.text.lower() for words in _REFUSED_LIBRARY):
            yield from ((event, name) for name in dict.fromkeys(forms.read(event.text).named("library", "library")))


def unknown_user(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """User names that a record calls unknown."""
    for event in events:
        for name in dict.fromkeys(forms.read(event.text).named("account unknown", "account")):
            yield event, name


_CALLED = pattern(
    r"(?i)(?:\b(?:at|to|on|with|host|server)[ \t]{1,4}|//)(?P<name>[A-Za-z][\w\-]{0,62}(?:\.[\w\-]{1,63}){0,20}):\d{2,5}(?![\w.])"
)


_ACCOUNT_KEY = pattern(r"(?i)(?:user|account|owner|uid|run[_-]?as)[\w.\-]{0,20}[\"']?[ \t]{0,8}[:= \t]")


def unknown_group(events: list[Event]) -> Iterator[tuple[Event, str]]:
    """Names of groups that a record calls unknown."""
    for event in events:
        for name in dict.fromkeys(forms.read(event.text).named("group unknown", "account")):
            yield event, name


def names_account(text: str, name: str) -> bool:
    """Whether a line of settings gives an account of that *name*."""
    words = [word.strip("\"';,") for word in text.replace("=", " ").replace(":", " ").split()]
    return name in words[1:] and _ACCOUNT_KEY.search(text) is not None


def host_in(text: str) -> str:
    """The other machine that a line names: its address, else the word that stands where a name would."""
    asked = _ASKED_FOR.search(text)
    if asked is not None:  # of whom it was asked is another matter
        return asked["name"]
    quoted = [name for name in quoted_hosts(text) if name.lower() not in forms.not_named("host")]
    called = [match["name"] for match in _CALLED.finditer(text) if match["name"].lower() not in forms.not_named("host")]
    names = addresses_in(text) or [*quoted, *called, *forms.read(text).named("host", "host")]
    return next((name for name in names if not name.isdigit() and not _is_a_kind(name, text)), "")


_KIND = pattern(r"(?i) (?:servers?|databases?|services?|brokers?|instances?|clusters?|back-?ends?|daemons?)\b")


def _is_a_kind(name: str, text: str) -> bool:
    """Whether a word says of which kind the other side is ("connection to SQL server"), and is no name of a machine."""
    return name.isalpha() and _KIND.match(text, text.find(name) + len(name)) is not None


_ASKED_FOR = pattern(
    r"(?i)\b(?:lookup|resolv(?:e|ing)) (?P<name>[A-Za-z][\w\-]{0,62}(?:\.[\w\-]{1,63}){0,20})\.? (?:on|at|via|using) [\d\[]"
)


def process_in(text: str) -> int:
    """The process that a line names by its number; 0 where it names none."""
    return int(next(iter(forms.read(text).named("process", "number")), 0))


_CALL_ERROR = pattern(
    r"(?i)(?:invalid argument|bad address|bad font file format|(?:channel|link) number out of range|numerical result out of range|"
    r"protocol wrong type for socket|required key not available|value too large for defined data type|wrong medium type)[.\s]{0,10}$"
)
"""Errors of the C library that sound like words about a value in a configuration, and are of a call (strerror(3), errno(3))."""


def is_call_error(text: str) -> bool:
    """Whether a line ends in what the system says of a call with a wrong value (such as ``EINVAL``): that is no word about a
    configuration, unless it names a place in one."""
    return _CALL_ERROR.search(text[-50:]) is not None and place_in(text) is None


def of_trace(text: str) -> bool:
    """Whether a line is one of a trace of calls: its head, a place in the program, or set in as these are."""
    return text[:1].isspace() or is_set_in(text) or says(text, "trace", "in code")


_SET_IN = pattern(r"^[^\]]{0,80}\] {3,40}(?:File \"|\^|~|[\w.]{1,80}\(|raise |return |self\.)")
"""A line of a trace behind the moment and the level that a log puts before it."""


def is_set_in(text: str) -> bool:
    """Whether a line is one of a trace behind the moment and the level that a log puts before it."""
    return _SET_IN.search(text) is not None

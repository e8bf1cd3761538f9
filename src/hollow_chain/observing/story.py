"""The processes of one service in a trace: which they are, what each tried, and how it ended. What others did is dropped unread."""

from __future__ import annotations

import errno
import posixpath
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from hollow_chain.observing.call_table import (
    ASK,
    BIND,
    CALLS,
    CONNECT,
    LISTEN,
    LOCK,
    MAKE,
    OPEN,
    RENAME,
    RUN,
    STARTS_ANOTHER,
    KnownCall,
)
from hollow_chain.observing.owning import leader_of, number_of, processes_of
from hollow_chain.observing.trace_text import (
    Traced,
    TracedCall,
    TracedEnd,
    TracedSignal,
    TraceReader,
    path_of_descriptor,
    unescaped,
    unquoted,
)

_MOST_FAILED = 20_000
"""Failed calls of one process that are kept: a loop may fail for ever."""
_QUIET = ("mmap", "mprotect", "fcntl", "write", "writev", "pwrite64", "pwritev", "fsync", "fdatasync", "setsockopt")
"""Calls whose success is no step ahead: also a program that gives up makes them."""
_WORKING_FOLDER = "AT_FDCWD"
_INET = re.compile(r'sin_port=htons\((\d+)\), sin_addr=inet_addr\("([^"]*)"\)')
_INET6 = re.compile(r'sin6_port=htons\((\d+)\).*?inet_pton\(AF_INET6, "([^"]*)"')
_UNIX = re.compile(r'sun_path=(@?)"((?:[^"\\]|\\.)*)"')
_LOCKS = re.compile(r"F_(?:OFD_)?SETLKW?|LOCK_(?:EX|SH)")


class Met(NamedTuple):
    """A process that another one asked after, and that was there."""

    number: int
    at: float
    progress: int
    """Steps ahead that the one which asked had made by then."""


class Attempt(NamedTuple):
    """A call that failed, with what it was about."""

    call: TracedCall
    known: KnownCall
    thing: str
    writes: bool
    excludes: bool
    """Whether it wanted to be the first to make what it names (``O_EXCL``)."""
    progress: int
    """Steps ahead that the process had made by then."""
    order: int
    """Calls of the process that had failed before."""
    program: str


@dataclass
class Life:
    """One process, all its threads together."""

    number: int
    parent: int
    program: str = ""
    folder: str = ""
    runs: int = 0
    """Programs that it has become, one after the other."""
    progress: int = 0
    succeeded: dict[str, float] = field(default_factory=dict)
    """Things with which a call came to its end, and when that was last."""
    succeeded_as: dict[tuple[str, str], float] = field(default_factory=dict)
    """The same by the kind of call, those included that are about a descriptor."""
    read: dict[str, float] = field(default_factory=dict)
    """Files that it opened only to read, and when that was last."""
    stepped: float = 0.0
    """When it last began something that others see: an endpoint, a connection, a program, a folder."""
    calling: dict[str, str] = field(default_factory=dict)
    """Endpoints that it has asked for a connection without waiting for it, by the descriptor as the trace writes it."""
    last_call: TracedCall | None = None
    cut: list[TracedCall] = field(default_factory=list)
    """Calls that a signal ended."""
    failed: list[Attempt] = field(default_factory=list)
    met: list[Met] = field(default_factory=list)
    """Processes that it asked after, and that were there."""
    refused: list[TracedSignal] = field(default_factory=list)
    """Calls for which a filter ended it."""
    began: float = 0.0
    ran_at: float = 0.0
    """When it became its first program."""
    last: float = 0.0
    end: TracedEnd | None = None


@dataclass
class Story:
    """What a trace tells of one service."""

    lives: dict[int, Life] = field(default_factory=dict)
    waits: list[tuple[Life, TracedCall, KnownCall, str]] = field(default_factory=list)
    """Calls that have not returned."""
    commands: int = 0
    """How many commands a start of its definition runs; 0: not known. What the manager runs after these stops the service."""
    forgiven: frozenset[str] = frozenset()
    """Programs of steps whose failure the manager takes no notice of (systemd.service(5), the prefix ``-``)."""

    def tops(self) -> list[Life]:
        """The processes of the commands of the start, as they came one after the other: not of what stops the service."""
        found = [one for one in self.lives.values() if one.ran_at and self.top(one) is one]
        return sorted(found, key=lambda one: one.ran_at)[: self.commands or None]

    def top(self, life: Life) -> Life:
        """The process that the manager itself began, from which *life* comes."""
        seen = {life.number}
        while life.parent in self.lives and life.parent not in seen:
            seen.add(life.parent)
            life = self.lives[life.parent]
        return life


def told(
    lines: Sequence[str],
    unit: str,
    programs: Iterable[str],
    known: Iterable[int] = (),
    commands: int = 0,
    forgiven: Iterable[str] = (),
) -> Story:
    """The story of the service *unit*, whose definition names *programs*; *known* are processes that were seen in its group, *commands* is how many
    commands a start runs, *forgiven* are the programs of those whose failure the manager takes no notice of."""
    own, threads, parents = processes_of(lines, unit, frozenset(programs), frozenset(known))
    story, reader = Story(commands=commands, forgiven=frozenset(forgiven)), TraceReader()
    leaders: dict[int, int] = {}
    for line in lines:
        number = number_of(line)
        if number not in own:
            continue
        leader = leaders.get(number) or leader_of(number, threads, parents)
        leaders[number] = leader
        life = story.lives.get(leader)
        if life is None:
            life = story.lives[leader] = Life(leader, parents.get(leader, 0))
            above = story.lives.get(life.parent)
            if above is not None:
                life.folder, life.program, life.runs = above.folder, above.program, above.runs
        found = reader.read(line)
        if found is not None:
            _add(life, found)
    for call in [*reader.unfinished(), *(call for life in story.lives.values() for call in life.cut[-1:])]:
        life = story.lives.get(leaders.get(call.process, 0))
        if life is not None and call.name in CALLS:
            story.waits.append((life, call, CALLS[call.name], _thing(life, call, CALLS[call.name])))
    return story


def _add(life: Life, found: Traced) -> None:
    life.began = life.began or found.at
    life.last = max(life.last, found.at)
    if isinstance(found, TracedEnd):
        if found.process == life.number:
            life.end = found
        if found.signal == "SIGSYS" and not life.refused and (name := found.call or _refused(life)):
            life.refused.append(TracedSignal(found.process, found.at, found.signal, name))
    elif isinstance(found, TracedSignal):
        if found.refused:
            life.refused.append(found)
    else:
        _add_call(life, found)


def _refused(life: Life) -> str:
    """The call at which a filter ended a process without a signal that could be seen (``SECCOMP_RET_KILL_PROCESS``, seccomp(2)): its own
    number stands in the place of what it returned, where else stands nothing, or a descriptor with its path."""
    last = life.last_call
    if last is None or last.value is None or last.value <= 0 or last.descriptor or last.name in _COUNT:
        return ""
    return last.name


_COUNT = ("write", "writev", "pwrite64", "pwritev", "fcntl", "mmap", "readlink", "readlinkat", *STARTS_ANOTHER)
"""Calls that return a number of their own."""


def _add_call(life: Life, call: TracedCall) -> None:
    life.last_call = call
    known = CALLS.get(call.name)
    if known is None:
        return
    if call.value is None:
        life.cut.append(call)
        return
    if known.folder is not None and known.folder < len(call.arguments):
        argument = call.arguments[known.folder]
        if argument.startswith(_WORKING_FOLDER) and (here := path_of_descriptor(argument)):
            life.folder = here
    if call.name == "getsockopt":
        _add_outcome(life, call)
        return
    if known.kind == ASK:
        _asks(life, call)
        return
    if call.error == _UNDER_WAY and known.kind == CONNECT and call.arguments and len(life.calling) < _MOST_CALLING:
        life.calling[call.arguments[0]] = _thing(life, call, known)
    if not call.error:
        _went_well(life, call, known)
    elif len(life.failed) < _MOST_FAILED and not (known.kind == LOCK and not _LOCKS.search(" ".join(call.arguments))):
        text = " ".join(call.arguments)
        writes = known.writes or (known.kind == OPEN and _opens_to_write(call))
        thing = _thing(life, call, known)
        attempt = Attempt(
            call,
            known,
            thing,
            writes,
            "O_EXCL" in text,
            life.progress,
            len(life.failed),
            life.program,
        )
        life.failed.append(attempt)


_MOST_MET = 100
"""Processes asked after that are remembered: whoever asks after more looks at them all."""
_OF_PROCESS = re.compile(r"/proc/(\d{1,10})(?:/\w{1,20})?")


def _asks(life: Life, call: TracedCall) -> None:
    """Whether another process is there: it is, too, where it is another account's (kill(2), ``EPERM``)."""
    number, signal = (*call.arguments, "", "")[:2]
    if signal == "0" and call.error in ("", "EPERM") and number.isdigit() and len(life.met) < _MOST_MET:
        life.met.append(Met(int(number), call.ended, life.progress))


_UNDER_WAY = "EINPROGRESS"
_MOST_CALLING = 1_000
"""Connections under way that are remembered: descriptors of one process."""
_OUTCOME = re.compile(r"\[(?:(?P<name>E[A-Z]{2,20})|(?P<number>\d{1,4}))\]")


def _add_outcome(life: Life, call: TracedCall) -> None:
    """What came of a connection that was not waited for, as the call that it would have been otherwise (socket(7), ``SO_ERROR``)."""
    if call.error or len(call.arguments) < _ARGUMENTS_OF_OUTCOME or call.arguments[2] != "SO_ERROR":
        return
    thing, outcome = life.calling.pop(call.arguments[0], ""), _OUTCOME.match(call.arguments[3])
    if not thing or outcome is None:
        return
    error = outcome["name"] or errno.errorcode.get(int(outcome["number"]), "")
    known = CALLS["connect"]
    if not error:
        life.succeeded_as[CONNECT, thing] = life.succeeded[thing] = call.ended
    elif len(life.failed) < _MOST_FAILED:
        asked = call._replace(name="connect", error=error)
        life.failed.append(Attempt(asked, known, thing, False, False, life.progress, len(life.failed), life.program))


_ARGUMENTS_OF_OUTCOME = 4
"""Arguments of ``getsockopt`` up to the value."""


def _went_well(life: Life, call: TracedCall, known: KnownCall) -> None:
    thing = _thing(life, call, known)
    if call.name in ("chdir", "fchdir") and thing:
        life.folder = thing
    elif known.kind == RUN and thing:
        life.program, life.runs = thing, life.runs + 1
        life.ran_at = life.ran_at or call.at
    if (asked := _OF_PROCESS.fullmatch(thing)) and len(life.met) < _MOST_MET:
        life.met.append(Met(int(asked[1]), call.ended, life.progress))
    if thing:
        life.succeeded_as[known.kind, thing] = call.ended
        if known.descriptor is None or known.kind in (BIND, CONNECT):
            life.succeeded[thing] = call.ended
    if known.kind == OPEN and thing and not _opens_to_write(call) and "O_DIRECTORY" not in " ".join(call.arguments):
        life.read[thing] = call.ended
    elif (known.kind in _STEPS and not thing.startswith(("/", "@"))) or known.kind in _STEPS_ON_PATHS:
        life.stepped = call.ended
    if call.name not in _QUIET and known.kind != "look":
        life.progress += 1


_STEPS, _STEPS_ON_PATHS = (BIND, CONNECT, LISTEN), (RUN, MAKE, RENAME)
"""What shows that a program went on after it had read a file; sockets in the file system are left out: it may log through one."""


def _opens_to_write(call: TracedCall) -> bool:
    text = " ".join(call.arguments)
    return call.name == "creat" or any(word in text for word in ("O_WRONLY", "O_RDWR", "O_CREAT"))


def _thing(life: Life, call: TracedCall, known: KnownCall) -> str:
    """What a call is about: a path from the root on, or an endpoint."""
    if known.kind in (BIND, CONNECT):
        return _endpoint(life, call.arguments[known.path or 0]) if len(call.arguments) > (known.path or 0) else ""
    if known.path is not None and known.path < len(call.arguments):
        path = unquoted(call.arguments[known.path])
        if path is None:
            return ""
        return _absolute(path, _begins(life, call, known)) if path else _behind(call, known.folder)
    return _behind(call, known.descriptor)


def _behind(call: TracedCall, at: int | None) -> str:
    return path_of_descriptor(call.arguments[at]) if at is not None and at < len(call.arguments) else ""


def _begins(life: Life, call: TracedCall, known: KnownCall) -> str:
    """The folder at which a relative path of a call begins."""
    if known.folder is not None and known.folder < len(call.arguments):
        return path_of_descriptor(call.arguments[known.folder]) or life.folder
    return life.folder


def _absolute(path: str, folder: str) -> str:
    if not path.startswith("/"):
        if not folder:
            return path
        path = f"{folder}/{path}"
    plain = posixpath.normpath(path)
    return plain[1:] if plain.startswith("//") else plain


def _endpoint(life: Life, address: str) -> str:
    if found := _INET.search(address):
        return f"{found[2]}:{found[1]}"
    if found := _INET6.search(address):
        return f"[{found[2]}]:{found[1]}"
    if found := _UNIX.search(address):
        path = unescaped(found[2])
        return f"@{path}" if found[1] else _absolute(path, life.folder) if path else ""
    return ""

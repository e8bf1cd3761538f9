"""Paths that records refuse: what a line that speaks of a refusal is about."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import islice
from typing import NamedTuple

from hollow_chain.causes import rights
from hollow_chain.causes.case import Case
from hollow_chain.causes.places import inside
from hollow_chain.facts.habits import folder_of
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Program
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines, sought
from hollow_chain.wording.forms import read
from hollow_chain.wording.of_files import may_be_of_files


def _speaks_of_log(case: Case, event: Event, meant: list[str]) -> bool:
    """Whether a record that names no path speaks of its log, and that is what is meant."""
    program = case.service.program
    logs = program.log_files if program is not None else []
    return any(path in logs for path in meant) and _LOG.search(event.text) is not None


_LOG = pattern(r"(?i)\blog(?:s|ging|[ -]?files?)?\b")


_STEPS_ON_FILES = frozenset({"EXEC", "CHDIR", "CHROOT", "NAMESPACE", "STDIN", "STDOUT", "STDERR", "CREDENTIALS"})
_STEPS_ON_FILES |= {f"{kind}_DIRECTORY" for kind in ("STATE", "CACHE", "LOGS", "CONFIGURATION", "RUNTIME")}
"""Steps of the manager that open files (systemd.exec(5), "Process Exit Codes"), by the names that its records use."""


_OF_ITSELF = ("", "EXEC")
"""Of these steps the program is what is refused; in the record of any other it is named, and not meant."""


class RefusedPath(NamedTuple):
    """A path that a record is about which says that something was refused."""

    event: Event
    path: str
    tied: bool
    """Whether the record itself, or what led to it, names the path."""


def refused_paths(case: Case) -> Iterator[RefusedPath]:
    """Paths that records refuse; the longest path of each is the one that is meant."""
    folder = folder_of(case.service)
    for event, told in lines.refused(case.told_events()):
        # What it names itself, from the working folder on, comes before what the lines around it name.
        near = [path for _, path in sought.refused_below([event], "" if event.by_manager else folder)] or told
        if not _STEPS_ON_FILES.issuperset(read(event.text).named("step", "step")):
            continue  # the manager could not get as far as the program: not the program is refused
        if event.by_manager and not any(path in event.text for path in near):
            continue  # what it names in the line before is what it was about to run
        meant = _meant(case, event, near)
        if meant:
            path = meant[-1] if event.by_manager else max(meant, key=len)
            yield RefusedPath(event, path, bool(near) or _speaks_of_log(case, event, meant))


def _meant(case: Case, event: Event, near: Sequence[str]) -> list[str]:
    """What a record may be about, of the paths that stand in it or in what led to it: not the program itself, unless it is what was
    to be run."""
    step = next(iter(read(event.text).named("step", "step")), "")
    # A place in a source is where the program stood when it was refused something.
    paths = [p for p in near if not re.search(rf"{re.escape(p)}(?::| line )\d+", event.text)]
    program = case.service.program
    meant = [p for p in paths if not (program and p == program.path)] or ([] if step not in _OF_ITSELF else paths)
    if not near and program and not event.by_manager and may_be_of_files(event.text):
        meant = _known_and_closed(case, program)
    if meant and not any(path in event.text for path in meant):
        # Of several in the line before it, as a trace of calls shows them: one that is seen to be closed.
        closed = [path for path in meant if rights.barrier(case, path, False)][:1]
        of_files = not event.by_manager and (may_be_of_files(event.text) or _was_at_a_file(case, event))
        meant = closed or (_known_and_closed(case, program) if of_files and program else []) or meant
    return meant


_AT_A_FILE = pattern(r"(?i)\b\w{0,40}(?:load|open|read|file|cert|key|path)\w{0,40}\(")
"""Calls on files, as a trace of calls quotes the line of the source: not all of them tell in their error which file that was."""


def _was_at_a_file(case: Case, event: Event) -> bool:
    """Whether a trace of calls that ends in this line ends in a call on a file."""
    past = sought.before(case.own_events(), event)
    return any(one.text[:1].isspace() and _AT_A_FILE.search(one.text) for one in past)


def _known_and_closed(case: Case, program: Program) -> list[str]:
    """Of the files that a service is known to use, the first that keeps its account out of what a program does with such a file. Files
    of the environment are not among them: the manager reads these, with all rights."""
    known = [
        *((p, True) for p in program.log_files),
        *(
            (p, None if inside(p, "/var") else False)
            for p in (*program.paths, *(one.path for one in program.named or ()))
        ),
    ]
    closed = (p for p, writes in known if (f := case.file(p)) and f.exists and rights.barrier(case, p, writes))
    return list(islice(closed, 1))

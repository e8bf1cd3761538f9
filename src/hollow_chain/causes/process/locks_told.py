"""Complaints about locks: the file that each is about, and the live process behind that."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes import looked
from hollow_chain.causes.case import Case
from hollow_chain.causes.words import came_to_nothing
from hollow_chain.facts.habits import beside
from hollow_chain.facts.host import Event, File, Process
from hollow_chain.facts.service import Program
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.forms import says
from hollow_chain.wording.things import paths_in

_CLOCK_SLACK = 5.0
"""Seconds by which the start of a process and the time of a file may differ and still belong together."""


def process_of(case: Case, number: int) -> Process | None:
    """The process of a number, of those that were read; None where it is none of these."""
    return next((p for p in case.host.processes if p.process == number), None)


def is_younger(process: Process, file: File | None) -> bool:
    """Whether a process began after a file had been written, and so has not written it."""
    if file is None or file.changed_at is None or process.started_at is None:
        return False
    return (process.started_at - file.changed_at).total_seconds() > _CLOCK_SLACK


def complaints_of_locks(case: Case) -> Iterator[tuple[Event, str, Process | None]]:
    """Complaints about locks, with the file and the live process behind each; each file once."""
    if case.standing.well or not came_to_nothing(case):
        return
    seen: set[str] = set()
    own = [e for e in case.last_events() if not e.by_manager]
    for index, event in enumerate(own):
        # A socket in the file system is an endpoint too: taken, or left over with nobody behind it.
        taken = (says(event.text, "in use") and _sockets_in(case, event)) or _was_to_be_new(case, event)
        if not says(event.text, "locked", "busy") and not taken:
            continue
        near = [event, *own[index + 1 : index + 3]]
        paths = (
            [p for p in paths_in(event.text) if _is_lock(p, case.file(p))]
            or _held_by_name(case, event)
            or _sockets_in(case, event)
            or _own_locks(case, event)
            or _held_beside(case, event)
            or [""]
        )
        for path in paths:
            holder = _holder(case, case.file(path) if path else None, near)
            if path not in seen and (path or holder is not None):
                seen.add(path)
                yield event, path, holder


def _was_to_be_new(case: Case, event: Event) -> bool:
    """Whether a line says of a lock that it is there already."""
    return lines.is_there_already(event.text) and any(_is_lock(p, case.file(p)) for p in paths_in(event.text))


def _sockets_in(case: Case, event: Event) -> list[str]:
    """The sockets of the file system that a line names; where it names none, those of the lines before it: a trace of calls ends with
    the error."""
    own = case.own_events()
    at = next((index for index, one in enumerate(own) if one is event), 0)
    near = paths_in(event.text) or [path for one in own[max(0, at - _IN_TRACE) : at] for path in paths_in(one.text)]
    return [path for path in dict.fromkeys(near) if (file := case.file(path)) is not None and file.kind == "socket"]


_IN_TRACE = 4
"""Lines before the end of a trace in which the last calls stand."""


def _held_by_name(case: Case, event: Event) -> list[str]:
    """Held files whose name stands in the line without its folder."""
    held = [f for f in case.host.files if f.held_by and f.kind == "file"]
    return [
        f.path for f in held if re.search(rf"(?<![\w.\-]){re.escape(f.path.rpartition('/')[2])}(?![\w\-])", event.text)
    ]


def _own_locks(case: Case, event: Event) -> list[str]:
    """Of a line that names no lock: those of its own, by name and place, that hold the number which the line tells; where it tells none,
    the only one that there is, if the run ended on that line."""
    places = looked.used(case)
    number = lines.process_in(event.text) if places else 0
    found = [file for file in places if file.exists and file.kind == "file" and _is_lock(file.path, file)]
    if number:
        return [file.path for file in found if file.names_process == number]
    ended_on = len(found) == 1 and any(one is event for one in case.final_events())
    return [file.path for file in found] if ended_on else []


def _held_beside(case: Case, event: Event) -> list[str]:
    """Of a line that names nothing: the file with a lock on it that lies with its program or its data, where all such are in the hands of
    one process."""
    if paths_in(event.text) or lines.process_in(event.text):
        return []
    folders = set(beside(case.service))
    held = [f for f in case.host.files if f.held_by and f.kind == "file" and f.path.rpartition("/")[0] in folders]
    return [file.path for file in held[:1]] if len({file.held_by for file in held}) == 1 else []


def _is_lock(path: str, file: File | None) -> bool:
    if file is not None and file.kind == "device":
        return False
    if file is not None and file.kind == "socket":
        return True
    name = path.rpartition("/")[2].lower()
    return "lock" in name or name.endswith((".pid", "pid")) or (file is not None and bool(file.held_by))


def _holder(case: Case, file: File | None, near: list[Event]) -> Process | None:
    own = {event.process for event in near}
    locking = process_of(case, file.held_by) if file and file.held_by not in own else None
    if locking is not None:
        return locking
    numbers = [
        file.names_process if file and file.process_runs else 0,
        *(lines.process_in(event.text) for event in near),
    ]
    for number in numbers:
        process = process_of(case, number) if number and number not in own else None
        if process is not None and not is_younger(process, file):
            return process
    return None


def is_told(event: Event, path: str) -> bool:
    """Whether a complaint is about *path* by more than that this lies near: by its name, or by that of a lock."""
    name = path.rpartition("/")[2]
    return not path or name in event.text or _LOCK.search(name) is not None


_LOCK = pattern(r"(?i)lock|\bpid\b|pid$")


def is_another(case: Case, path: str, holder: Process) -> bool:
    """Whether a process that is known by its number alone runs another program than the service does, by its name or by the script that
    both give to one interpreter."""
    file, program = case.file(path) if path else None, case.service.program
    if (file is not None and file.held_by == holder.process) or not holder.program or program is None:
        return False
    script = next(
        (word for word in program.arguments[1:2] if word.startswith("/") and not word.startswith("/etc/")), ""
    )
    if (script or program.path) in holder.arguments:
        return False
    if _plain_name(holder.program) not in {_plain_name(one) for one in _run_as(case, program)}:
        return True
    return bool(script and holder.arguments)


def runs_the_same(case: Case, holder: Process) -> bool:
    """Whether a process is known to run the program of the service: by the words that it was called with, or by its path."""
    program = case.service.program
    if program is None or not holder.program:
        return False
    return program.path in holder.arguments or (
        holder.program in _run_as(case, program) and not is_another(case, "", holder)
    )


def _plain_name(path: str) -> str:
    """The name of a program without the version that the name of an interpreter ends in: which one a link leads to need not be known."""
    return path.rpartition("/")[2].rstrip("0123456789.")


def _run_as(case: Case, program: Program) -> list[str]:
    """By what paths a process may run *program*: its own, what links behind it lead to, and its interpreter."""
    found = [program.path, *program.arguments[:1]]
    for path in found:
        file = case.file(path)
        if file is not None and len(found) < _MOST_NAMES:
            found += [one for one in (file.link_to, file.interpreter) if one and one not in found]
    return found


_MOST_NAMES = 12
"""Paths of one program: links and interpreters behind it are few."""

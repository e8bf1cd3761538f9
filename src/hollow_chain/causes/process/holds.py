"""Locks, PID files and sockets of the file system that another holds, or that nobody holds any more."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.causes import looked, places, rights
from hollow_chain.causes.acts import give_way, remove, start
from hollow_chain.causes.case import FILES, MANAGER, Case
from hollow_chain.causes.finding import DOUBT, FITS, HINT, SAID, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.process.locks_told import (
    complaints_of_locks,
    is_another,
    is_told,
    is_younger,
    process_of,
    runs_the_same,
)
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import clock
from hollow_chain.facts.host import TOLD, Event, File, Process
from hollow_chain.wording import lines


@cause("lock-held", Boot.RIVALRY, states=("running", *NOT_UP), when=When.DOWN)
def lock_held(case: Case) -> Iterator[Finding]:
    """Another live process holds its lock, its PID file or its data.

    Looks at: log lines about locks, PID files, other instances; the processes that they or the files name.
    Convinced by: a live process behind the lock, by the kernel's table of locks or by the number in the file.
    Against: no such process (then the lock is a left-over).
    Mend: stop the other one, and keep it from coming back.
    """
    found = False
    if case.service.state == "stopped" and not failed_last(case.service):
        yield from _foreseen(case)
        return
    for event, path, holder in complaints_of_locks(case):
        if holder is None or holder.service == case.node.name:
            continue
        found = True
        who = holder.service or holder.program or f"process {holder.process}"
        yield Finding(
            says=f"{case.service.name} cannot get {path or 'its lock'}: {who} (process {holder.process}) holds it.",
            evidence=(
                case.quoted(event, FITS if is_told(event, path) else HINT),
                case.seen(f"process {holder.process} runs: {holder.program or 'program not readable'}"
                          f"{f', of {holder.service}' if holder.service else ''}", "processes", bears=_bears(case, event, path, holder)),
            ),
            mends=(
                _giving_way(case, event, path, holder, who),
            ),
            holder=who,
            explains=("exits-with-error", "crash-loop", "config-rejected", *(("port-held",) if _is_socket(case, path) else ())),
        )  # fmt: skip
    if not found:
        yield from _held_places(case)


def _is_socket(case: Case, path: str) -> bool:
    file = case.file(path) if path else None
    return file is not None and file.kind == "socket"


def _bears(case: Case, event: Event, path: str, holder: Process) -> str:
    """What it is worth that a process runs which a complaint, or the file, names by its number. The kernel knows who has a lock; a number
    alone may have been given out anew, and most likely was where another program runs under it. What only lies near is no more than likely."""
    if not is_told(event, path):
        return FITS
    return DOUBT if is_another(case, path, holder) else SAID


def _foreseen(case: Case) -> Iterator[Finding]:
    """It is down for another reason, and its start would meet a lock of another service's on a file that it is set to lock. A note."""
    program, name = case.service.program, case.node.name
    if program is None or not (case.asked or case.needed_from is not None):
        return
    for path in dict.fromkeys((program.pid_file, *program.settings_paths)):
        file = case.file(path) if path else None
        holder = process_of(case, file.held_by) if file is not None and file.held_by and file.kind == "file" else None
        if file is None or holder is None or not holder.service or holder.service == name:
            continue
        held = case.seen(f"locked by process {holder.process}, of {holder.service}", "processes", bears=SAID)
        yield Finding(
            says=f"{name} would not get {path} if it were started now: {holder.service} has a lock on it.",
            evidence=(
                held,
                case.seen(f"its definition or its settings name {path} as its own", "definition", bears=FITS),
            ),
            mends=(
                Mend(
                    f"Stop {holder.service}, and keep it from coming back; then start {name}.",
                    acts=give_way(case.graph.find(case.node.host, holder.service)),
                ),
            ),
            holder=holder.service,
            note=True,
        )
        return


def _held_places(case: Case) -> Iterator[Finding]:
    """It ends without a reason of its own, and another process has a lock on a file of its own, or is another instance of its program that
    has put its number there."""
    silent = looked.is_silent(case)
    for file in looked.used(case) if failed_last(case.service) and not case.standing.well else ():
        # Whatever it says, an instance of it that it was set to look for is worth more than an end that nothing explains.
        holder = _instance(case, file) if not file.held_by else process_of(case, file.held_by) if silent else None
        if holder is None or holder.service == case.node.name:
            continue
        who = holder.service or holder.program or f"process {holder.process}"
        how = "has a lock on it" if file.held_by else "runs the same program, and stands in it"
        seen = f"{'locked by' if file.held_by else 'it names'} process {holder.process}, {who}"
        yield Finding(
            says=f"{case.service.name} most likely cannot get {file.path}: {who} (process {holder.process}) {how}.",
            evidence=(looked.place(case, file, seen), looked.ended(case)),
            mends=(
                Mend(
                    f"Stop {who}, and keep it from coming back, if it is not the one that should have it; then start {case.service.name}.",
                    means=give_way(case.graph.find(case.node.host, holder.service)),
                ),
            ),
            residual=True,
            holder=who,
            explains=("exits-with-error", "exits-at-once", "crash-loop"),
        )
        return


def _instance(case: Case, file: File) -> Process | None:
    """The process that runs and that a PID file names by its number, where it runs the program of the service."""
    holder = process_of(case, file.names_process) if file.names_process and file.process_runs else None
    return holder if holder is not None and not is_younger(holder, file) and runs_the_same(case, holder) else None


@cause("stale-lock", Boot.OVER, states=("running", *NOT_UP), when=When.DOWN)
def stale_lock(case: Case) -> Iterator[Finding]:
    """The lock or PID file is a left-over: the process that made it is gone.

    Looks at: log lines about locks and PID files; whether the process that they name still runs.
    Convinced by: the process being gone, and no lock of the kernel on the file.
    Against: a live process behind it.
    Mend: remove the left-over, after that proof only.
    """
    yield from _left_pid_file(case)
    for event, path, holder in complaints_of_locks(case):
        file = case.file(path) if path else None
        if file is None or not file.exists or file.kind == "folder" or file.held_by:
            continue
        gone = _given_anew(case, path, holder) if holder is not None else _is_gone(case, event, file)
        if not gone:
            continue
        yield Finding(
            says=f"{path} is a left-over that keeps {case.service.name} from starting: {gone.says}.",
            evidence=(
                case.quoted(event, FITS),
                case.seen(
                    f"{path} exists, last changed {file.changed_at:%Y-%m-%d %H:%M:%SZ}"
                    if file.changed_at
                    else f"{path} exists",
                    FILES,
                ),
                case.seen(gone.says, "processes", bears=SAID if gone.by_number else HINT),
            ),
            mends=(_left_over(case, file) if holder is None else _moved_aside(case, file, holder),),
            explains=("exits-with-error", "crash-loop", *(("port-held",) if file.kind == "socket" else ())),
        )


def _left_pid_file(case: Case) -> Iterator[Finding]:
    """Its start waits for its PID file to name a process that runs, and that file is of before the start."""
    program, last = case.service.program, case.service.last
    if case.service.state != "starting" or program is None or program.process or not program.pid_file:
        return
    file, begun = case.file(program.pid_file), last.started_at if last is not None else None
    written = file.changed_at if file is not None else None
    if file is None or begun is None or written is None or not file.names_process or file.process_runs is not False:
        return
    if written >= begun:
        return
    left = f"process {file.names_process}, which it names, does not run"
    closed = rights.barrier_for_owner(case, file.path)
    yield Finding(
        says=f"{case.service.name} is not up because the manager waits for {file.path} to name its process, and that is a left-over of "
        f"before the start: {left}.",
        evidence=(
            case.seen(f"PID file of the definition: {file.path}; the start is waiting for it", MANAGER, begun, FITS),
            case.seen(f"{file.path} was written at {clock(written)}, before the start: {left}", FILES, written, SAID),
            case.seen(f"{file.path} belongs to {file.owner}:{file.group}, mode {file.mode}" + (f"; {closed.why}" if closed else ""), FILES),
        ),
        mends=(_left_over(case, file),),
        explains=("never-reports", "start-timeout", "access-denied"),
    )  # fmt: skip


def _giving_way(case: Case, event: Event, path: str, holder: Process, who: str) -> Mend:
    """Have the holder give way; by a machine where the kernel says that it has the file, and more than words of the service itself
    that the file is the service's."""
    name = case.service.name
    does = f"Stop {who}, and keep it from coming back; then start {name}."
    means = give_way(case.graph.find(case.node.host, holder.service))
    if event.trust in TOLD and not (path and places.uses(case, path)):
        doubt = f"See first whether {name} is meant to have {path or 'that'}: only its own words say so"
        return Mend(f"{doubt}. If it is: {does[0].lower()}{does[1:]}", means=means)
    file = case.file(path) if path else None
    held = file is not None and file.held_by == holder.process
    return Mend(does, acts=means if held else (), means=() if held else means)


def _left_over(case: Case, file: File) -> Mend:
    """Remove a left-over of the service's own; a machine does where its process is proven gone: by the number in the file itself, or
    by the kernel's table of sockets."""
    name = case.service.name
    if not places.may_be_removed(case, file):
        doubt = f"See first whether {file.path} is a lock of {name} at all: by its name and place it is not"
        return Mend(f"{doubt}; if it is, and by hand only: move it aside, then start {name}.")
    does = f"Remove {file.path}, now that its process is known to be gone; then start {name}."
    return Mend(does, acts=(remove(file.path), start(case.node.name)) if _is_proven(file) else ())


def _moved_aside(case: Case, file: File, holder: Process) -> Mend:
    """Take away a left-over whose number another program bears by now, by hand: what runs may be the service's under another name."""
    does = f"See that process {holder.process} ({holder.program}) is none of {case.service.name}; then move {file.path} aside"
    return Mend(f"{does}, and start {case.service.name}.")


def _is_proven(file: File) -> bool:
    """Whether it is known who made the left-over, and that he is gone: a process by its number, or whoever listened on a socket."""
    return bool(file.names_process) or (file.kind == "socket" and file.process_runs is False)


def _given_anew(case: Case, path: str, holder: Process) -> Gone | None:
    """Why the number that a file names is most likely of another process by now; None where it may be the one that wrote it."""
    if holder.service == case.node.name or not is_another(case, path, holder):
        return None
    says = f"process {holder.process}, which it names, is {holder.program}, another program than that of {case.service.name}"
    return Gone(says, by_number=False)


class Gone(NamedTuple):
    """Why the process behind a lock file is known to be gone."""

    says: str
    by_number: bool = True
    """Whether its number is known, and no process of that number can be the one."""


def _is_gone(case: Case, event: Event, file: File) -> Gone | None:
    """Why the process behind a lock file is known to be gone; None where it may be there.

    A number is given out anew: a process that began after the file was written is not the one that wrote it.
    """
    number = file.names_process or lines.process_in(event.text)
    if not number:
        if file.kind == "socket":
            return Gone("nobody listens behind it") if file.process_runs is False else None
        return Gone("nobody holds a lock on it", by_number=False)
    if not file.names_process or not file.process_runs:
        return Gone(f"process {number}, which it names, no longer runs")
    process = process_of(case, number)
    if process is None or not is_younger(process, file):
        return None
    return Gone(
        f"process {number}, which it names, is now {process.program or 'another one'}, begun after the file was written"
    )

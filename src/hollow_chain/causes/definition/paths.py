"""Folders and files that the definition names."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import datetime, timedelta

from hollow_chain.causes import looked
from hollow_chain.causes.called import CalledSocket, called_sockets
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.definition import absence, by_settings, unfound
from hollow_chain.causes.definition.given import missing_variables, tested_in_vain
from hollow_chain.causes.definition.modules import missing_module
from hollow_chain.causes.definition.program import library_folders, programs_of
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, PROOF, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.places import is_device, is_made_by_name, is_written
from hollow_chain.causes.rights import barrier
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import Standing
from hollow_chain.causes.words import came_to_nothing, clock, numbered, started_since_boot
from hollow_chain.facts.habits import folder_of, is_of_instance
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Program, is_deserted
from hollow_chain.families.steps import EXIT_NOT_FOUND, step_of
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines, sought
from hollow_chain.wording.forms import says
from hollow_chain.wording.system_errors import error_at_end
from hollow_chain.wording.things import paths_below, paths_in

_NOT_THERE = (2, 3)
"""Numbered errors of the control-manager family: a file, or a folder on the way to one, is not there (winerror.h)."""
_VOLATILE = ("/run/", "/var/run/", "/tmp/", "/proc/", "/sys/", "/dev/")


@cause("path-missing", Boot.STAYS, states=("running", *NOT_UP), when=When.DOWN)
def path_missing(case: Case) -> Iterator[Finding]:
    """A file or folder that it names or opens is not there.

    Looks at: files that the definition cannot do without; paths that the log calls absent; paths among the
    arguments; files that the log names without a folder, sought beside the program. Each is looked at.
    Convinced by: the definition or the log naming it, and a look that found nothing.
    Against: a file there; a path of a kind that programs create themselves.
    Mend: create it with the right owner, or correct the path.
    """
    # A program that went on without a part of it did not end for want of that.
    for event, library in lines.missing_libraries(case.told_events()) if came_to_nothing(case) else ():
        sought = library_folders(case)
        mends = [Mend(f"Install the package that provides {library}.")]
        if sought is not None:
            mends.append(
                Mend(
                    f"Or correct the folders of libraries in the definition of {case.service.name}.",
                    AFTER_RELOAD,
                    instead=True,
                )
            )
        yield Finding(
            says=f"The program of {case.service.name} needs the shared library {library}, which is not found.",
            evidence=(case.quoted(event, PROOF), *_status_of_loader(case), *((sought,) if sought is not None else ())),
            mends=tuple(mends),
            # The line of the settings that asks for it is only where the program stumbled over that.
            explains=("exits-with-error", "crash-loop", "config-rejected"),
        )
        return
    named = False
    called = {one.path: one for one in called_sockets(case)}
    for path, reasons in absent_paths(case):
        if is_of_instance(case.service, path):
            continue
        if path in called:
            yield _nobody_answers(case, called[path], reasons)
            named = True
            continue
        if is_device(path):
            named = True  # it is not put back, but connected: see the rule for devices
            continue
        file = case.file(path)
        gone = absence.how_it_is_gone(case, path, reasons)
        there = file is not None and file.exists
        seen = [] if file is None else [case.seen(absence.seen(case, file), FILES, bears=HINT)]
        yield Finding(
            says=f"{case.service.name} needs {path}, which {gone}.",
            evidence=(*seen, *absence.led_there(case, path, reasons), *reasons),
            mends=(
                Mend(f"See what made {path}, and move it aside.") if there else absence.to_put_back(case, path),
                Mend(f"Or correct the path where {case.service.name} names it.", AFTER_RELOAD, instead=True),
            ),
            # A setting of the manager that came to nothing for want of it did so in its own step.
            explains=("config-rejected", "exits-with-error", "exits-at-once", "crash-loop", "bad-definition")
            if any(reason.bears in (PROOF, SAID, FITS) for reason in reasons)
            else (),
        )
        named = True
    if not named:
        yield from missing_variables(case)
        yield from missing_module(case)
        yield from _links_to_nothing(case)
        yield from unfound.files(case)
        yield from by_settings.lacking(case)


def _nobody_answers(case: Case, called: CalledSocket, reasons: list[Evidence]) -> Finding:
    """A socket that is not there is made by whoever is to listen behind it, and put back by nobody else."""
    name, path, server = case.service.name, called.path, called.server
    is_up = server is not None and case.facts.standing(server) is Standing.UP
    whose = f": {server.name}, whose it is by its path, is {'up without it' if is_up else 'not up'}" if server else ""
    does = (
        f"See where {server.name} listens, and make both agree on one path"
        if server is not None and is_up
        else f"See why {server.name} is not up, and start it"
        if server is not None
        else f"Start what is to listen at {path}, or correct the path where {name} names it"
    )
    return Finding(
        says=f"{name} calls the socket {path}, which is not there{whose}.",
        evidence=(case.seen(f"{path} does not exist", FILES, bears=HINT), *reasons),
        mends=(Mend(f"{does}; then start {name}.", seeks=True),),
        residual=True,  # where whoever is to listen is down, that is told of it
        explains=("config-rejected", "exits-with-error", "exits-at-once", "crash-loop"),
    )


def _status_of_loader(case: Case) -> Iterator[Evidence]:
    last = case.service.last
    if last is not None and last.exit_status == EXIT_NOT_FOUND:
        yield case.seen(
            f"exit status {EXIT_NOT_FOUND}: what was to be run, or a part of it, was not found",
            at=last.ended_at,
            bears=FITS,
        )


def _links_to_nothing(case: Case) -> Iterator[Finding]:
    """It ends without a reason of its own, and a place of its own is a link to nothing."""
    for file in looked.gone(case) if looked.is_silent(case) else ():
        yield Finding(
            says=f"{case.service.name} most likely misses {file.path}, which {absence.what_is_gone(case, file.path)}.",
            evidence=(looked.place(case, file, absence.what_is_gone(case, file.path)), looked.ended(case)),
            mends=(
                absence.to_put_back(case, file.path)
                if file.link_to
                else Mend(f"Put {file.path} back, owned by {absence.user(case)}."),
            ),
            residual=True,
            explains=("exits-with-error", "exits-at-once", "crash-loop"),
        )
        return


def absent_paths(case: Case) -> list[tuple[str, list[Evidence]]]:
    """Paths that are named and absent, with why they count. Several rules ask: worked out once."""
    known = case.facts.memory.get(("absent", case.node.key))
    if known is None:
        known = case.facts.memory["absent", case.node.key] = list(_absent_paths(case))
    return known  # type: ignore[return-value]


def _absent_paths(case: Case) -> Iterator[tuple[str, list[Evidence]]]:
    service, program = case.service, case.service.program or Program()
    if service.kind != "service" or case.standing is Standing.UP or _has_come_up(case):
        return
    if not came_to_nothing(case):
        if not started_since_boot(service, case.host.boot_at):
            yield from _absent_before_a_try(case)
        return
    skip = {program.path, program.folder, *(path for path, _ in programs_of(case))}
    spoken: dict[str, Event] = {}
    for event, path in lines.missing_paths(_near_the_end(case)):
        if _is_one_of_several(case, event, path):
            continue
        if event.call is not None or path not in spoken or spoken[path].call is None:
            spoken[path] = event
    for event, path in lines.unopened_paths(_near_the_end(case)):
        looked_at = case.file(path) is not None
        if looked_at and not says(event.text, *_IS_THERE) and not _was_to_be_made(case, event, path):
            spoken.setdefault(path, event)
    for event, path in sought.missing_below(_near_the_end(case), folder_of(service)):
        if case.file(path) is not None:
            spoken.setdefault(path, event)
    for event in _near_the_end(case):
        if lines.is_there_already(event.text):
            # A link that leads nowhere is in the way of what is to be made there (mkdir(2), ``EEXIST``), and nothing is behind it.
            spoken |= {path: event for path in paths_in(event.text) if _leads_nowhere(case, path)}
    gone = {path: (event, at) for event, path, at in _taken_out(case)}
    strict = [*program.environment_files, *_of_step(case)]
    of_test = tested_in_vain(case)
    named = dict.fromkeys([*of_test, *strict, *spoken, *gone, *program.paths])
    for path in named:
        file = case.file(path)
        if path in of_test:
            yield path, [of_test[path]]
            continue
        wants_folder = (path in spoken and _wants_folder(spoken[path])) or path in program.own_folders
        wants_file = path in spoken and _wants_file(spoken[path])
        stands_there = file.kind if file is not None and file.exists else ""
        misplaced = (stands_there == "file" and wants_folder) or (stands_there == "folder" and wants_file)
        if (
            path in skip
            # The manager makes it at each start, where nothing else stands in its place, and no link to nothing.
            or (
                path in program.own_folders
                and path not in spoken
                and not misplaced
                and not (file is not None and file.link_to)
            )
            or (file is None and path not in spoken)
            or (file is not None and file.exists and not misplaced)
        ):
            continue
        if misplaced:
            said = [case.quoted(spoken[path], SAID)] if path in spoken else []
            what = "a folder, and no file" if stands_there == "folder" else "a file, and no folder"
            yield path, [*said, case.seen(f"{path} is {what}", FILES, bears=SAID)]
            continue
        if file is None and case.family.named_paths_are_looked_at:
            continue  # the log says so, and nobody looked: not enough
        if path in strict:
            yield path, [case.seen(f"the definition of {service.name} cannot do without {path}", bears=SAID)]
        elif path in gone and path not in spoken:
            event, at = gone[path]
            folder = path.rpartition("/")[0]
            fact = f"what lies in {folder} changed at {clock(at)}, since {service.name} was last up; who may use it did not"
            yield path, [case.quoted(event, TELLS), case.seen(fact, FILES, at, FITS)]
        elif path in spoken:
            yield path, [case.quoted(spoken[path], _bears(case, spoken[path], path))]
        elif (
            (is_device(path) or not path.startswith(_VOLATILE))
            and not spoken
            and not _is_to_be_made(case, path)
            and not (service.last is not None and service.last.step)
        ):
            ended = numbered(case, *_NOT_THERE, bears=SAID)
            yield path, [case.seen(f"{path} is among the arguments of {service.name}", bears=HINT), *ended]


def _taken_out(case: Case) -> Iterator[tuple[Event, str, datetime]]:
    """What it may not make in a folder that it was not meant to make it in."""
    for event, path in ((event, path) for event, paths in lines.refused(_near_the_end(case)) for path in paths):
        at = absence.taken_out(case, path)
        if at is not None:
            yield event, path, at


_CHOICE = pattern(r"[\[(]\s?['\"]?(?P<places>/[^\[\]()]{1,2000})[\])]")


def _is_one_of_several(case: Case, event: Event, path: str) -> bool:
    """Whether a line lists places of which one would do, and another one of them is there: it is not for want of this one."""
    choice = _CHOICE.search(event.text)
    others = [one for one in paths_in(choice["places"]) if one != path] if choice is not None else []
    return any((file := case.file(one)) is not None and file.exists for one in others)


def _is_to_be_made(case: Case, path: str) -> bool:
    """Whether a path that nobody calls absent is one of a log, a lock, a number or a socket, in a folder that is there: programs make these
    themselves, and take some of them away when they end."""
    folder = case.file(path.rpartition("/")[0])
    is_made = path.startswith("/var/log/") or is_made_by_name(path)
    return is_made and folder is not None and folder.exists and barrier(case, path, True) is None


_IS_UP = 3.0
"""Seconds after which a run that is up does without what it called absent at its start."""


def _has_come_up(case: Case) -> bool:
    """Whether it has been restarted, and is up by now: what this run lacks has not kept it from that."""
    service, read_at = case.service, case.host.read_at
    up = service.last.up_at if service.last is not None and service.state == "running" else None
    return (
        up is not None and read_at is not None and (read_at - up).total_seconds() >= _IS_UP and not is_deserted(service)
    )


def _was_to_be_made(case: Case, event: Event, path: str) -> bool:
    """Whether a line only says that something could not be made, in a folder that is there: it is not there for that, and not the reason."""
    above = case.file(path.rpartition("/")[0] or "/")
    if above is None or not above.exists:
        return False
    # Programs make what they write to themselves; of one that was to be there, most say that it is not.
    may_be = event.call is None and is_written(path) and error_at_end(event.text) != "ENOENT"
    return says(event.text, "writes") or (may_be and barrier(case, path, True) is not None)


_IS_THERE = ("denied", "busy", "in use", "full")
"""What a line may say of a path besides that it cannot be used: what is refused, or in the hands of another, is not gone."""
_TO_ITS_END = timedelta(seconds=0.5)
"""Within so long of its complaint a program ends itself by a signal that cannot go on for want of a file."""


def _near_the_end(case: Case) -> list[Event]:
    """Its words of the last try; where a signal ended it, only those just before: one that went on had not ended for what it said."""
    last, events = case.service.last, [event for event in case.own_events() if not case.went_on_after(event)]
    crashed = lines.saying(events, "crashed")
    ended = crashed[0].at if crashed else last.ended_at if last is not None and last.signal is not None else None
    return events if ended is None else [event for event in events if ended - event.at <= _TO_ITS_END]


def _is_anybodys(case: Case, event: Event, path: str) -> bool:
    """Whether a call only sought a file in a folder that is not there either, and that nothing calls the service's: libraries do so for
    settings of their own, which need not be there."""
    call, service = event.call, case.service
    if call is None or call.writes or call.kind != "open":
        return False
    folder = case.file(path.rpartition("/")[0])
    if folder is None or folder.exists:
        return False
    program = service.program or Program()
    user = service.account.user if service.account is not None else ""
    names = (service.name.partition(".")[0].partition("@")[0], program.path.rpartition("/")[2], user)
    command_line = service.last.step_arguments or () if service.last is not None else ()
    named = any(path in word for word in command_line) or any(
        one.startswith(folder.path) for one in (*program.paths, *program.own_folders, *(program.used_places or ()))
    )
    return not named and not any(name and name.casefold() in path.casefold() for name in names)


def _bears(case: Case, event: Event, path: str) -> str:
    """What it is worth that a line calls a path absent: less where the program may have left the folder in which it begins."""
    if _is_anybodys(case, event, path):
        return HINT
    if event.call is None and (over := case.outlived(event)):
        return HINT if over == "further" else FITS
    if event.call is None and lines.saying(case.own_events(), "crashed"):
        return FITS  # what it crashed over may be something else
    return (
        SAID
        if event.call is not None
        or path in paths_in(event.text)
        or not paths_below(folder_of(case.service), event.text)
        else FITS
    )


def _wants_folder(event: Event) -> bool:
    """Whether a line says that something is no folder (``ENOTDIR``)."""
    return bool(re.search(r"(?i)not a (?:directory|folder)", event.text))


def _wants_file(event: Event) -> bool:
    """Whether a line says that something is a folder, where it was to be none (``EISDIR``)."""
    return bool(re.search(r"(?i)is a (?:directory|folder)|\bEISDIR\b", event.text))


def _of_step(case: Case) -> list[str]:
    """What the definition names for the step of the manager that failed: without it, the program does not come to run."""
    last, program = case.service.last, case.service.program
    step = step_of(last.exit_status) if last is not None else None
    if step is None or program is None:
        return []
    streams = [path for path in dict.fromkeys(p.rpartition("/")[0] for p in program.log_files) if path]
    if step.name == "STDIN" and program.input_file:
        streams = [program.input_file]
    root = [program.root] if program.root else []
    named = {
        "places": _steady(case, [*program.paths, *root]),
        "credentials": program.credential_files or (),
        "streams": streams,
        # Folders of its own the manager makes by itself, but for those that are links to nothing or in whose place something stands.
        "own folder": [
            path
            for path in program.own_folders
            if (file := case.file(path)) is not None and (file.link_to or (file.exists and file.kind == "file"))
        ],
        "root": root,
    }
    return list(named.get(step.about, ()))


def _steady(case: Case, paths: list[str]) -> list[str]:
    """Those of the absent places that do not come and go as services run, where there are any."""
    absent = [path for path in paths if (file := case.file(path)) is not None and not file.exists]
    return [path for path in absent if not path.startswith(_VOLATILE)] or absent


def _leads_nowhere(case: Case, path: str) -> bool:
    file = case.file(path)
    return file is not None and bool(file.link_to) and not file.exists


def _absent_before_a_try(case: Case) -> Iterator[tuple[str, list[Evidence]]]:
    """Absent files that carry the instance's name, of an instance that nobody has tried to start yet."""
    service = case.service
    for path in service.program.paths if service.program else ():
        file = case.file(path)
        if file is not None and not file.exists and is_of_instance(service, path) and path.startswith("/etc/"):
            yield path, [case.seen(f"{path} is among the arguments of {service.name}", bears=FITS)]

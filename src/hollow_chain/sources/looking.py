"""Looking at everything that services and their records name."""

from __future__ import annotations

import stat
from collections import deque
from collections.abc import Iterator
from itertools import islice

from hollow_chain.facts.habits import beside, folder_of, folders_of_programs, names_of
from hollow_chain.facts.host import Event, Host, Unread
from hollow_chain.facts.service import Service, is_deserted
from hollow_chain.lazy import pattern
from hollow_chain.sources import sockets
from hollow_chain.sources.accounts import accounts
from hollow_chain.sources.holders import holders_of
from hollow_chain.sources.looks import Looker
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording import forms, lines, sought
from hollow_chain.wording.observed import records_of
from hollow_chain.wording.tested import tested
from hollow_chain.wording.things import below, paths_in

_LOCK_NAME = pattern(r"(?i)lock|pid$")
_FILE_NAME = pattern(r"(?<![\w/])(?:\./|/[\w./\-]*/)?([\w.\-]{3,80})")
_MOST_TESTED = 8
"""Paths that one command line tests: more are a program of its own."""
_MOST_ACCOUNTS, _MOST_PROCESSES, _MOST_PATHS = 20, 100, 50
"""Accounts and processes that records name, and paths that those of one service name: a log may be full of them."""


def look(reading: HostReading) -> None:
    """Look at the files that services, their license files, and records name."""
    host, looker = reading.host, reading.looker
    records = _records(host)
    quoted, refused = _paths_quoted(records), _paths_quoted(lines.saying(records, "denied"))
    below = _paths_below(host, records)
    by_name = _sought_by_name(host, records)
    run_by_words = _run_by_words(host, records)

    def look_at(service: Service) -> None:
        program = service.program
        if service.name in reading.chosen and service.definition is not None:
            for path in (service.definition.file, *service.definition.drop_ins):
                looker.look(path)
        if program is None or service.template:
            return
        if program.root:  # paths mean something else to it
            looker.look(program.root)
            program.outer_path = looker.look_below(program.root, program.outer_path)
            return
        looker.look(program.path, service.state != "running")
        if service.state == "failed":
            looker.look_at_run(program.path)
        if program.style.startswith("notify") and _has_not_reported(service):
            looker.look_for_reports(program.path, program.arguments[1:])
        if service.state == "starting" and program.pid_file:
            looker.look(program.pid_file)
        if service.last is not None and service.last.step_program:
            looker.look(service.last.step_program, is_program=True)
        if service.last is not None and service.last.result not in ("", "success"):
            for one in islice(tested(service.last.step_arguments or program.arguments), _MOST_TESTED):
                looker.look_way(one.path)
            for path in (program.input_file, *(program.optional_files or ())):
                looker.look_way(path)
        for named in program.named or ():
            looker.look_way(named.path)
        for path in (program.folder, *program.paths, *program.environment_files, *(program.credential_files or ())):
            looker.look(path, instance=service.instance)
        tried = (
            service.state == "failed" or is_deserted(service) or (service.last is not None and service.last.restarts)
        )
        if tried or service.name in reading.chosen:
            looker.look_way(program.folder)
            program.used_places = _own_places(service, looker)
        for path in _run_in_vain(host, service.name):
            looker.look(path, is_program=True)
        for path in run_by_words.get(service.name, ()):
            look_at_words(looker, path)
        for path in (
            *(path for by in (quoted, below, by_name) for path in by.get(service.name, ())),
            *program.log_files,
        ):
            looker.look_way(path)
            if service.instance:
                looker.look(path, instance=service.instance)
        for path in refused.get(service.name, ()):
            looker.add_fixed(path)
            looker.add_fixed(path.rpartition("/")[0])

    reading.reached.files.expect(
        [*_named(host), *(place for s in host.services if s.state == "failed" for place in _places(s))]
    )
    reading.reached.each(look_at, host.services)
    for daemon in (d for f in host.license_files for d in f.daemons):
        looker.look(daemon.program, is_program=True)


def _named(host: Host) -> Iterator[str]:
    """What definitions name, which is looked at in any case."""
    for program in (
        s.program for s in host.services if s.program is not None and not s.template and not s.program.root
    ):
        yield from (
            program.path,
            program.folder,
            *program.paths,
            *program.environment_files,
            *(program.credential_files or ()),
        )


def _run_in_vain(host: Host, service: str) -> list[str]:
    """Programs that a start which was watched could not run."""
    calls = [one for seen in host.observed or () if seen.service == service for one in seen.calls]
    return [one.thing for one in calls if one.kind == "run" and one.thing.startswith("/")][:_MOST_RUN]


def _run_by_words(host: Host, events: list[Event]) -> dict[str, list[str]]:
    """Programs that records of a service say that it could not run."""
    statuses = {s.name: s.last.exit_status for s in host.services if s.last is not None}
    found: dict[str, dict[str, None]] = {}
    for event, past in _with_their_past(events):
        path = sought.run_in_vain(event, past, statuses.get(event.service))
        if path:
            found.setdefault(event.service, {})[path] = None
    return {name: list(paths)[-_MOST_RUN:] for name, paths in found.items()}


def _with_their_past(events: list[Event]) -> Iterator[tuple[Event, deque[Event]]]:
    """What services said, each record with those right before it of the same service."""
    before: dict[str, deque[Event]] = {}
    for event in (one for one in events if not one.by_manager):
        past = before.setdefault(event.service, deque(maxlen=sought.TRACE_BEFORE))
        yield event, past
        past.append(event)


def look_at_words(looker: Looker, path: str) -> None:
    """Look at a program that a log names: into it only where everybody may, as anybody may have written that."""
    file = looker.look(path)
    if file is not None and file.mode and int(file.mode, 8) & stat.S_IROTH:
        looker.look(path, is_program=True)


_MOST_RUN = 4
"""Programs that are looked into: what comes behind them in weight is none of the reasons."""


def _records(host: Host) -> list[Event]:
    """What the log says, and what was seen of a start that was watched."""
    return [*host.events, *(record for one in host.observed or () for record in records_of(one))]


def _has_not_reported(service: Service) -> bool:
    """Whether a start ran out of time, or is under way: it may be waited for a report that never comes."""
    return service.state == "starting" or (service.last is not None and service.last.result == "timeout")


_ROOTS = ("/var/lib", "/var/log", "/var/cache", "/var/spool", "/run", "/etc")
"""Where a service's own folders lie under its name (hier(7), file-hierarchy(7))."""
_MOST_LOCAL = 20_000
"""Sockets in the file system that are gone through: a busy desktop has some thousands."""
_MOST_PLACES, _MOST_WITHIN = 40, 12
"""Places of its own that are looked at, and things in each folder: enough to see whose they are."""


_LOCKS = ("/run/{}.pid", "/run/{}.lock", "/run/lock/{}", "/run/lock/{}.lock", "/tmp/{}.pid", "/tmp/{}.lock")
"""Where programs say by habit that they run (hier(7), "/run"), and where many in-house ones do."""


def _places(service: Service) -> list[str]:
    names = names_of(service)
    own = service.program.own_folders if service.program else []
    files = ("/etc/{}.conf", *_LOCKS)
    places = [
        *own,
        *(f"{root}/{name}" for root in _ROOTS for name in names),
        *(f.format(name) for f in files for name in names),
    ]
    return list(dict.fromkeys(places))


def _own_places(service: Service, looker: Looker) -> list[str]:
    """The folders of a service's own, by its name and its definition, with what lies in those that it writes to, and the folders on the
    way; its settings file by habit."""
    found: list[str] = []
    for place in _places(service):
        seen = looker.look(place)
        if seen is None or not (seen.exists or seen.link_to):
            continue
        looker.look_way(place)
        found.append(place)
        if seen.exists and seen.kind == "folder" and place.startswith(("/var/", "/run/")):
            names = looker.names(place, _MOST_WITHIN)
            within = [f"{place}/{name}" for name in names if place.startswith("/var/") or _LOCK_NAME.search(name)]
            found += [
                path for path in within if (file := looker.look(path)) is not None and (file.exists or file.link_to)
            ]
    return found[:_MOST_PLACES]


def add_holders(reading: HostReading) -> None:
    """Who holds the files that look like locks, those that records call locked, and the things that they call busy."""
    looker = reading.looker
    for file in list(looker.seen.values()):
        if file.exists and _LOCK_NAME.search(file.path):
            looker.add_lock(file)
    for path in [path for s in reading.host.services if s.program for path in s.program.used_places or ()]:
        looker.add_holder(path)
    _add_local_sockets(reading)
    complaints = lines.saying(_records(reading.host), "locked", "busy")
    names = {name for e in complaints for name in _FILE_NAME.findall(e.text)}
    busy = {path for _, near in lines.busy(complaints) for path in near}
    # Of a complaint that names nothing, what is meant lies with the service, most likely.
    unnamed = {e.service for e in complaints if not paths_in(e.text)}
    near = {folder for s in reading.host.services if s.name in unnamed for folder in beside(s)}
    for path, process in holders_of(names, busy, near, reading.reached.processes):
        found = looker.look(path)
        if found is not None and found.exists:
            found.held_by = found.held_by or process


def _add_local_sockets(reading: HostReading) -> None:
    """Who waits behind the sockets in the file system that were looked at."""
    sockets = [file for file in reading.looker.seen.values() if file.exists and file.kind == "socket"]
    if not sockets:
        return
    try:
        held = reading.reached.network.local_sockets(_MOST_LOCAL)
    except OSError:
        return
    for file in sockets:
        # One path may have two forms: /var/run is a link to /run (hier(7)).
        path = file.path.removeprefix("/var") if file.path.startswith("/var/run/") else file.path
        file.held_by = held.get(file.path, held.get(path, 0))
        if file.path in held or path in held or len(held) < _MOST_LOCAL:
            file.process_runs = file.path in held or path in held


def add_files(reading: HostReading) -> None:
    """What was looked at so far."""
    reading.host.files = list(reading.looker.seen.values())
    if passed := reading.looker.passed_over:
        reading.host.unread.append(Unread(what=f"{len(passed)} paths", why="on network file systems, not touched"))


def add_accounts(reading: HostReading) -> None:
    """The accounts and groups that services and records name."""
    host = reading.host
    known = [s.account for s in host.services if s.account]
    users = [account.user for account in known if account.user and not account.dynamic]
    users += [name for _, name in lines.unknown_user(_records(host))][:_MOST_ACCOUNTS]
    host.accounts = accounts(
        users,
        [
            *(name for one in known for name in (*(() if one.dynamic else (one.group,)), *one.groups) if name),
            *[name for _, name in lines.unknown_group(_records(host))][:_MOST_ACCOUNTS],
        ],
        reading.reached,
    )


def add_processes(reading: HostReading) -> None:
    """The processes of services whose definition is newer than they may be, and those that locks and records name."""
    host, processes = reading.host, reading.reached.processes
    units = {s.program.process: s.name for s in host.services if s.program and s.program.process and _may_be_stale(s)}
    if starting := _others_wait_for(host):
        units |= {number: unit for number in processes.numbers() if (unit := reading.service_of(number)) in starting}
    for number in _quoted_processes(host):
        units.setdefault(number, reading.service_of(number))
    seen = (sockets.described(number, unit, processes) for number, unit in units.items())
    host.processes = [process for process in seen if process is not None]


def _others_wait_for(host: Host) -> set[str]:
    """Services whose start is under way while others wait for it in the manager's queue: what their processes are at tells whether
    they wait for one of those in turn."""
    ahead = {name for s in host.services if s.job is not None for name in s.job.behind}
    return {s.name for s in host.services if s.name in ahead and s.job is not None and s.job.state == "running"}


def _quoted_processes(host: Host) -> list[int]:
    """Processes that lock files or log lines name."""
    found = [number for file in host.files for number in (file.held_by, file.names_process) if number]
    found += [int(number) for e in host.events for number in forms.read(e.text).named("process", "number")]
    return list(dict.fromkeys(found))[:_MOST_PROCESSES]


def _may_be_stale(service: Service) -> bool:
    return service.definition is not None and service.definition.needs_reload


def _paths_below(host: Host, events: list[Event]) -> dict[str, list[str]]:
    """What records call absent, or refused, as it begins in the working folder of their service."""
    folders = {s.name: folder_of(s) for s in host.services if s.program is not None and not s.template}
    found: dict[str, dict[str, None]] = {}
    for event in events:
        folder = folders.get(event.service, "")
        for _, path in (*sought.missing_below([event], folder), *sought.refused_below([event], folder)):
            found.setdefault(event.service, {})[path] = None
    return {name: list(paths)[:_MOST_PATHS] for name, paths in found.items()}


def _sought_by_name(host: Host, events: list[Event]) -> dict[str, list[str]]:
    """Where commands and files could lie that records call missing by a name without a folder."""
    services = {s.name: s for s in host.services if s.program is not None and not s.program.root and not s.template}
    found: dict[str, dict[str, None]] = {}
    for event, past in _with_their_past(events):
        service = services.get(event.service)
        if service is None:
            continue
        command = sought.command_missing(event, past, service.last.exit_status if service.last is not None else None)
        places = [f"{folder}/{command}" for folder in (*folders_of_programs(service), *beside(service)) if command]
        if not folder_of(service):
            places += [below(folder, name) for _, name in sought.missing_names([event]) for folder in beside(service)]
        for path in places:
            found.setdefault(service.name, {})[path] = None
    return {name: list(paths)[:_MOST_PATHS] for name, paths in found.items()}


def _paths_quoted(events: list[Event]) -> dict[str, list[str]]:
    quoted: dict[str, dict[str, None]] = {}
    for event in events:
        called = [event.call.thing] if event.call is not None and event.call.thing.startswith("/") else None
        source = event.source.removeprefix(lines.CONFIGURATION)
        for path in (*(called or paths_in(event.text)), *([source] if source != event.source else ())):
            quoted.setdefault(event.service, {})[path] = None
    return {name: list(paths)[:_MOST_PATHS] for name, paths in quoted.items()}

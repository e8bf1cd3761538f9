"""What the journal says about services that are not well, and the starts and boots that it remembers."""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime, timedelta

from hollow_chain.facts.habits import names_of
from hollow_chain.facts.host import OF_RECORDS, Event, Host, Unread
from hollow_chain.facts.runs import Job, LastRun
from hollow_chain.facts.service import Service, is_deserted
from hollow_chain.families.messages import JOB_FAILED
from hollow_chain.reach.interfaces import Each, NotThere, in_turn
from hollow_chain.sources.reading import HostReading
from hollow_chain.sources.systemd import boots
from hollow_chain.sources.systemd.conditions import add_unmet
from hollow_chain.sources.systemd.journal import (
    MAX_TEXT,
    Journal,
    complete,
    failed_before,
    judge_by_try_before,
    recalled,
    well_before,
)
from hollow_chain.wording.policy import PolicyDenial, denial_in
from hollow_chain.wording.structured import spoken

RECORDS_EACH = 100
"""Records of a service that are read: its last few starts, with what it says in each."""
MAX_JOBS = 200
"""Records of jobs that came to nothing that are read, newest first: those of one bad boot."""
MAX_LOGGED = 1000
"""Services whose records are read. Where more are down, it is no single one that is asked about."""


def add(reading: HostReading) -> None:
    """The records, and what follows from them of services that the manager has forgotten."""
    host = reading.host
    names = [s.name for s in host.services if worth_reading_logs(s) or s.name in reading.closely]
    if names:
        _add_events(reading, names)
    for service in host.services:
        if service.state == "stopped" and any(one.outcome == "untested" for one in service.conditions):
            add_unmet(service, [e for e in host.events if e.service == service.name and e.by_manager])
        if service.last is None and service.state == "stopped":
            service.last = recalled([e for e in host.events if e.service == service.name])
        elif service.last is not None and service.last.result in ("exit-code", "exec-condition", "signal"):
            complete(service.last, [e for e in host.events if e.service == service.name])
        if service.state == "running" and service.last is not None and service.last.restarts:
            told = [e for e in host.events if e.service == service.name]
            service.last.well_before = well_before(told)
            if _is_just_up(service.last, host.read_at) and service.last.result in ("", "success"):
                judge_by_try_before(service.last, told)
        if service.state == "starting" and service.last is not None:
            _tell_tries(service.last, [e for e in host.events if e.service == service.name])


_SHOWS_NOTHING = timedelta(seconds=10)
"""For so long a run that the manager began by itself has shown nothing but that the one before it ended."""


def _is_just_up(last: LastRun, read_at: datetime | None) -> bool:
    return last.up_at is not None and read_at is not None and read_at - last.up_at < _SHOWS_NOTHING


def _tell_tries(last: LastRun, events: list[Event]) -> None:
    """What the records tell of the tries before the one that is under way."""
    if not last.restarts:
        last.restarts = failed_before(events)
    if last.restarts and last.result in ("", "success"):
        judge_by_try_before(last, events)


def worth_reading_logs(service: Service) -> bool:
    """Whether the log of a service may say something that its state does not: it is not up and has been tried,
    was restarted, or is refused."""
    if service.template or service.kind in ("device", "slice", "scope"):
        return False
    definition, last = service.definition, service.last
    if definition is not None and (definition.load == "refused" or definition.needs_reload):
        return True
    if service.state == "running":
        return is_deserted(service) or (last is not None and last.restarts > 0)
    if service.state == "done":
        return False
    # Of a stopped service that nothing refers to the manager keeps no record; the journal may.
    return service.state != "stopped" or last is None or (last.started_at or last.ended_at) is not None


def _add_events(reading: HostReading, names: list[str]) -> None:
    host = reading.host
    try:
        boot = reading.reached.files.text("/proc/sys/kernel/random/boot_id").strip().replace("-", "")
        with reading.reached.journal() as records:
            fill(host, Journal(records), names[:MAX_LOGGED], boot, reading.chosen, reading.reached.each)
    except (NotThere, OSError) as error:
        host.unread.append(Unread(what="the journal", why=str(error), part=OF_RECORDS))
        return
    if len(names) > MAX_LOGGED:
        what = f"logs of {len(names) - MAX_LOGGED} services"
        host.unread.append(Unread(what=what, why="too many to read at once", part=OF_RECORDS))
    if not host.events and not reading.reached.all_rights:
        why = "not permitted; run as root to read it"
        host.unread.append(Unread(what="the journal of system services", why=why, part=OF_RECORDS))


def fill(
    host: Host, journal: Journal, names: list[str], boot: str, chosen: Collection[str] = (), each: Each = in_turn
) -> None:
    """Put what the journal says of the services of these *names* into the facts of the host; past starts, too, of those that are not
    well, and of *chosen* ones."""
    given_up = _jobs_given_up(host, journal, boot)
    names = [*names, *(name for name in given_up if name not in names)]
    host.events = journal.of_units(names, RECORDS_EACH, boot, each)
    host.events += _said_of_definitions(host, journal, boot)
    host.events += _said_beside(host, journal, boot)
    host.events += _refused_by_policy(host, journal, boot)
    boots.add(host, [s for s in host.services if needs_history(s) or s.name in chosen], journal, boot, each)


def _jobs_given_up(host: Host, journal: Journal, boot: str) -> list[str]:
    """The services whose last start was given up in the queue, before any program of it ran; each is told so."""
    told = journal.told(
        {
            "MESSAGE_ID": (JOB_FAILED,),
            "JOB_TYPE": ("start",),
            "JOB_RESULT": ("timeout", "canceled"),
            "_BOOT_ID": (boot,),
        },
        MAX_JOBS,
    )
    last = {one.unit: one for one in told}
    found = []
    for service in host.services if last else ():
        one = last.get(service.name)
        begun = service.last.started_at if service.last is not None else None
        if one is not None and service.state in ("stopped", "failed") and not (begun is not None and begun > one.at):
            service.job = service.job or Job(state=one.result, at=one.at)
            found.append(service.name)
    return found


def _spoke_in_last_run(service: Service, last_word: datetime | None) -> bool:
    begun = service.last.started_at if service.last is not None else None
    return last_word is not None and (begun is None or last_word >= begun)


_MOST_OF_KERNEL = 300
"""Records of the kernel that are gone through for calls that a policy refused."""
_LONGEST_COMMAND = 15
"""Characters that the kernel keeps of the name of a process (proc(5), ``comm``)."""


def _refused_by_policy(host: Host, journal: Journal, boot: str) -> list[Event]:
    """What the kernel says that a policy refused to services that failed, in the time of their last run: no unit stands in it."""
    failed = [
        s for s in host.services if s.state in ("failed", "starting") and s.kind == "service" and s.program is not None
    ]
    records = journal.of_kernel(boot, _MOST_OF_KERNEL) if failed else []
    told = [(one, denial) for one in records if (denial := denial_in(one.fields["MESSAGE"])) is not None]
    if not told:
        return []
    processes = {(event.service, event.process) for event in host.events if event.process and not event.by_manager}
    found: list[Event] = []
    for service in failed:
        for one, denial in told:
            if not _in_last_run(service, one.at, host.read_at):
                continue
            if _is_of(service, denial) or (service.name, denial.process) in processes:
                text = spoken(one.fields["MESSAGE"], MAX_TEXT).text
                own = Event(at=one.at, text=text, service=service.name, source="kernel", level="error", trust="trusted")
                own.process = denial.process
                found.append(own)
    return found[:_MOST_OF_KERNEL]


def _is_of(service: Service, denial: PolicyDenial) -> bool:
    """Whether what was refused a call is the program of a service, by its profile or its name."""
    path = service.program.path if service.program is not None else ""
    return bool(path) and (path == denial.subject or path.rpartition("/")[2][:_LONGEST_COMMAND] == denial.command)


def _in_last_run(service: Service, at: datetime, read_at: datetime | None) -> bool:
    last = service.last
    begun = last.started_at if last is not None else None
    until = (last.ended_at if last is not None else None) or read_at
    return begun is not None and until is not None and begun - _AROUND <= at <= until + _AROUND


_MOST_SILENT = 20
"""Failed services without a word of their own whose words are sought elsewhere: each is a question to a journal that may be long."""
_AROUND = timedelta(seconds=1)
"""How far from a run a record may be that is of it."""


def _said_beside(host: Host, journal: Journal, boot: str) -> list[Event]:
    """What others say under the names of services that failed without a word, in the time of their last run."""
    spoke: dict[str, datetime] = {}
    for event in host.events:
        if not event.by_manager:
            spoke[event.service] = max(event.at, spoke.get(event.service, event.at))
    failed = [s for s in host.services if s.state == "failed" and s.kind == "service" and s.program is not None]
    silent = [service for service in failed if not _spoke_in_last_run(service, spoke.get(service.name))]
    found: list[Event] = []
    for service in silent[:_MOST_SILENT]:
        if service.last is not None and service.last.started_at is not None:
            said = journal.beside(service.name, names_of(service), boot)
            found += [event for event in said if _in_last_run(service, event.at, host.read_at)]
    return found


def _said_of_definitions(host: Host, journal: Journal, boot: str) -> list[Event]:
    """The manager's complaints about definitions that seem to need a reload; they may lie far back in a long log."""
    found: list[Event] = []
    known = {(e.service, e.at) for e in host.events}
    for service in host.services:
        definition = service.definition
        if definition is not None and definition.needs_reload and definition.file:
            said = journal.about_files(service.name, [definition.file, *definition.drop_ins], boot)
            found += [e for e in said if (e.service, e.at) not in known]
    return found


def needs_history(service: Service) -> bool:
    """Whether past starts may tell more: it is not up although it was tried, or it hangs in its start."""
    return service.kind == "service" and service.state in ("failed", "starting")

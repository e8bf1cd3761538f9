"""Startup: what its last start failed by has been put right since, and nobody has started it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from typing import NamedTuple

import msgspec

from hollow_chain.causes.acts import start
from hollow_chain.causes.case import ACCOUNTS, FILES, Case
from hollow_chain.causes.definition.program import EXIT_EXEC, programs_of
from hollow_chain.causes.finding import FITS, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rights import barrier
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import between_restarts, failed_last
from hollow_chain.causes.words import clock
from hollow_chain.facts.endpoints import of_claim
from hollow_chain.facts.host import File, HostAccount
from hollow_chain.families.steps import step_of
from hollow_chain.wording import lines
from hollow_chain.wording.complaints import config_errors
from hollow_chain.wording.forms import read
from hollow_chain.wording.things import paths_in

_AFTER = timedelta(seconds=0.2)
"""A change that came so soon after the end was under way with it: a program that rewrites a file of its own as it goes."""


class PutRight(msgspec.Struct, frozen=True):
    """A reason of the last failure that the facts no longer bear out."""

    what: str
    """Which, as the second half of a sentence."""
    evidence: tuple[Evidence, ...]
    is_that: bool = True
    """Whether it is what the last start failed by; otherwise it may be."""
    explains: tuple[str, ...] = ()
    """Causes beside the usual ones that rest on words of before the change."""


@cause(
    "mended-not-started",
    Boot.OVER,
    states=NOT_UP,
    when=When.FAILED,
    lacks_only_a_start=True,
    assumes="what was changed since its last start was all that was wrong with {service}",
)
def mended_not_started(case: Case) -> Iterator[Finding]:
    """What its last start failed by has been put right since, and nobody has started it.

    Looks at: what the manager or the program named when it failed; what is there now, and when that was changed.
    Convinced by: a file, program or folder that was at fault, was changed after the end, and lets the service in; an account
    that is there now; an endpoint that nobody holds any more.
    Against: anything that is in the way still.
    Mend: a start; it also tells whether that was all.
    """
    ended = case.service.last.ended_at if case.service.last is not None else None
    if ended is None:
        return
    gone = next((found for look in _LOOKS for found in look(case, ended)), None)
    if gone is None or _lacks_account(case):
        return
    name = case.node.name
    retried = " It is about to be started again by itself." if between_restarts(case.service) else ""
    yield Finding(
        says=f"the last start of {name} failed at {clock(ended)}, and since then {gone.what}: it has not been started again.{retried}",
        evidence=gone.evidence,
        mends=(Mend(f"Start {name}; that also tells whether this was all.", acts=(start(name),)),),
        residual=not gone.is_that,
        explains=(*(_EXPLAINS if gone.is_that else _VAGUE), *gone.explains),
    )


def _lacks_account(case: Case) -> bool:
    """Whether the account that it is to run as is not there: that is in the way, whatever else was changed."""
    return any(found is not None and not found.exists for _, _, found in _accounts(case))


def _accounts(case: Case) -> list[tuple[str, str, HostAccount | None]]:
    """The user and the groups that it is to run as: kind, name, and what is known of it. None of those that the manager makes itself."""
    account = case.service.account
    if account is None or account.dynamic:
        return []
    wanted = [("user", account.user), *(("group", name) for name in (account.group, *account.groups))]
    return [(kind, name, case.account(name, kind)) for kind, name in wanted if name and not name.isdigit()]


_VAGUE = ("exits-with-error", "exits-at-once", "crash-loop", "killed")
_EXPLAINS = (
    *_VAGUE,
    "config-rejected",
    "path-missing",
    "access-denied",
    "account-missing",
    "start-rate-limited",
    "too-open",
    "stopped",
)
"""Causes that rest on words of before the change; what is proven by the facts of now stands all the same."""


class Changed(NamedTuple):
    """What was changed of a path."""

    path: str
    """The path itself, or the folder on the way to it that was changed."""
    at: datetime


def _changed(case: Case, path: str, since: datetime) -> Changed | None:
    """What of *path*, or of the nearest folder on the way to it, was last changed after *since*; None where nothing was, or nobody knows."""
    if path.startswith(_OF_THE_MOMENT):
        return None
    parts = path.split("/")
    for depth in range(len(parts), _MOUNTED_AT - 1, -1):
        part = "/".join(parts[:depth])
        file = case.file(part)
        at = _altered(file) if file is not None else None
        if at is not None and at > since + _AFTER:
            # What lies in a folder changes it, too: only of the path itself, and of who may enter, does its change speak.
            told = depth == len(parts) or (file is not None and file.altered_at != file.changed_at)
            return Changed(part, at) if told else None
    return None


_MOUNTED_AT = 3
"""Names of a path, the root among them, from which on its change tells something: what lies right below the root is changed all the time,
by mounts and layers of file systems too (overlayfs marks a folder when something in it is first written to)."""


_OF_THE_MOMENT = ("/proc/", "/sys/", "/dev/")
"""Files of the kernel, which are made anew when somebody looks (proc(5)), and devices, whose time moves with what is written to them."""


def _altered(file: File) -> datetime | None:
    return file.altered_at or file.changed_at


def _let_in(case: Case, path: str, writes: bool | None, runs: bool = False) -> bool:
    """Whether *path* was looked at, is there, and lets the service in."""
    file = case.file(path)
    return file is not None and file.exists and barrier(case, path, writes, runs) is None


def _there_now(case: Case, changed: Changed) -> Evidence:
    file = case.file(changed.path)
    about = f": {file.kind}, {file.owner}:{file.group}, mode {file.mode}" if file is not None else ""
    return case.seen(f"{changed.path} was changed at {clock(changed.at)}{about}", FILES, changed.at, SAID)


def _program(case: Case, ended: datetime) -> Iterator[PutRight]:
    """The program could not be run, and can be now."""
    last = case.service.last
    if last is None or last.exit_status != EXIT_EXEC:
        return
    programs = programs_of(case)
    runs = [
        file is not None
        and file.executable is not False
        and file.kind == "file"
        and file.interpreter_exists is not False
        for _, file in programs
    ]
    if not all(runs) or not all(_let_in(case, path, False, runs=True) for path, _ in programs):
        return
    for path, _ in programs:
        changed = _changed(case, path, ended)
        if changed is not None:
            status = case.seen(
                f"exit status {EXIT_EXEC} of the manager: the program could not be run", at=ended, bears=FITS
            )
            yield PutRight(f"its program, {path}, was changed and can be run", (status, _there_now(case, changed)))


def _folder(case: Case, ended: datetime) -> Iterator[PutRight]:
    """The working folder could not be entered, and can be now."""
    last, program = case.service.last, case.service.program
    step = step_of(last.exit_status) if last is not None else None
    if last is None or step is None or step.about != "folder" or program is None or not program.folder:
        return
    changed = _changed(case, program.folder, ended)
    if changed is not None and _let_in(case, program.folder, False):
        said = case.seen(
            f"exit status {last.exit_status} of the manager: the working folder could not be entered",
            at=ended,
            bears=FITS,
        )
        yield PutRight(
            f"its working folder, {program.folder}, was changed and can be entered",
            (said, _there_now(case, changed)),
        )


def _account(case: Case, ended: datetime) -> Iterator[PutRight]:
    """The account was not known, and is there now."""
    last = case.service.last
    step = step_of(last.exit_status) if last is not None else None
    if last is None or step is None or step.name not in ("USER", "GROUP"):
        return
    known = _accounts(case)
    if known and all(found is not None and found.exists for _, _, found in known):
        said = case.seen(
            f"exit status {last.exit_status} of the manager: its account could not be determined", at=ended, bears=FITS
        )
        there = case.seen("there now: " + ", ".join(f"{kind} {name}" for kind, name, _ in known), ACCOUNTS, bears=SAID)
        yield PutRight(f"its account, {known[0][1]}, was made", (said, there))


def _words(case: Case, ended: datetime) -> Iterator[PutRight]:
    """A path that the last run called refused, missing or wrong was changed after that, and lets the service in."""
    # The record of a step names the program that it was on the way to, whatever the step was.
    events = [event for event in case.last_events() if not read(event.text).named("step", "step")]
    named = [*lines.missing_paths(events), *lines.unopened_paths(case.own_events())]
    named += [(event, path) for event, near in lines.refused(events) for path in near if path in paths_in(event.text)]
    named += [(one.event, one.path) for one in config_errors(case.own_events()) if one.path and one.rejects]
    named = [(event, path) for event, path in named if not _makes_itself(case, path)]
    still = {path for _, path in named if not _let_in(case, path, None) and not _let_in(case, path, False)}
    for event, path in named:
        changed = _changed(case, path, max(ended, event.at)) if path not in still else None
        if changed is not None and not still:
            way = "" if changed.path == path else f", on the way to {path}"
            yield PutRight(
                f"{changed.path}{way}, which it failed by, was changed",
                (case.quoted(event, FITS), _there_now(case, changed)),
            )


def _makes_itself(case: Case, path: str) -> bool:
    """Whether a path is one of its locks, PID files and sockets, which it makes at each start: that it is there tells of a start."""
    program = case.service.program
    return program is not None and path in (program.pid_file, *program.settings_paths)


def _port(case: Case, ended: datetime) -> Iterator[PutRight]:
    """The endpoint that it found taken is not what its settings say any more, and they were changed since."""
    if not failed_last(case.service):
        return
    own = [claim for claim in case.service.claims if claim.port and not (claim.told or claim.switched_off)]
    for event, _, port in lines.endpoint_in_use(case.last_events()):
        if any(claim.port == port for claim in own):
            continue
        for claim in (one for one in own if one.counts):
            path = claim.source.rpartition(" ")[2]
            changed = _changed(case, path, max(ended, event.at)) if path.startswith("/") else None
            if changed is not None and changed.path == path:
                place = f"port {port}, which it found taken, is not what it is set to any more: that is {claim.port}"
                seen = case.seen(
                    f"{path} was changed at {clock(changed.at)}: {of_claim(claim)}", FILES, changed.at, SAID
                )
                yield PutRight(place, (case.quoted(event, FITS), seen), explains=("port-held",))
                return


def _settings(case: Case, ended: datetime) -> Iterator[PutRight]:
    """A file of its settings was changed: the answer to a complaint about settings that names no file, and maybe to an end without a
    reason that is known."""
    program = case.service.program
    named = [claim.source.rpartition(" ")[2] for claim in case.service.claims]
    paths = [path for path in (*(program.paths if program is not None else ()), *named) if path.startswith("/etc/")]
    refused = [one for one in config_errors(case.own_events()) if one.rejects and not one.path]
    for path in dict.fromkeys(paths):
        file = case.file(path)
        changed = _changed(case, path, ended) if file is not None and file.exists and file.kind == "file" else None
        if changed is None or changed.path != path:
            continue
        there = case.seen(f"{path} was changed at {clock(changed.at)}", FILES, changed.at, FITS)
        said = (case.quoted(refused[-1].event, FITS),) if refused else ()
        yield PutRight(f"its settings, {path}, were changed", (*said, there), is_that=bool(refused))
        return


def _definition(case: Case, ended: datetime) -> Iterator[PutRight]:
    """Its definition was changed, and read anew; that it was at fault is not known."""
    definition = case.service.definition
    at = definition.changed_at if definition is not None else None
    if (
        definition is None
        or at is None
        or at <= ended + _AFTER
        or definition.needs_reload
        or definition.load != "loaded"
    ):
        return
    fact = f"its definition ({', '.join((definition.file, *definition.drop_ins))}) was changed at {clock(at)}"
    yield PutRight("its definition was changed", (case.seen(fact, FILES, at, FITS),), is_that=False)


_LOOKS: tuple[Callable[[Case, datetime], Iterator[PutRight]], ...] = (
    _program,
    _folder,
    _account,
    _words,
    _port,
    _settings,
    _definition,
)

"""What the account, or the confinement, may not read, write or enter."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from msgspec.structs import replace

from hollow_chain.causes import looked, places, rights
from hollow_chain.causes.account.capabilities import is_of_rights, refused_rights
from hollow_chain.causes.account.own_view import hidden_own, not_to_be_run, read_only_by_definition
from hollow_chain.causes.account.policy import refused_by_policy
from hollow_chain.causes.account.root import wants_root
from hollow_chain.causes.acts import Act, allow
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.definition.absence import taken_out
from hollow_chain.causes.definition.program import EXIT_EXEC, programs_of
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, SAID, Finding, Mend
from hollow_chain.causes.nature import ACCOUNT, Boot, Shown, When
from hollow_chain.causes.places import inside, is_written
from hollow_chain.causes.rights import Barrier, account_of, barrier, barrier_for_owner, bypasses, closed_to_all_but_root
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import came_to_nothing, numbered
from hollow_chain.facts.host import Event
from hollow_chain.families.steps import step_of
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.forms import read, says
from hollow_chain.wording.last_words import telling
from hollow_chain.wording.of_files import may_be_of_files
from hollow_chain.wording.system_errors import error_at_end
from hollow_chain.wording.things import is_program_place, paths_in


@cause(
    "access-denied",
    Boot.STAYS,
    answered_by=(ACCOUNT,),
    states=("running", *NOT_UP),
    shown=Shown(5, "exit-code", "access is denied", 5),
    when=When.REFUSED,
)
def access_denied(case: Case) -> Iterator[Finding]:
    """Its account, or its confinement, may not read, write or enter something.

    Looks at: what the kernel says that a policy of the host refused; log lines that refuse a path, or say that it could
    not be opened; owner, group, mode and access list of the path and of every folder on the way; what the definition makes
    read-only, hides, or takes from the account.
    Convinced by: such a line, and a path that does not let the account in.
    Against: a path that is not there; a refused port (then that is the cause).
    Mend: the smallest right that is enough.
    """
    if case.standing.well:
        yield from _unread_while_up(case)
    if case.standing.well or (case.service.state == "stopped" and not came_to_nothing(case)):
        return
    user = account_of(case)
    yield from _by_number(case, user)
    stepped = _stepped(case)
    if stepped is not None:
        yield _denied(case, *stepped, user)
        return
    by_policy = list(refused_by_policy(case))
    if by_policy:
        yield from by_policy
        return
    for event, path, tied in _refused(case):
        if is_of_rights(case, event, user):
            continue
        named = path in paths_in(event.text)
        # Programs are run where they lie, and not written to.
        told = bool(read(event.text).named("not run", "program")) or says(event.text, "run in vain")
        runs = told or is_program_place(path)
        # A path of another line is the one that is meant only where it is seen to be closed, for reading at that.
        asked = _writes(event, case, path) if named else (is_written(path) and _writes(event)) or False
        writes = False if runs else asked
        found = _kept_from(case, path, writes, runs) or _badly_owned(case, event, path)
        if found is None and named and writes is None:
            found = not_to_be_run(case, path)
        if found is None and named and not event.by_manager and bypasses(case):
            found = closed_to_all_but_root(case, path)
        if found is None and (not named or case.file(path) is None) and not event.by_manager:
            if named and not case.family.named_paths_are_looked_at and came_to_nothing(case):
                yield _told_alone(case, event, path, user)
                return
            continue
        yield (
            _denied(case, event, path, found, user, tied)
            if taken_out(case, path) is None
            else _not_remade(case, event, path, found, user)
        )
        return
    for path, way in _unreached_programs(case):
        yield _denied(case, None, path, way, user)
        return
    for event, path in lines.unopened_paths(case.own_events()):
        file, program = case.file(path), case.service.program
        # Nobody says that it was refused: what is no place for data is closed only to who may not read it.
        may_write = is_written(path) and (file is None or file.exists or says(event.text, "writes"))
        made = is_written(path) and _could_only_be_made(case, path)
        writes = made or (_writes(event) if may_write else False)
        found = barrier(case, path, writes) if file is not None and came_to_nothing(case) else None
        found = replace(found, only_writing=True) if made and found is not None else found
        if found is None and writes is None and file is not None and came_to_nothing(case):
            found = read_only_by_definition(case, path)
        if found is None and file is not None and file.exists and bypasses(case) and came_to_nothing(case):
            found = barrier_for_owner(case, path)
        is_other = says(event.text, "missing", "full") or error_at_end(event.text) not in _OF_RIGHTS
        if found is not None and not (program and path == program.path) and not is_other:
            yield _denied(case, event, path, found, user)
            return
    by_root = list(wants_root(case))
    if by_root:
        yield from by_root
        return
    for hidden_event, hidden in hidden_own(case):
        yield _denied(case, hidden_event or next(iter(telling(case.own_events())), None), hidden.path, hidden, user)
        return
    if looked.is_silent(case) or _refused_without_a_name(case):
        yield from _closed_places(case, user)
    lacked = list(refused_rights(case, user))
    yield from lacked or _without_rights(case, user)


def _unread_while_up(case: Case) -> Iterator[Finding]:
    """It is up, and by its own words could not read a file that its command line names: it does not run as it is set to."""
    if case.state != "running" or case.service.program is None:
        return
    for event, path, _ in _refused(case):
        file, found = case.file(path), barrier(case, path, False)
        is_named = path in case.service.program.paths or path in places.words_of(case.service)
        if not is_named or found is None or file is None or not file.exists or file.kind != "file" or event.by_manager:
            continue
        denied = _denied(case, event, path, found, account_of(case))
        yield replace(
            denied,
            says=f"{case.service.name} runs without {path}, which its definition names, and which its account may not read: {found.why}.",
            explains=("listener-off",),
        )
        return


def _speaks_of_log(case: Case, event: Event, meant: list[str]) -> bool:
    """Whether a record that names no path speaks of its log, and that is what is meant."""
    program = case.service.program
    logs = program.log_files if program is not None else []
    return any(path in logs for path in meant) and _LOG.search(event.text) is not None


_LOG = pattern(r"(?i)\blog(?:s|ging|[ -]?files?)?\b")
_OF_RIGHTS = ("", "EACCES", "EPERM", "EROFS")
"""Errors of a call that was refused; a line that ends with another tells that it was not."""


def _kept_from(case: Case, path: str, writes: bool | None, runs: bool) -> Barrier | None:
    """What keeps it from a path; where it may read there, and nobody says that it was about to write, that is told, and is no proof: but
    for places that programs write to."""
    found, file = barrier(case, path, writes, runs), case.file(path)
    is_known = writes is not None or runs or is_written(path)
    # Who connects to a socket has to be able to write to it (unix(7)).
    is_called = file is not None and file.kind == "socket"
    if found is None or is_known or is_called or barrier(case, path, False) is not None:
        return found
    why = f"{account_of(case)} may read {path}, and not write to it: {found.why}"
    return replace(found, why=why, only_writing=True)


def _could_only_be_made(case: Case, path: str) -> bool:
    """Whether it is not there, in a folder that is: who may enter that one is refused nothing there but to make it (open(2),
    ``EACCES``; of what is only to be read it would say that it is not there)."""
    file, above = case.file(path), case.file(path.rpartition("/")[0] or "/")
    return file is not None and not file.exists and not file.link_to and above is not None and above.exists


_NOT_PERMITTED = "Operation not permitted"
"""What the C library says of ``EPERM``: of what needs a right that is no matter of owner or mode (capabilities(7))."""


def _without_rights(case: Case, user: str) -> Iterator[Finding]:
    """It was not permitted to do something that is no matter of files, and its definition takes rights from it."""
    confinement = case.service.confinement
    if confinement is None or confinement.capabilities is None or not failed_last(case.service):
        return
    told = [e for e in case.own_events() if _NOT_PERMITTED.lower() in e.text.lower()]
    said = [e for e in told if not paths_in(e.text) and not says(e.text, "endpoint")]
    if said:
        kept = ", ".join(confinement.capabilities[:8]) or "none"
        yield Finding(
            says=f"{case.service.name} (account {user}) may not do what it needs: its definition leaves it only some of the rights of root.",
            evidence=(
                case.quoted(said[-1], FITS),
                case.seen(
                    f"rights that its definition leaves it (CapabilityBoundingSet=): {kept}", "definition", bears=FITS
                ),
            ),
            mends=(
                Mend(
                    f"Leave {case.service.name} that one right more in its definition (CapabilityBoundingSet=).",
                    AFTER_RELOAD,
                ),
            ),
            explains=("exits-with-error", "exits-at-once", "crash-loop"),
        )


def _refused_without_a_name(case: Case) -> bool:
    """Whether it says that something was refused, and names no path that is one from the root on."""
    return came_to_nothing(case) and any(not paths for _, paths in lines.refused(case.own_events()))


def _closed_places(case: Case, user: str) -> Iterator[Finding]:
    """It ends without a reason of its own, and a place of its own is closed to it: likely, and no more."""
    for file, found in looked.closed(case):
        found_finding = _denied(case, None, file.path, found, user)
        evidence = (
            looked.place(case, file, found.why),
            looked.ended(case),
            *(case.quoted(e) for e in telling(case.own_events())),
        )
        yield replace(
            found_finding,
            evidence=evidence,
            residual=True,
            explains=("exits-with-error", "exits-at-once", "crash-loop"),
        )
        return


def _stepped(case: Case) -> tuple[Event | None, str, Barrier] | None:
    """The place of the manager's own step that failed, where the account, or the definition, closes it: what the step is about stands
    in the definition, whatever paths the records around it name."""
    last, program = case.service.last, case.service.program
    step = step_of(last.exit_status) if last is not None and failed_last(case.service) else None
    # Of the things that steps are about, the working folder alone is entered with the rights of the account.
    if step is None or step.about != "folder" or program is None or not program.folder:
        return None
    said = next((e for e in reversed(case.last_events()) if step.name in read(e.text).named("step", "step")), None)
    found = barrier(case, program.folder, False)
    return (said, program.folder, found) if found is not None else None


def _unreached_programs(case: Case) -> Iterator[tuple[str, Barrier]]:
    """Programs that the manager could not run, and the folder on the way that keeps the account out: told by the exit status of
    the manager, for the record of a process that is gone at once may be lost (its unit is looked up when it is read)."""
    last = case.service.last
    if last is not None and last.exit_status == EXIT_EXEC:
        for path, _ in programs_of(case):
            for behind in _run_through(case, path):
                found = barrier(case, behind, False, runs=True)
                if found is not None and (found.path != behind or found.by_definition):
                    yield behind, found


def _run_through(case: Case, program: str) -> Iterator[str]:
    """A program, its interpreter, and where links lead from there, as far as they were looked at."""
    seen: set[str] = set()
    path = program
    while path and path not in seen:
        seen.add(path)
        file = case.file(path)
        if file is None or not file.exists:
            return
        yield path
        after = file.link_to or file.interpreter
        path = after if after.startswith("/") or not after else f"{path.rpartition('/')[0]}/{after}"


def _writes(event: Event, case: Case | None = None, path: str = "") -> bool | None:
    """Whether a line says that it was about to write, or what it was refused can have been nothing else; None where that is open."""
    made = case is not None and not lines.calls(event, path) and _could_only_be_made(case, path)
    wrote = event.call is not None and event.call.writes
    return True if made or wrote or says(event.text, "read only", "writes") else None


def _denied(case: Case, event: Event | None, path: str, found: Barrier | None, user: str, tied: bool = True) -> Finding:
    """*tied*: whether the record itself, or what led to it, names the path."""
    service = case.service
    evidence = []
    if event is not None:
        evidence.append(case.quoted(event, FITS if says(event.text, "denied", "read only") else HINT))
    if found is not None:
        bears = HINT if found.only_writing else SAID if tied else HINT
        evidence.append(case.seen(found.why, FILES if found.file else "definition", bears=bears))
    else:
        evidence.append(case.seen("owner, mode and definition, as far as they were seen, would let it", FILES))
    place = found.path if found else path
    if found and found.by_definition:
        mend = _in_definition(case, path)
    elif found and found.by_flag:
        mend = Mend(
            f"See who set that flag on {place}, and why: package managers and services do not. If it is to go, take it away with chattr(1); "
            f"then start {service.name}.",
            seeks=True,
        )
    elif found and found.by_mount:
        mend = Mend(
            f"See why the file system on {place} is mounted so; mount it as {service.name} needs it, or move {path}.",
            seeks=True,
        )
    else:
        writes = _writes(event, case, path) if event is not None else None
        does, acts = rights.in_words(case, path, place, writes, user)
        mend = Mend(does, acts=acts if found else ())
    why = found.why if found else "the log says so, though owner and mode would let it"
    hung = service.last is not None and service.last.result in ("timeout", "watchdog")
    return Finding(
        says=f"{service.name} (account {user}) may not use {path}: {why}.",
        evidence=tuple(evidence),
        mends=(mend,),
        residual=found is None and hung,  # it went on after that, until its time was over
        explains=(
            "exits-with-error", "exits-at-once", "crash-loop", "config-rejected", "path-missing", "start-rate-limited", "killed",
        ),
    )  # fmt: skip


def _not_remade(case: Case, event: Event, path: str, found: Barrier | None, user: str) -> Finding:
    """The same of what was taken away from a place in which it was never to be made by the service: that it is gone is the reason."""
    denied = _denied(case, event, path, found, user)
    return replace(
        denied,
        evidence=tuple(replace(one, bears=HINT) for one in denied.evidence),
        explains=tuple(name for name in denied.explains if name != "path-missing"),
    )


def _told_alone(case: Case, event: Event, path: str, user: str) -> Finding:
    """What its words say of a path at which nobody has looked."""
    return Finding(
        says=f"{case.service.name} (account {user}) may not use {path}, by its own words; nobody has looked.",
        evidence=(case.quoted(event, FITS),),
        mends=(
            Mend(f"See who may use {path}, and give {user} the one right that {case.service.name} needs.", seeks=True),
        ),
        explains=("exits-with-error", "exits-at-once", "crash-loop"),
    )


def _in_definition(case: Case, path: str) -> Mend:
    """Let the service use a place that its definition closes."""
    name, acts = case.service.name, _let_write(case, path)
    if acts or places.given(case, path):
        return Mend(f"Let {name} use {path} in its definition, and nothing else.", AFTER_RELOAD, acts)
    doubt = f"{path} is not among the places that the definition of {name} gives it: see first whether it is meant to use that at all"
    return Mend(
        f"{doubt}; if it is, and by hand only: let its definition give it {path}, and nothing else.", AFTER_RELOAD
    )


def _let_write(case: Case, path: str) -> tuple[Act, ...]:
    """Let the service write to *path* though its definition makes everything around it read-only; where it is yet to be made,
    to its folder (systemd.exec(5), "ReadWritePaths=")."""
    confinement, file = case.service.confinement, case.file(path)
    hidden = confinement is None or any(places.inside(path, place) for place in confinement.hidden)
    if hidden or not case.family.defined_in_files or file is None or re.search(r"[\s%\"'\\]", path):
        return ()
    place = path if file.exists else path.rpartition("/")[0]
    if file.link_to or not places.given(case, place):
        return ()
    return (allow(case.node.name, f"ReadWritePaths={place}"),)


def _by_number(case: Case, user: str) -> Iterator[Finding]:
    evidence = numbered(case, 5)
    if evidence:
        yield Finding(
            says=f"{case.service.name} may not do what it needs as {user if case.service.account else 'its account'}: "
            "access was denied.",
            evidence=tuple(evidence),
            mends=(
                Mend(
                    f"Find what {case.service.name} could not open (its log), and give its account that one right.",
                    seeks=True,
                ),
            ),
        )


def _badly_owned(case: Case, event: Event, path: str) -> Barrier | None:
    """The file whose owner or mode as such is what the record complains of."""
    file = case.file(path)
    if file is None or not says(event.text, "ownership") or says(event.text, "too open"):
        return None
    return Barrier(path, f"{path} belongs to {file.owner}:{file.group}, mode {file.mode}", file=file)


_STEPS_ON_FILES = frozenset({"EXEC", "CHDIR", "CHROOT", "NAMESPACE", "STDIN", "STDOUT", "STDERR", "CREDENTIALS"})
_STEPS_ON_FILES |= {f"{kind}_DIRECTORY" for kind in ("STATE", "CACHE", "LOGS", "CONFIGURATION", "RUNTIME")}
"""Steps of the manager that open files (systemd.exec(5), "Process Exit Codes"), by the names that its records use."""
_OF_ITSELF = ("", "EXEC")
"""Of these steps the program is what is refused; in the record of any other it is named, and not meant."""


class _RefusedPath(NamedTuple):
    """A path that a record is about which says that something was refused."""

    event: Event
    path: str
    tied: bool
    """Whether the record itself, or what led to it, names the path."""


def _refused(case: Case) -> Iterator[_RefusedPath]:
    """Paths that records refuse; the longest path of each is the one that is meant."""
    for event, near in lines.refused(case.told_events()):
        if not _STEPS_ON_FILES.issuperset(read(event.text).named("step", "step")):
            continue  # the manager could not get as far as the program: not the program is refused
        if event.by_manager and not any(path in event.text for path in near):
            continue  # what it names in the line before is what it was about to run
        step = next(iter(read(event.text).named("step", "step")), "")
        # A place in a source is where the program stood when it was refused something.
        paths = [p for p in near if not re.search(rf"{re.escape(p)}(?::| line )\d+", event.text)]
        program = case.service.program
        meant = [p for p in paths if not (program and p == program.path)] or ([] if step not in _OF_ITSELF else paths)
        if not near and program and not event.by_manager and may_be_of_files(event.text):
            # The record names no path: of those that the service is known to use, one that keeps its account out of what a
            # program does with such a file. Files of the environment are read by the manager, with all rights.
            known = [
                *((p, True) for p in program.log_files),
                *((p, None if inside(p, "/var") else False) for p in program.paths),
                *((one.path, None if inside(one.path, "/var") else False) for one in program.named or ()),
            ]
            meant = [p for p, writes in known if (f := case.file(p)) and f.exists and rights.barrier(case, p, writes)][
                :1
            ]
        if meant and not any(path in event.text for path in meant):
            # Of several in the line before it, as a trace of calls shows them: one that is seen to be closed.
            meant = [path for path in meant if rights.barrier(case, path, False)][:1] or meant
        if meant:
            path = meant[-1] if event.by_manager else max(meant, key=len)
            yield _RefusedPath(event, path, bool(near) or _speaks_of_log(case, event, meant))

"""What the account, or the confinement, may not read, write or enter."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from msgspec.structs import replace

from hollow_chain.causes import looked, places
from hollow_chain.causes.account.capabilities import is_of_rights, refused_rights
from hollow_chain.causes.account.denial import could_only_be_made, denied, not_remade, told_alone, was_writing
from hollow_chain.causes.account.own_view import hidden_own, not_to_be_run, read_only_by_definition
from hollow_chain.causes.account.policy import refused_by_policy
from hollow_chain.causes.account.refusals import refused_paths
from hollow_chain.causes.account.root import wants_root
from hollow_chain.causes.case import Case
from hollow_chain.causes.definition.absence import taken_out
from hollow_chain.causes.definition.program import EXIT_EXEC, programs_of
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, Finding, Mend
from hollow_chain.causes.nature import ACCOUNT, Boot, Shown, When
from hollow_chain.causes.places import is_written
from hollow_chain.causes.rights import Barrier, account_of, barrier, barrier_for_owner, bypasses, closed_to_all_but_root
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import came_to_nothing, numbered
from hollow_chain.facts.host import Event
from hollow_chain.families.steps import step_of
from hollow_chain.wording import lines
from hollow_chain.wording.forms import read, says
from hollow_chain.wording.last_words import telling
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
        return
    if case.service.state == "stopped" and not came_to_nothing(case):
        return
    yield from _by_number(case, account_of(case))
    for way in _WAYS:
        found = list(way(case))
        if found:
            yield from found
            return


def _at_a_step(case: Case) -> Iterator[Finding]:
    """The manager's own step could not enter the place that stands in the definition."""
    stepped = _stepped(case)
    if stepped is not None:
        yield denied(case, *stepped)


def _at_a_refused_path(case: Case) -> Iterator[Finding]:
    """A record calls a path refused, and what is known of that path does not speak against it."""
    for event, path, tied in refused_paths(case):
        if is_of_rights(case, event, account_of(case)):
            continue
        found = _barrier_at(case, event, path)
        named = path in paths_in(event.text)
        if found is not None or event.by_manager or (named and case.file(path) is not None):
            made = denied if taken_out(case, path) is None else not_remade
            yield made(case, event, path, found, tied)
            return
        if named and not case.family.named_paths_are_looked_at and came_to_nothing(case):
            yield told_alone(case, event, path)
            return


def _barrier_at(case: Case, event: Event, path: str) -> Barrier | None:
    """What keeps the account from a path that a record refuses."""
    named = path in paths_in(event.text)
    # Programs are run where they lie, and not written to.
    told = bool(read(event.text).named("not run", "program")) or says(event.text, "run in vain")
    runs = told or is_program_place(path)
    # A path of another line is the one that is meant only where it is seen to be closed, for reading at that.
    asked = was_writing(event, case, path) if named else (is_written(path) and was_writing(event)) or False
    writes = False if runs else asked
    found = _kept_from(case, path, writes, runs) or _badly_owned(case, event, path)
    if found is None and named and writes is None:
        found = not_to_be_run(case, path)
    if found is None and named and not event.by_manager and bypasses(case):
        found = closed_to_all_but_root(case, path)
    return found


def _at_an_unreached_program(case: Case) -> Iterator[Finding]:
    """The manager could not run a program, and a folder on the way to it keeps the account out."""
    for path, barred in _unreached_programs(case):
        yield denied(case, None, path, barred)
        return


def _at_an_unopened_path(case: Case) -> Iterator[Finding]:
    """A record says that a path could not be opened, nobody says that it was refused, and it is closed to the account."""
    if not came_to_nothing(case):
        return
    for event, path in lines.unopened_paths(case.own_events()):
        program = case.service.program
        is_other = says(event.text, "missing", "full") or error_at_end(event.text) not in _OF_RIGHTS
        if is_other or (program and path == program.path):
            continue
        found = _barrier_behind(case, event, path)
        if found is not None:
            yield denied(case, event, path, found)
            return


def _barrier_behind(case: Case, event: Event, path: str) -> Barrier | None:
    """What keeps the account from a path that a record calls not opened; what is no place for data is closed only to who may not
    read it."""
    file = case.file(path)
    if file is None:
        return None
    may_write = is_written(path) and (file.exists or says(event.text, "writes"))
    made = is_written(path) and could_only_be_made(case, path)
    writes = made or (was_writing(event) if may_write else False)
    found = barrier(case, path, writes)
    if found is not None and made:
        found = replace(found, only_writing=True)
    if found is None and writes is None:
        found = read_only_by_definition(case, path)
    if found is None and file.exists and bypasses(case):
        found = barrier_for_owner(case, path)
    return found


def _at_a_hidden_place(case: Case) -> Iterator[Finding]:
    """A place of its own is there, and its definition hides it."""
    for event, hidden in hidden_own(case):
        yield denied(case, event or next(iter(telling(case.own_events())), None), hidden.path, hidden)
        return


def _where_nothing_is_named(case: Case) -> Iterator[Finding]:
    """Nothing that it says names what it was refused: a place of its own that is closed, or a right that it lacks."""
    user = account_of(case)
    if looked.is_silent(case) or _refused_without_a_name(case):
        yield from _closed_places(case)
    yield from list(refused_rights(case, user)) or _without_rights(case, user)


_WAYS: tuple[Callable[[Case], Iterator[Finding]], ...] = (
    _at_a_step,
    refused_by_policy,
    _at_a_refused_path,
    _at_an_unreached_program,
    _at_an_unopened_path,
    wants_root,
    _at_a_hidden_place,
    _where_nothing_is_named,
)
"""What tells of a refusal, the surest first; the first that does is believed, and the others are not asked."""


def _unread_while_up(case: Case) -> Iterator[Finding]:
    """It is up, and by its own words could not read a file that its command line names: it does not run as it is set to."""
    if case.state != "running" or case.service.program is None:
        return
    for event, path, _ in refused_paths(case):
        file, found = case.file(path), barrier(case, path, False)
        is_named = path in case.service.program.paths or path in places.words_of(case.service)
        if not is_named or found is None or file is None or not file.exists or file.kind != "file" or event.by_manager:
            continue
        yield replace(
            denied(case, event, path, found),
            says=f"{case.service.name} runs without {path}, which its definition names, and which its account may not read: {found.why}.",
            explains=("listener-off",),
        )
        return


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


def _closed_places(case: Case) -> Iterator[Finding]:
    """It ends without a reason of its own, and a place of its own is closed to it: likely, and no more."""
    for file, found in looked.closed(case):
        found_finding = denied(case, None, file.path, found)
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

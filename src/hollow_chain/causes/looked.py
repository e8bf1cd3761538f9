"""What a person would look at where a program ends and does not say why: the places of its own, against its account, the room on them,
and who has them. Each that comes out odd is evidence, and no more than that."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

import msgspec

from hollow_chain.causes.case import FILES, MANAGER, Case
from hollow_chain.causes.finding import FITS, HINT, Evidence
from hollow_chain.causes.places import inside, is_written
from hollow_chain.causes.rights import ALL_RIGHTS_ACCOUNTS, Barrier, barrier, bypasses, closed_to_all_but_root
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import came_up_after
from hollow_chain.facts.host import File
from hollow_chain.families.steps import step_of
from hollow_chain.wording.forms import says
from hollow_chain.wording.lines import is_call_error, of_trace

TELLING = (
    "missing", "denied", "in use", "no address", "read only", "ownership", "too open", "busy", "locked", "library", "full", "rejected",
    "account unknown", "account barred", "module missing", "host away", "unreached", "bounded files", "bounded tasks",
    "bounded watches", "bounded sharing", "bounded memory", "no family", "certificate over",
)  # fmt: skip
"""What a line may say that is a reason by itself."""
_ABORTED = 6
"""The signal by which a program ends itself where it cannot go on (abort(3)); any other comes from outside, or of a fault in it."""


def is_silent(case: Case) -> bool:
    """Whether the last run ended badly by itself, and its own words give no reason."""
    last = case.service.last
    if (
        last is None
        or case.standing.well
        or not failed_last(case.service)
        or last.result in ("timeout", "oom-kill", "watchdog")
    ):
        return False
    if last.signal not in (None, _ABORTED) or step_of(last.exit_status) is not None:
        return False
    return not any(
        says(event.text, *TELLING) and not is_call_error(event.text) and not of_trace(event.text)
        for event in case.own_events()
    )


def used(case: Case) -> list[File]:
    """The places of its own that were looked at: folders of its name or given by its definition, and what lies in them."""
    program = case.service.program
    found = [case.file(path) for path in ((program.used_places if program is not None else None) or ())]
    return [file for file in found if file is not None]


def closed(case: Case) -> Iterator[tuple[File, Barrier]]:
    """Places of its own that its account, or its definition, does not let it use."""
    if bypasses(case):
        yield from _closed_to_who_it_goes_on_as(case)
        return
    later = []
    for file in used(case):
        writes = is_written(file.path)
        found = barrier(case, file.path, writes) if file.exists else None
        # What it may write to below is what it needs there.
        let_in = found is not None and found.by_definition and any(inside(own, file.path) for own in _let_write(case))
        if found is not None and not let_in and not _was_so_when_it_worked(case, found.file or file):
            if not writes or barrier(case, file.path, False) is not None:
                yield file, found
            else:
                later.append((file, found))
    # A program may do with reading what it could also write to; what it may not even read it has no use for.
    yield from later


def _let_write(case: Case) -> list[str]:
    """The places that its definition lets it write to, whatever is closed around them."""
    program, confinement = case.service.program, case.service.confinement
    return [*(program.own_folders if program else ()), *(confinement.writable if confinement else ())]


def _closed_to_who_it_goes_on_as(case: Case) -> Iterator[tuple[File, Barrier]]:
    """Of a program that begins as root: places of its own that only root may enter, where most of its others belong to one account, as
    which it goes on then, most likely."""
    places = used(case)
    owners = Counter(file.owner for file in places if file.exists and file.owner not in ALL_RIGHTS_ACCOUNTS)
    if not owners:
        return
    account = owners.most_common(1)[0][0]
    theirs = next(file for file in places if file.owner == account)
    for file in places:
        found = closed_to_all_but_root(case, f"{file.path}/.") if file.exists and file.kind == "folder" else None
        if (
            found is not None
            and found.path == file.path
            and file.group != account
            and not _was_so_when_it_worked(case, file)
        ):
            yield file, msgspec.structs.replace(found, why=f"{found.why}, and {theirs.path} to {account}")


def _was_so_when_it_worked(case: Case, file: File) -> bool:
    """Whether the place, and what the definition allows, were the same when a start of it went well: then it is not that."""
    changed = [file.altered_at, case.service.definition.changed_at if case.service.definition is not None else None]
    return None not in changed and came_up_after(case, max(at for at in changed if at is not None))


def gone(case: Case) -> Iterator[File]:
    """Places of its own that are links to nothing, and folders of its logs that are not there."""
    yield from (file for file in used(case) if not file.exists and file.link_to)
    logs = case.service.program.log_files if case.service.program is not None else []
    folders = [case.file(path.rpartition("/")[0]) for path in logs]
    yield from (folder for folder in folders if folder is not None and not folder.exists)


def ended(case: Case) -> Evidence:
    """That it ends without a reason of its own, as the frame of such evidence."""
    last = case.service.last
    text = f"it ends with {last.result if last else 'an error'}, and its own words give no reason"
    return case.seen(text, MANAGER, last.ended_at if last else None, HINT)


def place(case: Case, file: File, text: str) -> Evidence:
    """One odd place. Of a service that is not known to have ever come up, it may have been so all along."""
    worked = any(start.outcome == "up" for start in case.service.starts)
    return case.seen(f"{file.path}, a place of its own: {text}", FILES, bears=FITS if worked else HINT)

"""What a person would look at where a program ends and does not say why: the places of its own, against its account, the room on them,
and who has them. Each that comes out odd is evidence, and no more than that."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import FILES, MANAGER, Case
from hollow_chain.causes.finding import FITS, HINT, Evidence
from hollow_chain.causes.places import inside
from hollow_chain.causes.rights import ALL_RIGHTS_ACCOUNTS, Barrier, account_of, barrier
from hollow_chain.causes.standing import failed_last
from hollow_chain.facts.host import File
from hollow_chain.families.steps import step_of
from hollow_chain.wording.forms import says
from hollow_chain.wording.lines import is_call_error

_TELLING = (
    "missing", "denied", "in use", "no address", "read only", "ownership", "too open", "busy", "locked", "library", "full", "rejected",
    "account unknown", "account barred", "host away", "unreached", "bounded files", "bounded tasks", "bounded memory", "no family",
)  # fmt: skip
"""What a line may say that is a reason by itself."""
_FROM_OUTSIDE = (1, 2, 9, 15)
"""Signals by which a person or the manager ends a program (signal(7))."""
_WRITTEN = ("/var", "/run", "/srv")
"""Where programs write (hier(7))."""


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
    if last.signal in _FROM_OUTSIDE or step_of(last.exit_status) is not None:
        return False
    return not any(says(event.text, *_TELLING) and not is_call_error(event.text) for event in case.own_events())


def used(case: Case) -> list[File]:
    """The places of its own that were looked at: folders of its name or given by its definition, and what lies in them."""
    program = case.service.program
    found = [case.file(path) for path in ((program.used_places if program is not None else None) or ())]
    return [file for file in found if file is not None]


def closed(case: Case) -> Iterator[tuple[File, Barrier]]:
    """Places of its own that its account, or its definition, does not let it use."""
    if account_of(case) in ALL_RIGHTS_ACCOUNTS and case.service.confinement is None:
        return
    for file in used(case):
        writes = any(inside(file.path, root) for root in _WRITTEN)
        found = barrier(case, file.path, writes) if file.exists else None
        if found is not None:
            yield file, found


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
    """One odd place."""
    return case.seen(f"{file.path}, a place of its own: {text}", FILES, bears=FITS)

"""What a program says that it lacks without a word about where: sought among the places that its settings name."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import ENDS, FITS, HINT, TELLS, Finding, Mend
from hollow_chain.facts.host import Event
from hollow_chain.wording.closing import may_be_about
from hollow_chain.wording.forms import says
from hollow_chain.wording.last_words import telling
from hollow_chain.wording.of_files import is_of_files
from hollow_chain.wording.things import paths_in


def lacking(case: Case) -> Iterator[Finding]:
    """The one place of its settings that is not there, where its last words say of something unnamed that it is not (``path-missing``)."""
    program = case.service.program
    absent = [one for one in (program.named if program is not None else None) or () if _is_absent(case, one.path)]
    said = next((e for e in telling(case.own_events())[::-1] if absent and _says_no_place(e)), None)
    if said is None:
        return
    meant = [one for one in absent if may_be_about(said.text, f"{one.source.partition(' in ')[0]} {one.path}")]
    if len(meant or absent) != 1:
        return
    one = (meant or absent)[0]
    name = case.service.name
    yield Finding(
        says=f"{name} needs {one.path}, which is not there.",
        evidence=(
            case.seen(f"{one.path} does not exist", FILES, bears=HINT),
            case.quoted(said, FITS if meant else HINT),
            case.seen(f"{one.path} is set by {one.source}", "configuration", bears=TELLS),
        ),
        mends=(
            Mend(f"Put {one.path} back, or make it, with the rights that {name} needs."),
            Mend(f"Or correct {one.source}.", "at the next start", instead=True),
        ),
        explains=(*ENDS, "config-rejected"),
    )


def _is_absent(case: Case, path: str) -> bool:
    file = case.file(path)
    return file is not None and not file.exists


def _says_no_place(event: Event) -> bool:
    return event.call is None and says(event.text, "missing") and not paths_in(event.text) and is_of_files(event.text)

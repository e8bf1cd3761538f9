"""What a program says that it lacks without a word about where: sought among the places that its settings name."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes import looked
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.definition.program import programs_of
from hollow_chain.causes.finding import ENDS, FITS, HINT, TELLS, Finding, Mend
from hollow_chain.causes.words import was_up_before
from hollow_chain.facts.host import Event
from hollow_chain.wording.closing import may_be_about
from hollow_chain.wording.complaints import is_source
from hollow_chain.wording.forms import says
from hollow_chain.wording.last_words import telling
from hollow_chain.wording.lines import CONFIGURATION
from hollow_chain.wording.of_files import is_of_files
from hollow_chain.wording.things import has_word, paths_in, quoted_words


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


def stumbled_over(case: Case) -> Iterator[Finding]:
    """The line of its settings with the word that it ended on, where nothing else is said of that (``config-rejected``)."""
    for event in case.final_events()[-1:]:
        words = set() if event.call is not None or says(event.text, *looked.TELLING) else set(quoted_words(event.text))
        programs = {path for path, _ in programs_of(case)}
        places = {
            f"{path}:{one.line}": one
            for one in case.own_events()
            if (path := one.source.removeprefix(CONFIGURATION)) != one.source
            and any(has_word(one.text, word) for word in words)
            and not is_source(path)
            and path not in programs
        }
        if len(places) != 1:
            return
        place, one = places.popitem()
        file = case.file(place.rpartition(":")[0])
        changed = file.changed_at if file is not None else None
        new = changed is not None and was_up_before(case, changed)
        name = case.service.name
        yield Finding(
            says=f"{name} stumbles over what stands in {place}: \u201c{event.text[:200]}\u201d.",
            evidence=(
                case.quoted(event, HINT),
                case.quoted(one, TELLS if new else HINT),
                *(
                    (case.seen(f"it came up before {file.path} was changed", FILES, changed, FITS),)
                    if new and file
                    else ()
                ),
            ),
            mends=(Mend(f"Correct {place}, then start {name}.", "at the next start"),),
            explains=("exits-with-error", "exits-at-once", "crash-loop"),
        )


def _is_absent(case: Case, path: str) -> bool:
    file = case.file(path)
    return file is not None and not file.exists


def _says_no_place(event: Event) -> bool:
    return event.call is None and says(event.text, "missing") and not paths_in(event.text) and is_of_files(event.text)

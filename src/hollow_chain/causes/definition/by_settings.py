"""What a program says that it lacks without a word about where: sought among the places that its settings name."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes import looked
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.definition.given import given_values
from hollow_chain.causes.definition.program import programs_of
from hollow_chain.causes.finding import AFTER_RELOAD, ENDS, FITS, HINT, SAID, TELLS, Finding, Mend
from hollow_chain.causes.words import was_up_before
from hollow_chain.facts.host import Event
from hollow_chain.wording.closing import may_be_about
from hollow_chain.wording.complaints import is_source
from hollow_chain.wording.forms import says
from hollow_chain.wording.last_words import telling
from hollow_chain.wording.lines import CONFIGURATION
from hollow_chain.wording.near import is_slip_of
from hollow_chain.wording.of_files import is_of_files
from hollow_chain.wording.ranges import bounds_in, lies_outside, lines_outside
from hollow_chain.wording.things import has_word, key_of, paths_in, quoted_words


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
            and any(has_word(one.text, word) or is_slip_of(key_of(one.text), word) for word in words)
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
        slip = next((word for word in words if is_slip_of(key_of(one.text), word)), "")
        over = (
            f"what stands in {place}"
            if not slip
            else f"{key_of(one.text)!r} in {place}, most likely {slip!r} misspelled"
        )
        yield Finding(
            says=f"{name} stumbles over {over}: \u201c{event.text[:200]}\u201d.",
            evidence=(
                case.quoted(event, HINT),
                case.quoted(one, FITS if slip else TELLS if new else HINT),
                *(
                    (case.seen(f"it came up before {file.path} was changed", FILES, changed, FITS),)
                    if new and file
                    else ()
                ),
            ),
            mends=(Mend(f"Correct {place}, then start {name}.", "at the next start"),),
            explains=("exits-with-error", "exits-at-once", "crash-loop"),
        )


def out_of_bounds(case: Case) -> Iterator[Finding]:
    """A number of its settings, or of what its definition gives it, that is not within the bounds which its last words name
    (``config-rejected``)."""
    for event in case.final_events()[-1:]:
        bounds = bounds_in(event.text)
        if bounds is None or event.call is not None:
            return
        found = [
            *((f"{name} of {case.service.name}", f"{name} is {value}", "definition") for value, name in given_values(case.service).items()
              if lies_outside(bounds, name, value)),
            *((place, one.text, one.source) for one in case.own_events() if (place := _place_of(one)) and lines_outside(one.text, bounds)),
        ]  # fmt: skip
        if len(found) != 1:
            return
        place, fact, source = found[0]
        yield Finding(
            says=f"{case.service.name} cannot use the number in {place}: \u201c{event.text[:200]}\u201d.",
            evidence=(case.quoted(event, FITS), case.seen(f"\u201c{fact[:200]}\u201d", source, bears=SAID)),
            mends=(
                Mend(
                    f"Correct {place}, then start {case.service.name}.",
                    AFTER_RELOAD if source == "definition" else "at the next start",
                ),
            ),
            explains=("exits-with-error", "exits-at-once", "crash-loop"),
        )


def _place_of(event: Event) -> str:
    path = event.source.removeprefix(CONFIGURATION)
    return f"{path}:{event.line}" if path != event.source and not is_source(path) else ""


def _is_absent(case: Case, path: str) -> bool:
    file = case.file(path)
    return file is not None and not file.exists


def _says_no_place(event: Event) -> bool:
    return event.call is None and says(event.text, "missing") and not paths_in(event.text) and is_of_files(event.text)

"""Certificates that nobody renewed."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import DOUBT, PROOF, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.words import clock, span
from hollow_chain.facts.host import Event, File
from hollow_chain.wording import lines
from hollow_chain.wording.things import paths_in

_CLOCK_OFF = 3600.0
"""Seconds by which a clock has to be off before it is the more likely reason: certificates are given out for days and years."""


@cause("certificate-expired", Boot.STAYS, states=("running", *NOT_UP), when=When.FAILED)
def certificate_expired(case: Case) -> Iterator[Finding]:
    """A certificate that it works with is no longer valid.

    Looks at: log lines that say so; the validity of the certificates that its words, arguments and settings name (RFC 5280,
    section 4.1.2.5).
    Convinced by: such a line, and a certificate whose time was over then.
    Against: the named one being valid (then it is another's, or it was renewed since); a clock that is wrong.
    Mend: have it renewed, and put it in its place.
    """
    said = [event for event in lines.certificates_over(case.told_events()) if not case.went_on_after(event)]
    if not said:
        return
    name, event = case.node.name, said[-1]
    over = next((file for file in _certificates(case, event) if _was_over(file, event)), None)
    which = (
        f"{over.path} was valid until {clock(over.valid_until)}"
        if over is not None
        else f"{named[0]}, by its own words"
        if (named := paths_in(event.text))
        else "which one, its words do not tell"
    )
    yield Finding(
        says=f"a certificate that {name} works with is no longer valid: {which}.",
        evidence=(case.quoted(event, SAID), *_looked_at(case, event, over), *_clock_off(case)),
        mends=(
            Mend(
                f"Have {over.path if over is not None else 'that certificate, its own or that of the other side,'} renewed by whoever "
                f"gives it out, put the new one in its place, and start {name}.",
                seeks=over is None,
            ),
        ),
        explains=("exits-with-error", "exits-at-once", "crash-loop", "config-rejected", "start-rate-limited"),
    )  # fmt: skip


def _certificates(case: Case, event: Event) -> Iterator[File]:
    """Those that were looked into, of what its words name first."""
    program = case.service.program
    named = [*paths_in(event.text), *((*program.settings_paths, *program.paths) if program is not None else ())]
    for path in dict.fromkeys(named):
        file = case.file(path)
        if file is not None and file.valid_until is not None:
            yield file


def _was_over(file: File, event: Event) -> bool:
    return file.valid_until is not None and event.at is not None and file.valid_until <= event.at


def _looked_at(case: Case, event: Event, over: File | None) -> Iterator[Evidence]:
    if over is not None:
        yield case.seen(f"{over.path} was valid until {clock(over.valid_until)}", FILES, bears=PROOF)
        return
    quoted = set(paths_in(event.text))
    for file in _certificates(case, event):
        bears = DOUBT if file.path in quoted else TELLS
        yield case.seen(f"{file.path} is valid until {clock(file.valid_until)}", FILES, bears=bears)


def _clock_off(case: Case) -> Iterator[Evidence]:
    offset = case.host.clock_offset
    if offset is not None and offset >= _CLOCK_OFF:
        yield case.seen(f"the clock of {case.node.host} is {span(offset)} ahead of a trusted one", "clock", bears=DOUBT)

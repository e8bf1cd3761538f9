"""How the end of a run is told: by its number or signal, how long it ran, and its last words."""

from __future__ import annotations

from hollow_chain.causes import meanings
from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import Evidence
from hollow_chain.causes.rule import NOT_UP
from hollow_chain.causes.words import run_seconds, span
from hollow_chain.facts.service import Service
from hollow_chain.wording.closing import closes
from hollow_chain.wording.last_words import telling
from hollow_chain.wording.system_errors import signals

FAILED_STATES = ("running", *NOT_UP)
"""States in which a service may have ended badly: one that is restarted again and again counts as running."""


def last_words(case: Case) -> tuple[Evidence, ...]:
    """What the last try said at its end, as evidence."""
    told = [event for event in telling(case.told_events()) if not (event.by_manager and closes(event.text))]
    return tuple(case.quoted(event) for event in told)


def own_last_words(case: Case) -> tuple[Evidence, ...]:
    """The same of the program alone: that the manager did not start it is no reason."""
    return tuple(case.quoted(event) for event in telling(case.told_events()) if not event.by_manager)


def heed(case: Case) -> str:
    """What to do about a run that says itself why it ended: its words, and where the rest of them is."""
    name = case.service.name
    words = own_last_words(case)
    if not words:
        return f"Its log says nothing about its end. Watch one more start of {name}: hollow-chain observe {name}"
    places = dict.fromkeys(piece.source for piece in words)
    return f"Mend what it says itself: {words[-1].fact}. All that it says stands in: {', '.join(places)}. Then start {name}."


def after_how_long(service: Service) -> str:
    """How long the last run took, as it is put behind how it ended."""
    ran = run_seconds(service)
    return f" after {span(ran)}" if ran is not None else ""


def ending(service: Service) -> str:
    """The number or word that the last run ended with."""
    last = service.last
    if last is None:
        return "nothing recorded"
    if last.exit_status not in (None, 0):
        return f"exit status {meanings.written(last.exit_status)}" + (f" in {last.step}" if last.step else "")
    if last.error_number not in (None, 0):
        return f"error {last.error_number}"
    if last.signal is not None:
        return f"signal {signal_name(last.signal)}"
    return f"result {last.result or 'success'}"


def signal_name(number: int) -> str:
    """The name of a signal (signal(7)), or its number where it has none."""
    known = signals().get(number)
    return known.name if known is not None else str(number)

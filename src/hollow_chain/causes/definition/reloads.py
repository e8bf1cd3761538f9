"""A service that is up, and was to read its settings anew in vain: it runs with those that it had."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import FITS, HINT, SAID, Evidence, Finding, Mend
from hollow_chain.facts.host import Event
from hollow_chain.families.messages import RELOADING
from hollow_chain.wording.complaints import ConfigError, config_errors
from hollow_chain.wording.last_words import telling


def failed_reload(case: Case) -> str:
    """How the last reload of a service that is up ended, in the manager's word; empty where it went well, or there was none."""
    last = case.service.last
    return last.reload_result if last is not None and case.state == "running" else ""


def refused_at_reload(case: Case) -> Iterator[Finding]:
    """What it refused in its settings when it was to read them anew (``config-rejected``)."""
    result = failed_reload(case)
    complaints = [one for one in config_errors(_words_of_reload(case)) if one.rejects] if result else []
    if not complaints:
        return
    best = min(complaints, key=lambda one: (one.closing, not one.path, one.line is None))
    place = (f"{best.path}:{best.line}" if best.line is not None else best.path) if best.path else ""
    name = case.node.name
    yield Finding(
        says=f"{name} runs with the settings that it had: it refused the new ones when it was to read them"
        f"{f', at {place}' if place else ''}: \u201c{best.event.text.strip()[:200]}\u201d. It would not start with them.",
        evidence=(case.quoted(best.event, SAID if _has_place(best) else FITS), _ended(case, result)),
        mends=(
            Mend(
                f"Correct {place or 'its settings'}, and have {name} read them anew (systemctl reload {name}).",
                "after the reload",
            ),
        ),
    )


def old_settings(case: Case) -> Iterator[Finding]:
    """The same where nothing that it said tells what it refused (``stale-definition``): worth knowing, and no more."""
    result = failed_reload(case)
    if result and case.asked and not any(refused_at_reload(case)):
        name = case.node.name
        words = [case.quoted(event, HINT) for event in telling(_words_of_reload(case))[-1:]]
        yield Finding(
            says=f"The last reload of {name} failed ({result}): it may run with the settings that it had before.",
            evidence=(_ended(case, result), *words),
            mends=(
                Mend(
                    f"See what {name} said at that reload; then reload it once more, or restart it.",
                    "after the reload",
                    seeks=True,
                ),
            ),
            note=True,
        )


def _words_of_reload(case: Case) -> list[Event]:
    """What the program said since its last reload began."""
    events = case.own_events()
    began = max((event.at for event in case.events() if event.code == RELOADING), default=None)
    return [event for event in events if not event.by_manager and (began is None or event.at >= began)]


def _has_place(one: ConfigError) -> bool:
    return bool(one.path) and one.line is not None


def _ended(case: Case, result: str) -> Evidence:
    return case.seen(f"the last reload of {case.node.name} ended with {result}", MANAGER, bears=FITS)

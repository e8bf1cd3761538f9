"""The words that a run ends with: the line that says why, and not the sentences that close it."""

from __future__ import annotations

from hollow_chain.facts.host import Event
from hollow_chain.families.messages import EXITED, FAILED, JOB_FAILED
from hollow_chain.lazy import pattern
from hollow_chain.wording import forms
from hollow_chain.wording.closing import REASONS, advises, closes
from hollow_chain.wording.forms import says
from hollow_chain.wording.lines import CONFIGURATION, SEVERE_LEVELS, of_trace
from hollow_chain.wording.settled import does_without, is_calm, is_step
from hollow_chain.wording.things import endpoints_of, paths_in

_RAISED = pattern(r"^[\w.:$\\]{0,200}(?:Error|Exception|Panic)\b")
"""How a line begins that names what was raised by its type, as many languages do at the foot or the head of a trace of calls."""
_FEW_WORDS = 4
"""So many words a line may have that says nothing but that the program ends: a name, a level, and "failed" or "going down"."""
NOISE = ("Started ", "Starting ", "Stopped ", "Stopping ", "Scheduled restart job", "Consumed ")
_BARS = "Start request repeated too quickly."
"""How the manager ends a message that it starts nothing any more: after which failures, and not why they came."""
_ONLY_THAT = (EXITED, FAILED, JOB_FAILED)
"""Records of the manager that a run failed, and with which number: what is known of the run says the same."""
_NEAR = 8
"""Lines before a closing sentence among which its reason is sought."""
_STEPS_BETWEEN = 2
"""Steps on the way up after which what was said before them is not the reason any more."""
_COMPLAINS = pattern(
    r"(?i)\b(?:not|no|none|never|nothing|cannot|can't|couldn't|won't|isn't|doesn't|didn't|without|fail\w{0,5}|errors?|invalid|unable|missing|wrong|"
    r"refus\w{1,4}|denied|illegal|unsupported|empty|bad|unknown|expired|mismatch\w{0,3}|needs?|requires?|must|too|unexpected|corrupt\w{0,3}|"
    r"broken|lacks?|lost)\b"
)
"""Words without which hardly a line gives a reason to end."""


def telling(events: list[Event], most: int = 3) -> list[Event]:
    """The last records that say something beyond the manager's own routine, errors before other lines."""
    spoken = [
        e
        for e in events
        if e.text.strip()
        and not (e.text.startswith(NOISE) and (e.by_manager or not _COMPLAINS.search(e.text)))
        and not (e.by_manager and (e.code in _ONLY_THAT or e.text.endswith(_BARS) or _is_routine(e)))
    ]
    own = _without_help([e for e in spoken if not e.by_manager and not e.source.startswith(CONFIGURATION)])
    severe = [e for e in own if e.level in SEVERE_LEVELS or says(e.text, "severe") or _RAISED.match(e.text)]
    full = [e for e in severe if not _only_ends(e.text) and not of_trace(e.text)]
    of_level = [e for e in spoken if e.level in SEVERE_LEVELS]
    # Where all that sounds like an error is the way there, the line that it began with is told.
    plain = [e for e in own if not of_trace(e.text)] if severe and all(of_trace(e.text) for e in severe) else []
    found = full or plain or severe or own or of_level or spoken
    reason = _reason_before(own, found[-1]) if found and closes(found[-1].text) else None
    if reason is not None:
        found = [*(e for e in found if e.at <= reason.at and e is not reason and not closes(e.text)), reason]
    return found[-most:]


def _is_routine(event: Event) -> bool:
    """Whether a record of the manager's only tells what it does, with the name of the unit before it."""
    return event.text.removeprefix(f"{event.service}: ").startswith((*NOISE, "Deactivated successfully"))


_HELP = pattern(r"(?i)^\s{0,8}usage\b")


def _without_help(own: list[Event]) -> list[Event]:
    """Those lines without the help that a program prints where it was called wrongly: behind its head only what sounds like an error
    tells something."""
    at = next((n for n, event in enumerate(own) if _HELP.match(event.text)), None)
    if at is None:
        return own
    left = own[:at] + [e for e in own[at + 1 :] if e.level in SEVERE_LEVELS or says(e.text, "severe", *REASONS)]
    return left or own


def lines_of_trouble(events: list[Event]) -> list[Event]:
    """Those of the program's own last words that tell of an error, by their level or in their words."""
    return [
        e
        for e in telling(events)
        if not e.by_manager and (e.level in SEVERE_LEVELS or says(e.text, "severe", *REASONS))
    ]


def final(events: list[Event]) -> list[Event]:
    """The record that a run ends with: of those that tell of an error the last, for what came before it was survived; all that tell
    something where none sounds like one."""
    told = telling(events)
    plain = [event for event in told if not of_trace(event.text)] or told
    severe = [
        event
        for event in plain
        if event.level in SEVERE_LEVELS or says(event.text, "severe") or _RAISED.match(event.text)
    ]
    first = len(severe) - 1
    while first > 0 and severe[first].text.lstrip().startswith(_CAUSED):
        first -= 1
    return severe[first:] or plain


_CAUSED = "Caused by"
"""How a trace of calls goes on with what had led to the error that it names before (Java, ``Throwable.printStackTrace``)."""


def _reason_before(own: list[Event], closing: Event) -> Event | None:
    """The line near before a *closing* one that says what was the matter; None where no line does. Before advice, any line says more."""
    at = next((n for n, event in enumerate(own) if event is closing), 0)
    steps = 0
    plain: Event | None = None
    for event in own[max(0, at - _NEAR) : at][::-1]:
        if of_trace(event.text) or closes(event.text) or _only_ends(event.text) or does_without(event.text):
            continue
        if is_calm(event.text):
            steps += 1
        elif event.level in SEVERE_LEVELS or says(event.text, "severe") or _COMPLAINS.search(event.text):
            return event
        else:
            steps += is_step(event.text)
            plain = plain or event
        if steps > _STEPS_BETWEEN:
            break
    return plain if advises(closing.text) else None


def _only_ends(text: str) -> bool:
    """Whether a line says that the program ends, and nothing of why."""
    found = [one for one in forms.read(text).found if one.form.says == "ends"]
    at_its_end = any(not any(map(str.isalnum, text[one.end :])) for one in found)
    return (
        at_its_end and sum(any(map(str.isalpha, word)) for word in text.split()) <= _FEW_WORDS and not _tells_more(text)
    )


def _tells_more(text: str) -> bool:
    return bool(forms.read(text).says - {"ends", "severe"}) or bool(paths_in(text) or endpoints_of(text))

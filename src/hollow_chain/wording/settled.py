"""Lines of a run that another line of it settles: what the program does without by its own words, an exception that it handled, and what
it only warned of before it said why it ends. They are no reason of the end, however alarming."""

from __future__ import annotations

import itertools
from datetime import datetime
from typing import Literal

from hollow_chain.facts.host import Event
from hollow_chain.lazy import pattern
from hollow_chain.wording.closing import REASONS, is_matter_of_its_own, may_be_about
from hollow_chain.wording.forms import says

_DOES_WITHOUT = pattern(
    r"(?i)\b(?:using|assuming|use|with|taking) (?:the |built-?in |compiled-?in |hard-?coded )?defaults?\b"
    r"|\bdefaults? (?:will be |are |is )?used\b|\bignor(?:ed|ing|e it|es it)\b|\bskipp(?:ed|ing)\b|\boptional\b"
    r"|\bcontinuing\b|\bcarrying on\b|\bproceeding\b|\bnot (?:fatal|critical|required|needed)\b|\bnon-?fatal\b"
    r"|\bfall(?:s|ing)? ?back\b|\bfallback\b|\bharmless\b|\bwill be created\b|\bcreating (?:it|a new|one|new)\b"
    r"|\bfeature disabled\b|\bwithout it\b|\btrying (?:the )?(?:next|another|other)\b|\bnot used\b"
)
"""How a program says that it goes on without something."""
_IS_NO_TROUBLE = pattern(
    r"(?i)\bnothing (?:to do|to be done|needs to be done)\b|\bno action (?:is )?(?:needed|required|necessary|taken)\b"
    r"|\boverw(?:ritten|riting|rote)\b|\bmissing, skipping\b"
)
"""How it says of the same line that there was nothing to it."""
_QUOTES_CODE = pattern(
    r"^\s{0,80}(?:[>*\u276f\u2771\u2192\u279c]\s?)?(?:\d{1,6}\s?[|\u2502]\s{0,80})?(?:raise|throw|throw new)\s[\w.:]{1,200}\("
)
"""A line of the program itself that raises an error, as some traces quote it: what it says stands there for any error of its kind."""
_PROGRESS = 3
"""Lines that tell of no trouble, and after which the program had evidently gone on."""
_HANDLED = pattern(r"^[ \t]{0,8}During handling of the above exception, another exception occurred")
_TRACE = pattern(r"^[ \t]{0,8}Traceback \(most recent call last\)")
_LONGEST_TRACE = 200
"""Lines of one trace of calls that are gone back through."""
_HEAD = 100
"""Characters at the head of a line in which its level stands."""
_CALM = pattern(
    r"(?:^|[\s\[<(|=\"])(?:TRACE|DEBUG|INFO|NOTICE)(?=[\s\])>|:,\"]|$)"
    r"|(?i:(?:[\[<(|]|level=\"?)(?:trace|debug|info|notice)(?=[\])>|\s\"]))|(?i:\b(?:notice|debug\d?|info):)"
)
_SEVERE = pattern(
    r"(?:^|[\s\[<(|=\"])(?:ERROR|ERR|FATAL|CRIT|CRITICAL|EMERG|ALERT|PANIC|SEVERE)(?=[\s\])>|:,\"]|$)"
    r"|(?i:(?:[\[<(|]|level=\"?)(?:error|err|fatal|crit|critical|emerg|alert|panic|severe)(?=[\])>|\s\"]))"
    r"|(?i:\b(?:(?:fatal )?error|fatal|critical|panic):)"
)
_WARNS = pattern(
    r"(?:^|[\s\[<(|=\"])(?:WARN|WARNING)(?=[\s\])>|:,\"]|$)|(?i:(?:[\[<(|]|level=\"?)warn(?:ing)?(?=[\])>|\s\"])|\bwarning:)"
)
_BY_RECORD = {"emergency": "severe", "alert": "severe", "critical": "severe", "error": "severe", "warning": "mild"}
"""The levels of records, where the line tells none; what a program prints is recorded as information, whatever it is."""
_GOES_ON = pattern(r"^(?:[ \t]|Caused by\b|at \S|\.\.\. \d|---)")
"""How a line begins that goes on with the one before it."""


def is_calm(text: str) -> bool:
    """Whether a line tells of no trouble by the level that it gives itself: less than a warning."""
    return _CALM.search(text[:_HEAD]) is not None


def does_without(text: str) -> bool:
    """Whether a line says of what it complains of that the program goes on without it."""
    return _DOES_WITHOUT.search(text) is not None


def unsettled(events: list[Event]) -> list[Event]:
    """The records of a run without those that another one of it settles; those of the manager stay."""
    own = [event for event in events if not event.by_manager and event.call is None]
    if not any(says(event.text, *REASONS) for event in own):
        return events
    settled = {*_handled(own), *_warned_of(own), *_done_without(own)}
    settled |= {id(one) for one in own if _QUOTES_CODE.match(one.text) or _IS_NO_TROUBLE.search(one.text)}
    return [event for event in events if id(event) not in settled] if settled else events


def outlived(own: list[Event]) -> dict[int, Literal["another", "further"]]:
    """The lines (by identity) that a run went on after, and ended over something else, as far as its lines tell: a later one complains at
    a severe level, and of ``another`` matter or by another of its programs, or when it had come some steps ``further``. Of what it only
    warns of by its own words, one step ahead is enough."""
    levels = _levels(own)
    last = max((n for n, event in enumerate(own) if levels[n] == "severe" or says(event.text, "severe")), default=0)
    ending, steps = {event.source for event in own[last:]}, 0
    # Where it ends over a matter of its own by its words, less has to lie between.
    of_its_own = bool(own) and levels[last] == "severe" and is_matter_of_its_own(own[last].text)
    found: dict[int, Literal["another", "further"]] = {}
    for number in range(last - 1, -1, -1):
        event = own[number]
        unlike = of_its_own and not may_be_about(event.text, own[last].text)
        if steps >= (1 if unlike else _PROGRESS):
            found[id(event)] = "further"
        elif unlike or event.source not in ending:
            found[id(event)] = "another"
        steps += levels[number] != "severe" and is_step(event.text)
    ahead = False
    for number in range(len(own) - 1, -1, -1):
        if ahead and _WARNS.search(own[number].text[:_HEAD]) is not None:
            found.setdefault(id(own[number]), "further")
        ahead = ahead or (own[number].source == own[-1].source and is_step(own[number].text))
    return found


def of_steps_before(own: list[Event], main: str, begun: datetime, started: datetime) -> set[int]:
    """The lines (by identity) of what the manager ran before the *main* program, from when the try was *begun* until that one was
    *started*, where it said itself what it ended over. *main*: the source of its lines. A step that fails keeps it from being started: what
    such a step complained of, and says the same way after each end maybe, was done without."""
    levels = _levels(own)
    ended = any(
        event.source == main and (levels[n] == "severe" or says(event.text, *REASONS, "severe"))
        for n, event in enumerate(own)
    )
    if not ended:
        return set()
    first = next((event.at for event in own if event.source == main and event.at >= started), started)
    said = {event.text for event in own if event.source != main and begun <= event.at < max(first, started)}
    return {id(event) for event in own if event.source != main and event.text in said}


_ENDS = ("ends", "severe", "trace", "in code")
_WORDS = pattern(r"[A-Za-z]{3}")
_WINDS_UP = pattern(
    r"(?i)stop|shut|clos|clean|exit|terminat|end(?:ed|ing)|bye|quit|abort|destroy|free|releas|disconnect|unload|remov"
)
"""How the lines of a program speak that is on its way out."""


def is_step(text: str) -> bool:
    """Whether a line tells of something that is done on the way up, and of no trouble."""
    if _GOES_ON.search(text) or not _WORDS.search(text) or _WINDS_UP.search(text):
        return False
    return not says(text, *REASONS, *_ENDS)


def _handled(own: list[Event]) -> set[int]:
    """The trace before the words that another exception came while it was handled (traceback(3) of Python): the last one ended the run."""
    found: set[int] = set()
    for index, event in enumerate(own):
        if _HANDLED.search(event.text) is None:
            continue
        for before in reversed(own[max(0, index - _LONGEST_TRACE) : index]):
            found.add(id(before))
            if _TRACE.search(before.text):
                break
    return found


def _warned_of(own: list[Event]) -> set[int]:
    """What it said at a mild level, where it gives a reason at a severe one later on."""
    levels = _levels(own)
    severe = [n for n, _ in enumerate(own) if levels[n] == "severe"]
    last = max((n for n in severe if says(own[n].text, *REASONS)), default=0)
    ended = own[severe[-1]].text if severe and is_matter_of_its_own(own[severe[-1]].text) else ""
    return {
        id(event)
        for n, event in enumerate(own)
        if levels[n] == "mild"
        and not is_step(event.text)
        and (n < last or (ended and n < severe[-1] and not may_be_about(event.text, ended)))
    }


def _levels(own: list[Event]) -> list[str]:
    """The level of each line by its own words, that of the line before where it goes on with that."""
    found: list[str] = []
    for event in own:
        if _GOES_ON.search(event.text) and found:
            found.append(found[-1])
        else:
            head = event.text[:_HEAD]
            found.append(
                "severe"
                if _SEVERE.search(head)
                else "mild"
                if _CALM.search(head) or _WARNS.search(head)
                else _BY_RECORD.get(event.level, "")
            )
    return found


def _done_without(own: list[Event]) -> set[int]:
    """What it goes on without by its own words, where another line gives a reason."""
    without = [event for event in own if does_without(event.text)]
    if not without:
        return set()
    # Some say in the next line that they go on without.
    above = [
        event
        for event, after in itertools.pairwise(own)
        if after.source == event.source and does_without(after.text) and not says(after.text, *REASONS)
    ]
    without += [event for event in above if not does_without(event.text)]
    gone_on = {id(event) for event in without}
    others = [(event, level) for event, level in zip(own, _levels(own), strict=True) if id(event) not in gone_on]
    if any(says(event.text, *REASONS) for event, _ in others) or any(
        level == "severe" and is_matter_of_its_own(event.text) for event, level in others[-1:]
    ):
        return {id(event) for event in without}
    return set()

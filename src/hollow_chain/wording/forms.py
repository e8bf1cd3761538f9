"""What a line says, by its words and never by the program that wrote it.

A *form* is a row of ``forms.json``: what it says, the phrases that announce it, lines of many programs that it has to read, and
lines that it must leave. A phrase is plain words with spaces between:

===============  ======================================================================
``in|into``      either word
``the?``         a word that may be left out
``~``            up to two more words
``...``          up to six more words
``{account}``    what is named there; the names are those of :data:`SLOTS`
===============  ======================================================================

Case, punctuation and quotation marks do not count; a phrase never goes beyond the end of a sentence; a path is one word, so that
nothing is read out of the names of folders. Names and texts of error numbers come from the table of :mod:`system_errors`, those
in other languages from that of :mod:`other_languages`.

All forms are looked for in one pass: a line is cut into words once, each word leads by a dictionary to the few phrases that begin
with it, and a phrase looks no farther ahead than it is long. So the time grows with the length of the line and nothing else, and no
two forms can get into each other's way: each finds what it finds.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator
from functools import cache, lru_cache
from pathlib import Path
from typing import NamedTuple

import msgspec

from hollow_chain import decoding
from hollow_chain.lazy import pattern
from hollow_chain.wording.other_languages import by_first_word as in_other_languages
from hollow_chain.wording.system_errors import spelled
from hollow_chain.wording.things import PATH, PATH_BEGINS

SLOTS = {
    "account": pattern(r"(?:[\w.\-]{1,63}\\)?[A-Za-z_][\w.\-]{0,63}\$?"),
    "adapter": pattern(r"[A-Za-z][\w.\-@]{1,14}(?![\w/])"),
    "host": pattern(r"[A-Za-z0-9][A-Za-z0-9\-]{0,62}(?:\.[A-Za-z0-9\-]{1,63}){0,20}(?![\w/])"),
    "library": pattern(r"[\w.+\-/]{1,300}"),
    "module": pattern(r"\.?[\w@][\w.@/:+\-]{0,200}"),
    "number": pattern(r"\d{1,9}\b"),
    "path": pattern(PATH),
    "program": pattern(r"[^\s'\":,]{1,1000}"),
    "sign": pattern(r"[^\w\s\"'`]{1,3}(?=[\"'`])"),
    "step": pattern(r"[A-Z][A-Z_]{1,40}\b"),
}
"""The things that a phrase may name, each by a short pattern that is tried at one place only."""
_NEAR, _FAR = 2, 6
"""Words that a gap may take. Six is the longest that the recorded lines need ("failed to bind the configured listening
socket for reading"); beyond, two halves of a sentence begin to pass for one phrase."""
_BEFORE_SLOT = pattern(r"(?: -- )?[\s\"'`<(:=\[#*\u2018\u201c]{0,6}")
_BEFORE_SIGN = pattern(r"\s{0,3}[\"'`]")
"""What may stand between a phrase and the thing that it names; a sign is known by its quotation marks alone."""
_AFTER_SLOT = r"[\s\"'`>):,\[\]\u2019\u201d]{0,6}"
_LONGEST_SLOT = 300
"""Characters before a phrase in which the thing that it ends may stand."""
_TOKEN = pattern(rf"(?P<path>{PATH_BEGINS}{PATH})|(?P<word>\w+(?:['\u2019][A-Za-z]{{1,2}}(?!\w))?)|[.;!?](?=\s|$)|\n")
_END = "."
"""The word that stands for the end of a sentence."""
_A_PATH = "/"
"""The word that stands for a path."""
_KEPT = 4096
"""Lines whose reading is remembered: the rules ask about the same few lines again and again."""


class Form(msgspec.Struct, frozen=True):
    """One row of the table."""

    form: str
    """Its name."""
    says: str
    """What a line of this form says; several forms may say the same."""
    reads: list[str]
    """Lines that it has to read."""
    leaves: list[str] = []
    """Lines that it must not read, near as they come."""
    words: list[str] = []
    """Phrases that announce it."""
    unless: list[str] = []
    """Phrases that mean something else where they stand in the place of one that announces it."""
    errors: list[str] = []
    """Error numbers of either family, by name: what they are called, how they are worded, and the number after "errno"."""


class _Table(msgspec.Struct):
    about: str
    not_named: dict[str, list[str]]
    """Words that stand where a thing would be named, and are none."""
    forms: list[Form]


class Said(NamedTuple):
    """What one form found in a line."""

    form: Form
    start: int
    end: int
    named: tuple[tuple[str, str], ...]
    """Slots of the phrase, and what stands there."""


class LineReading(NamedTuple):
    """What a line says."""

    says: frozenset[str]
    found: tuple[Said, ...]

    def named(self, says: str, slot: str) -> list[str]:
        """What the forms that say this name in that slot."""
        return [value for one in self.found if one.form.says == says for name, value in one.named if name == slot]


class _Step(NamedTuple):
    """One element of a phrase."""

    words: frozenset[str] = frozenset()
    optional: bool = False
    reach: int = 0
    """Words that a gap may take."""
    slot: str = ""


class _Phrase(NamedTuple):
    form: Form
    before: str
    """Slot that stands before the first word."""
    steps: tuple[_Step, ...]
    """What follows the first word."""


class _Word(NamedTuple):
    text: str
    start: int
    end: int


@cache
def _table() -> _Table:
    return decoding.of_json(Path(__file__).with_suffix(".json").read_bytes(), _Table)


def forms() -> list[Form]:
    """All forms."""
    return _table().forms


@lru_cache(_KEPT)
def read(text: str) -> LineReading:
    """All that *text* says."""
    found = tuple(_found(text))
    return LineReading(frozenset(one.form.says for one in found), found)


def says(text: str, *what: str) -> bool:
    """Whether *text* says one of these things."""
    return not read(text).says.isdisjoint(what)


# Phrases.


def phrases_of(form: Form) -> list[str]:
    """All phrases of a form, those of its error numbers among them."""
    made = list(form.words)
    for name in form.errors:
        made += [" ".join(word.text for word in _words(text) if word.text != _END) for text in spelled(name)]
    return made


@cache
def _of_error(name: str) -> list[Form]:
    return [form for form in forms() if name in form.errors]


def _step(element: str) -> _Step:
    if element in ("~", "..."):
        return _Step(reach=_NEAR if element == "~" else _FAR)
    if element.startswith("{"):
        slot = element.strip("{}?")
        return _Step(slot=SLOTS[slot] and slot)
    return _Step(frozenset(element.removesuffix("?").split("|")), element.endswith("?"))


@cache
def _by_first_word() -> dict[str, list[_Phrase]]:
    begun: defaultdict[str, list[_Phrase]] = defaultdict(list)
    for form in forms():
        for phrase in phrases_of(form):
            steps = [_step(element) for element in phrase.split()]
            before = steps.pop(0).slot if steps[0].slot else ""
            for word in steps[0].words:
                begun[word].append(_Phrase(form, before, tuple(steps[1:])))
    return dict(begun)


@cache
def _unless(form: str) -> dict[str, list[tuple[_Step, ...]]]:
    """The phrases that void a form, by the words that they begin with."""
    begun: dict[str, list[tuple[_Step, ...]]] = defaultdict(list)
    for phrase in (phrase for one in forms() if one.form == form for phrase in one.unless):
        first, *rest = map(_step, phrase.split())
        for word in first.words:
            begun[word].append(tuple(rest))
    return dict(begun)


# Lines.


def _words(text: str) -> list[_Word]:
    words: list[_Word] = []
    for match in _TOKEN.finditer(text):
        word = match["word"]
        if word is not None:
            words.append(_Word(word.lower().replace("\u2019", "'"), match.start(), match.end()))
        elif match["path"] is None:
            words.append(_Word(_END, match.start(), match.end()))
        else:
            words.append(_Word(_A_PATH, match.start(), match.end()))
            if match[0].endswith("."):
                words.append(_Word(_END, match.end(), match.end()))
    return words


def _found(text: str) -> Iterator[Said]:
    begun, others, words = _by_first_word(), in_other_languages(), _words(text)
    texts = [word.text for word in words]
    for index, word in enumerate(words):
        for phrase in begun.get(word.text, ()):
            named: tuple[tuple[str, str], ...] = ()
            if phrase.before:
                value = _named_before(phrase.before, text, word.start)
                if not value:
                    continue
                named = ((phrase.before, value),)
            follow = _follow(phrase.steps, words, index + 1, text, word.end)
            if follow is not None and not _is_part_of_another(phrase.form.form, words, index, text):
                yield Said(phrase.form, word.start, follow[0], named + follow[1])
        for error, rest in others.get(word.text, ()):
            last = index + len(rest)
            if texts[index + 1 : last + 1] == rest:
                yield from (Said(form, word.start, words[last].end, ()) for form in _of_error(error))


def _is_part_of_another(form: str, words: list[_Word], index: int, text: str) -> bool:
    """Whether what was found at that word is a piece of a phrase that says another thing, and may begin some words before."""
    unless = _unless(form)
    return any(
        (follow := _follow(steps, words, at + 1, text, words[at].end)) is not None and follow[0] > words[index].start
        for at in (range(max(0, index - _FAR), index + 1) if unless else ())
        for steps in unless.get(words[at].text, ())
    )


_Followed = tuple[int, tuple[tuple[str, str], ...]]


def _follow(steps: tuple[_Step, ...], words: list[_Word], index: int, text: str, end: int) -> _Followed | None:
    """Where a phrase ends whose next *steps* are sought from the word at *index* on, and what it names; None where it does not
    go on. A phrase has few steps and its gaps are short: the depth and the number of tries are bounded by the table."""
    if not steps:
        return end, ()
    step, rest = steps[0], steps[1:]
    if step.slot:
        return _follow_slot(step.slot, rest, words, index, text, end)
    if step.reach:
        for ahead in range(step.reach + 1):
            found = _follow(rest, words, index + ahead, text, end)
            if found is not None or index + ahead >= len(words) or words[index + ahead].text == _END:
                return found
        return None
    if index < len(words) and words[index].text in step.words:
        found = _follow(rest, words, index + 1, text, words[index].end)
        if found is not None:
            return found
    return _follow(rest, words, index, text, end) if step.optional else None


def _follow_slot(
    slot: str, rest: tuple[_Step, ...], words: list[_Word], index: int, text: str, end: int
) -> _Followed | None:
    begins = (_BEFORE_SIGN if slot == "sign" else _BEFORE_SLOT).match(text, end)
    match = SLOTS[slot].match(text, begins.end()) if begins else None
    value = match[0].rstrip(".-") if match else ""
    if match is None or not value or value.lower() in not_named(slot):
        return None
    while index < len(words) and words[index].start < match.start() + len(value):
        index += 1
    found = _follow(rest, words, index, text, match.end())
    return (found[0], ((slot, value), *found[1])) if found else None


def _named_before(slot: str, text: str, start: int) -> str:
    match = _ends_in(slot).search(text, max(0, start - _LONGEST_SLOT), start)
    value = match["named"] if match else ""
    return "" if value.lower() in not_named(slot) else value


@cache
def _ends_in(slot: str) -> re.Pattern[str]:
    return pattern(rf"(?<![\w.\-])(?P<named>{SLOTS[slot].pattern}){_AFTER_SLOT}$")


@cache
def not_named(slot: str) -> frozenset[str]:
    """Words, in lower case, that stand where a thing of that slot would be named, and are none."""
    return frozenset(_table().not_named.get(slot, ()))

"""Complaints of a program about its configuration: which file and line, and whether that is the reason or only what follows from it."""

from __future__ import annotations

from typing import NamedTuple

from hollow_chain.facts.host import Event
from hollow_chain.lazy import pattern
from hollow_chain.wording import forms
from hollow_chain.wording.forms import says
from hollow_chain.wording.lines import BEFORE, CONFIGURATION, SEVERE_LEVELS, is_call_error, is_set_in, of_one_breath
from hollow_chain.wording.things import endpoints_of, is_program_place, line_in, paths_in, place_in

_SOURCE_CODE = pattern(
    r"(?i)\.(?:py|pm|pl|c|cc|cpp|cxx|h|hpp|go|[cm]?js|tsx?|rb|java|kts?|scala|groovy|clj|lua|rs|cs|fs|vb|php|tcl|zig|nim|cr|swift|dart|erl|exs?|hs|mli?|lisp|scm|jl|f90|adb|pas|cobol|cbl)$"
)
_SHELL_SCRIPT = pattern(r"^/(?!etc/).{1,1000}\.(?:sh|bash|ksh|zsh)$")
"""In /etc it may as well be a file of variables that another script reads (hier(7))."""
_SPOKEN_LEVELS = ("", *SEVERE_LEVELS, "warning", "info")
"""Levels at which a program names a file and a line because it stumbled there: at "notice" and "debug" it tells how it is going."""
_BEHIND = 3
"""Lines after a complaint in which its place may stand."""


class ConfigError(NamedTuple):
    """A configuration file that a program complains of, as its log says it."""

    event: Event
    path: str
    line: int | None
    rejects: bool = True
    """Whether it is in the words of a parser; otherwise only a file and a line are named."""
    closing: bool = False
    """Whether it only says that the configuration as a whole will not do, while another line of the run says what was in the way."""


def is_source(path: str) -> bool:
    """Whether a file is a part of a program by its name, so that a place in it is none in a configuration; what lies in /etc is one,
    whatever language it is in (hier(7))."""
    return bool((_SOURCE_CODE.search(path) and not path.startswith("/etc/")) or _SHELL_SCRIPT.search(path))


_LOCKS = pattern(
    r"(?i)\b(?:could not|cannot|can't|failed to|unable to) (?:create |get |obtain |acquire )?(?:a |the )?lock\b"
)
"""How it is said that a file could not be locked: of settings, too, that is no complaint about what stands in them."""


def config_errors(events: list[Event]) -> list[ConfigError]:
    """Complaints about a configuration: a file with a line, or the words of a parser."""
    found: list[ConfigError] = []
    # The lines complained of are no complaints.
    events = [event for event in events if not event.source.startswith(CONFIGURATION)]
    for index, event in enumerate(events):
        if event.text[:1].isspace() and index and says(events[index - 1].text, "in code"):
            continue  # a line of the program itself, as a trace of calls quotes it
        located = place_in(event.text)
        if located and is_source(located[0]):
            found += _behind_its_own_place(event)
            continue  # where in the program, not where in its configuration
        if located and says(event.text, "noted", "in code"):
            continue  # no complaint at all
        rejects = says(event.text, "rejected") and not is_call_error(event.text) and not _LOCKS.search(event.text)
        source = _own_place(events, index) if rejects else None
        if rejects and (is_set_in(event.text) or (source is not None and is_source(source[0]))):
            continue
        located = located or source
        if rejects and says(event.text, "ownership", "too open") and (located is None and line_in(event.text) is None):
            continue  # what it says of a file is who may use it
        if located and (rejects or event.level in _SPOKEN_LEVELS):
            absent = says(event.text, "missing") and not says(event.text, "host away")
            if rejects or not (absent or says(event.text, "denied")):
                found.append(ConfigError(event, *located, rejects))
        elif rejects:
            near = _place_after(events, index)
            line = line_in(event.text)
            paths = [path for path in paths_in(event.text) if "." in path or "/etc/" in path]
            if line is None and near is None:
                line = _line_near(events, index)
            if near and not paths:
                paths, line = [near[0]], near[1]
            paths = paths or _in_trace_before(events, index)
            found.append(ConfigError(event, paths[0] if paths else "", line, closing=_closes(events, index)))
    return found


_RAISED_AT = pattern(r"^\S{1,1000}:\d{1,9}:in [`'][^']{1,200}': ")
"""How a line begins that a program ends on in a language that tells first where in it that was (Ruby, ``Exception#full_message``)."""


def _behind_its_own_place(event: Event) -> list[ConfigError]:
    """What a line complains of behind the place in the program that it begins with: words of a parser with a file of their own."""
    head = _RAISED_AT.match(event.text)
    said = event.text[head.end() :] if head is not None else ""
    paths = [path for path in paths_in(said) if not is_source(path) and not is_program_place(path)]
    return [ConfigError(event, paths[0], line_in(said))] if paths and says(said, "rejected") else []


_OWN_SYNTAX = pattern(r"^(?:SyntaxError|IndentationError|TabError)\b")
_OWN_PLACE = pattern(r"^\s{1,8}File \"(?P<path>[^\"]{1,1000})\", line (?P<line>\d{1,9})$")


def _own_place(events: list[Event], index: int) -> tuple[str, int] | None:
    """The place that a complaint of the interpreter's own is about, which it gives without a function around it (traceback of Python,
    "SyntaxError"): a part of the program, most often, and no configuration then."""
    if _OWN_SYNTAX.search(events[index].text) is None:
        return None
    near = [_OWN_PLACE.search(event.text) for event in events[max(0, index - _PLACE_BEFORE) : index]]
    return next(((match["path"], int(match["line"])) for match in reversed(near) if match is not None), None)


_PLACE_BEFORE = 4
"""Lines before it in which the place stands: the line of the source and a mark below it come between."""
_IN_THE_WAY = ("denied", "in use", "no address", "missing", "full", "locked", "busy", "no family", "account unknown", "too open",
               "bounded files", "bounded tasks", "bounded watches", "bounded sharing", "bounded memory")  # fmt: skip


_UNPLACED = {"a configuration as a whole", "words of a parser"}
_IN_ONE_READING = 8
"""Lines before a complaint about a whole configuration in which the step stands that failed."""


def _closes(events: list[Event], index: int) -> bool:
    """Whether a line only says that the configuration as a whole will not do, and one just before it what was in the way."""
    own = {one.form.form for one in forms.read(events[index].text).found if one.form.says == "rejected"}
    near = events[max(0, index - BEFORE) : index]
    if own == {"a configuration as a whole"} and any(says(event.text, *_IN_THE_WAY) for event in near):
        return True
    # Who takes his endpoints while he reads his settings calls that line of them wrong for which there was none.
    around = [one for one in events[max(0, index - _IN_ONE_READING) : index] if of_one_breath(events[index], one)]
    unplaced = own <= _UNPLACED and line_in(events[index].text) is None
    return unplaced and any(says(one.text, "in use", "no address") and endpoints_of(one.text) for one in around)


_LONGEST_TRACE = 60
"""Lines of one trace of calls that are gone through: deeper ones are of a program that calls itself without end."""


def _in_trace_before(events: list[Event], index: int) -> list[str]:
    """Files of settings and data that the calls name of a trace that ends in a complaint, the last first."""
    found: list[str] = []
    for event in reversed(events[max(0, index - _LONGEST_TRACE) : index]):
        if not event.text[:1].isspace():
            break
        # A line of the program is set in, and what it is about stands in quotes: where in the program is told by another line.
        named = [] if says(event.text, "in code") else paths_in(event.text)
        found += [path for path in named if "/etc/" in path or not (is_source(path) or is_program_place(path))]
    return found


def _place_after(events: list[Event], index: int) -> tuple[str, int] | None:
    for event in events[index + 1 : index + 1 + _BEHIND]:
        if event.source == events[index].source and (found := place_in(event.text)):
            return None if is_source(found[0]) else found
    return None


def _line_near(events: list[Event], index: int) -> int | None:
    for event in events[max(0, index - 2) : index + 3]:
        line = line_in(event.text)
        # A place in the program, as a trace of calls names it, is none in what the program reads.
        if line and not says(event.text, "in code"):
            return line
    return None

"""What a run sought and did not find, or could not run, by its own words: files without a folder, commands, other programs."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from hollow_chain.facts.host import Event
from hollow_chain.families.steps import EXIT_NOT_FOUND, EXIT_NOT_RUN
from hollow_chain.lazy import pattern
from hollow_chain.wording import forms
from hollow_chain.wording.forms import says
from hollow_chain.wording.lines import of_trace
from hollow_chain.wording.things import below, paths_in, relative_in

_TIDIES = pattern(r"(?i)\b(?:delet(?:e|ing)|remov(?:e|ing)|unlink(?:ing)?|clean(?:ing)? up)\b")


def missing_names(events: Iterable[Event]) -> Iterator[tuple[Event, str]]:
    """Files that a record calls absent and names without a folder, or from the working folder on."""
    for event in events:
        # What was to be tidied away and is not there is no loss.
        if says(event.text, "missing") and not says(event.text, "module missing") and not _TIDIES.search(event.text):
            yield from ((event, name) for name in relative_in(event.text))


def missing_below(events: Iterable[Event], folder: str) -> Iterator[tuple[Event, str]]:
    """The same as they begin in the working *folder*, made absolute; nothing where that is not known."""
    yield from ((event, below(folder, name)) for event, name in (missing_names(events) if folder else ()))


def refused_below(events: Iterable[Event], folder: str) -> Iterator[tuple[Event, str]]:
    """Files that a record calls refused and names from the working *folder* on, made absolute; nothing where that is not known."""
    for event in events if folder else ():
        if says(event.text, "denied", "read only") and not paths_in(event.text):
            yield from ((event, below(folder, name)) for name in relative_in(event.text))


_SOUGHT = pattern(
    r"(?:: (?:exec: )?|^)[\"'\u2018]?(?P<name>[\w.+/-]{1,200})[\"'\u2019]?: (?:No such file or directory|(?:command )?not found)$"
)
"""How env(1) and the shells say that they did not find a command."""
_AT_LINE = pattern(r": [^\W\d]{3,20} \d{1,6}: (?P<name>[\w.+/-]{1,200}): (?!.{0,60}[Vv]ariable?\b)[^:]{1,80}$")
"""The same of a shell that speaks another language: the word for "line", its number, the command."""
_BY_SHELL = pattern(
    r"^\S{1,300}: (?:line )?\d{1,6}: (?:exec: )?(?P<name>[\w.+\-]{1,100}): (?:command )?not found$|: (?P<plain>[\w.+\-]{1,100}): command not found$"
)
"""How a shell says so beyond doubt: with the number of its line."""
_COMMAND = pattern(r"[A-Za-z_][\w.+\-]{0,100}")
_RUNS = pattern(
    r"\b_execute_child\b|/subprocess\.py\"|\bsubprocess\.\w|\bPopen\b|posix_spawn|\bos\.exec[lv]|fork_exec|child_process|\bProcess(?:Builder|Impl)\b"
    r"|in [`'](?:exec|spawn|system|popen)'"
)
"""The calls of languages that run another program; loaders of modules "execute" as well, and are none of them."""
TRACE_BEFORE = 4
"""Lines of a trace before its last in which the call stands that failed: farther up stands who had called that."""


def before(events: list[Event], event: Event) -> list[Event]:
    """The records before *event* in which the call stands that failed, where it ends a trace of calls."""
    index = next((at for at, one in enumerate(events) if one is event), 0)
    return events[max(0, index - TRACE_BEFORE) : index]


def is_of_run(past: Iterable[Event]) -> bool:
    """Whether a trace of calls ends in one that runs another program. *past*: the records right before its last line."""
    return any(of_trace(one.text) and _RUNS.search(one.text) for one in past)


def command_missing(event: Event, past: Iterable[Event], status: int | None) -> str:
    """The command, by its name alone, that a record says was not found. The *status* at the end may be the one of shells for that, so that
    their short words are meant so; *past*: the records right before. Empty where it names none."""
    text = event.text.strip()
    short = (_SOUGHT.search(text) or _AT_LINE.search(text)) if status == EXIT_NOT_FOUND else None
    named = [short["name"]] if short is not None and "shared librar" not in text else []
    named += [name for match in _BY_SHELL.finditer(text) for name in match.groups() if name]
    named += forms.read(event.text).named("command missing", "program")
    if not named and is_of_run(past):
        named = [name for _, name in missing_names([event])]
    return next((name for one in named if _COMMAND.fullmatch(name := one.strip("'\"`()[]\u2018\u2019"))), "")


def run_in_vain(event: Event, past: Iterable[Event], status: int | None) -> str:
    """The program that a record says could not be run; empty where it names none by its path. By the *status* at the end it may be one of
    a shell (sh(1p), "Exit Status"), so that "permission denied" and "not found" are meant of running it; *past*: the records right before,
    which may lead through a call that runs it."""
    meant = ("denied",) if status == EXIT_NOT_RUN else ("missing",) if status == EXIT_NOT_FOUND else ()
    if says(event.text, "run in vain", *meant) or (says(event.text, "denied", "missing") and is_of_run(past)):
        return next(reversed(paths_in(event.text)), "")
    return ""

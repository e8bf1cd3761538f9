"""What the definition gives its program: the words and variables that it is called with, and what it only tests for."""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import pairwise

from hollow_chain.causes import looked
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import (
    AFTER_RELOAD,
    AFTER_RESTART,
    DOUBT,
    FITS,
    HINT,
    SAID,
    TELLS,
    Evidence,
    Finding,
    Mend,
)
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import came_up_after
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Service
from hollow_chain.lazy import pattern
from hollow_chain.wording import sought
from hollow_chain.wording.forms import says
from hollow_chain.wording.ranges import bounds_in
from hollow_chain.wording.tested import tested


def tested_in_vain(case: Case) -> dict[str, Evidence]:
    """What the step that failed only tests for, and is not as it wants it: path to why it counts."""
    service, last = case.service, case.service.last
    if last is None or not last.exit_status:
        return {}
    words = last.step_arguments or ([] if last.step else service.program.arguments if service.program else [])
    found: dict[str, Evidence] = {}
    for one in tested(words):
        file = case.file(one.path)
        if file is None or (file.exists and (one.asks, file.kind) not in _OTHER_THAN_ASKED):
            continue
        what = f"{last.step or 'its command'} of {service.name} tests whether {one.path} is {one.asks} ({one.operator})"
        found[one.path] = case.seen(f"{what}, and does nothing else before", "definition", last.ended_at, SAID)
    return found


_OTHER_THAN_ASKED = {("a folder", "file"), ("a file", "folder"), ("a socket", "file"), ("a socket", "folder")}
_VARIABLE = pattern(r"\$\{?(?P<name>[A-Za-z_]\w{0,100})")
_OF_THE_MANAGER = pattern(
    r"PATH|LANG|USER|LOGNAME|HOME|SHELL|MAINPID|MANAGERPID|INVOCATION_ID|(?:RUNTIME|STATE|CACHE|LOGS|CONFIGURATION|CREDENTIALS)_DIRECTORY|"
    r"NOTIFY_SOCKET|JOURNAL_STREAM|SERVICE_RESULT|TERM|(?:LISTEN|WATCHDOG|SYSTEMD|EXIT|REMOTE)_\w{1,40}"
)
"""Variables that the manager sets by itself (systemd.exec(5), "Environment Variables in Spawned Processes")."""


def missing_variables(case: Case) -> Iterator[Finding]:
    """Its command line uses a variable that only a file could set which may be missing, and is: it was called without that word. Many
    do well without, so that it counts only where nothing else explains the end."""
    service, program = case.service, case.service.program
    last = service.last
    if program is None or last is None or not last.exit_status or last.step or not failed_last(service):
        return
    files = [case.file(path) for path in (*program.environment_files, *(program.optional_files or ()))]
    if not files or any(file is None or file.exists for file in files):
        return
    given = {word.partition("=")[0] for word in program.environment}
    used = dict.fromkeys(m["name"] for word in program.arguments for m in _VARIABLE.finditer(word[:_LONGEST_WORD]))
    unset = [name for name in used if name not in given and not _OF_THE_MANAGER.fullmatch(name)]
    # A shell may have set it in the words before.
    if not unset or " -c " in f" {' '.join(program.arguments[:3])} ":
        return
    path, words = next(file.path for file in files if file is not None), ", ".join(f"${name}" for name in unset[:4])
    yield Finding(
        says=f"{service.name} most likely misses {path}, which is not there: its command line uses {words}, and nothing else sets "
        f"{'that' if len(unset) == 1 else 'those'}.",
        evidence=(
            case.seen(f"{path} does not exist", FILES, bears=TELLS),
            case.seen(
                f"the command line of {service.name}: {' '.join(program.arguments)[:200]}", "definition", bears=HINT
            ),
            looked.ended(case),
        ),
        mends=(
            Mend(f"Put {path} back, or set {words} in the definition of {service.name} (Environment=).", AFTER_RELOAD),
        ),
        residual=True,
        explains=("exits-with-error", "exits-at-once", "crash-loop"),
    )


_LONGEST_WORD = 2000
"""Characters of an argument that are gone through for variables."""


def refused_value(case: Case, own: list[Event]) -> Iterator[Finding]:
    """A value that it cannot use, by its own words, and that its definition gives it."""
    given = given_values(case.service)
    refused = _refused_option(case, own)
    if refused is not None:
        yield refused
        return
    for event in [one for one in own if says(one.text, "no value", "rejected") or bounds_in(one.text)][::-1]:
        for match in _QUOTED.finditer(event.text[:_LONGEST]):
            value = match["value"]
            # A file is told of by its place; a plain word may be one of the settings as well.
            if value not in given or "/" in value or (value.isalpha() and not _OF_CALL.search(event.text)):
                continue
            name, service = given[value], case.service
            yield Finding(
                says=f"{service.name} cannot use {value!r}, which its definition gives it as {name}: \u201c{event.text[:200]}\u201d.",
                evidence=_called_with(case, event, f"{name} of {service.name} is {value!r}", SAID),
                mends=(Mend(f"Correct {name} in the definition of {service.name}.", AFTER_RELOAD),),
                explains=("exits-with-error", "crash-loop", "exits-at-once"),
            )
            return


def _called_with(case: Case, event: Event, fact: str, bears: str) -> tuple[Evidence, ...]:
    """The words about what it is called with, and what its definition has of that. Where neither that nor its program was changed since it
    came up, the words speak of what followed from something else, most likely."""
    program = case.file(case.service.program.path) if case.service.program is not None else None
    definition = case.service.definition
    changed = [
        definition.changed_at if definition else None,
        program.altered_at or program.changed_at if program else None,
    ]
    if None in changed or not came_up_after(case, max(at for at in changed if at is not None)):
        return case.quoted(event, SAID), case.seen(fact, "definition", bears=bears)
    same = "it came up before, called with the same, and by the same program"
    return case.quoted(event, FITS), case.seen(fact, "definition", bears=HINT), case.seen(same, bears=DOUBT)


def _refused_option(case: Case, own: list[Event]) -> Finding | None:
    """An option that it does not know, or misses, by its own words: what it is called with stands in its definition (getopt(3))."""
    program, name = case.service.program, case.service.name
    last = case.service.last
    if program is None or last is None or last.step:
        return None
    options = [word.partition("=")[0] for word in program.arguments[1:] if len(word) > 1 and word.startswith("-")]
    for event in own[::-1]:
        text = event.text[:_LONGEST]
        unknown, wanted = _UNKNOWN.search(text), _WANTED.search(text)
        named = next(filter(None, unknown.groups()), "") if unknown is not None else ""
        option = next((one for one in options if named and one.lstrip("-") == named.lstrip("-")), "")
        bundled = next((one for one in options if len(named) == 1 and not one.startswith("--") and named in one), "")
        if option or bundled:
            says_so = f"{name} does not know the option {option or bundled}, with which its definition calls it"
            fact = f"the command line of {name} has {option or bundled}"
        elif wanted is not None and wanted["name"] not in options:
            says_so = f"{name} is called without {wanted['name']}, and cannot do without it"
            fact = f"the command line of {name} has no {wanted['name']}"
        else:
            continue
        return Finding(
            says=f"{says_so}: \u201c{event.text[:200]}\u201d.",
            evidence=_called_with(case, event, fact, FITS),
            mends=(Mend(f"Correct the command line of {name} in its definition.", AFTER_RELOAD),),
            explains=("exits-with-error", "crash-loop", "exits-at-once"),
        )
    return None


_OPTION = r"-{0,2}[A-Za-z0-9][\w\-]{0,60}"
_UNKNOWN = pattern(
    r"(?i)\b(?:un(?:recogni[sz]ed|known|expected)|invalid|illegal|bad|undefined|no such) (?:command[ -]line )?"
    rf"(?:options?|flags?|switch|arguments?|parameter)(?: found| given)?:? (?:-- )?[\"'`\u2018\u201c]?(?P<name>{_OPTION})"
    rf"|\b(?:option|flag|argument)s? provided but not defined:? (?P<defined>{_OPTION})"
    r"|[\"'`\u2018\u201c](?P<before>--?[A-Za-z0-9][\w\-]{0,60})[\"'`\u2019\u201d]? (?:is not an?|is an? unknown|is an? invalid) "
    r"(?:\w{1,20} )?(?:option|flag|argument)"
)
"""How getopt(3) and the parsers of command lines of many languages call an option that they do not know."""
_WANTED = pattern(
    r"(?i)\b(?:arguments?|options?|flags?)(?: \S{1,20}){0,2} (?:are|is|were|was) (?:required|missing|mandatory|not given|not provided)"
    r"(?: -)?:? {0,2}[\"'`<]?(?P<name>--?[A-Za-z][\w\-]{0,60})"
)
"""The same of one that they cannot do without."""
_QUOTED = pattern(r"[\"'`\u2018\u201c](?P<value>[^\"'`\u2018\u2019\u201c\u201d\s]{1,200})[\"'`\u2019\u201d]")
_OF_CALL = pattern(r"(?i)\b(?:argument|option|flag|command|subcommand|parameter|environment|variable)s?\b")
"""Words that speak of what a program is called with."""
_LONGEST = 2000
"""Characters of a line that are gone through for what it quotes."""


def given_values(service: Service) -> dict[str, str]:
    """The values that the definition gives the program, and what each is called there."""
    program = service.program
    if program is None:
        return {}
    found = {word: f"argument {n}" for n, word in enumerate(program.arguments) if n and not word.startswith("-")}
    for before, word in pairwise(program.arguments):
        if before.startswith("-") and word in found:
            found[word] = f"the argument after {before}"
    for word in program.arguments:
        option, sign, value = word.partition("=")
        if sign and option.startswith("-") and value:
            found[value] = option
    for word in program.environment:
        name, _, value = word.partition("=")
        if value:
            found[value] = f"the variable {name}"
    return found


_UNSET = pattern(r"(?i)unset environment variable evaluates to an empty string: (?P<names>[A-Za-z_][\w, ]{0,200})")


_NOT_TAKEN = pattern(
    r"(?i)ignoring invalid environment assignment ['\"](?P<said>[^'\"]{1,200})['\"]: (?P<file>/\S{1,300})"
)


def refused_assignment(case: Case) -> Iterator[Finding]:
    """A line of a file of variables that the manager passed over, of a variable that the program misses by its own words (systemd.exec(5),
    "EnvironmentFile=": it is no shell script)."""
    own = [event for event in case.own_events() if not event.by_manager]
    for event in case.last_events():
        found = _NOT_TAKEN.search(event.text) if event.by_manager else None
        names = _NAME.findall(found["said"].partition("=")[0]) if found else []
        missed = [one for one in own if names and re.search(rf"\b{re.escape(names[-1])}\b", one.text[:_LONGEST])]
        if found is None or not missed:
            continue
        yield Finding(
            says=f"{case.service.name} is called without {names[-1]}: the manager passes over the line {found['said']!r} of {found['file']}.",
            evidence=(case.quoted(event, SAID), case.quoted(missed[-1], FITS)),
            mends=(
                Mend(
                    f"Write {found['said']!r} in {found['file']} as NAME=value, without any other word.", AFTER_RESTART
                ),
            ),
            explains=("exits-with-error", "crash-loop", "exits-at-once"),
        )
        return


_NAME = pattern(r"[A-Za-z_]\w{0,100}")
_V = r"(?P<{0}>[A-Z][A-Z0-9_]{{2,60}})"
_LACKS = r"[\"'`]? (?i:(?:is |was |has |must )?(?:not|missing|required|unset|empty|undefined|be set))\b"
_MISSED = pattern(
    rf"\b{_V.format('shell')}: (?i:unbound variable|parameter (?:null or )?not set)"
    rf"|(?i:\bvariables? (?:named )?)[\"'`$]{{0,2}}{_V.format('after')}{_LACKS}"
    rf"|\b{_V.format('before')}[\"'`]? (?i:(?:environment|env) (?:variable|var)){_LACKS}"
    r"|(?i:\b(?:missing|required|undefined|unset|no|without) (?:required |mandatory )?(?:environment|env) (?:variables?|vars?)(?: named)?:? )"
    rf"[\"'`$]{{0,2}}{_V.format('listed')}\b"
    rf"|(?i:\bkey not found: )\"{_V.format('fetched')}\"|(?i:\brequired key ){_V.format('wanted')}(?i: missing value)"
    rf"|(?i:\b(?:environment|env) (?:variable|var) (?:was |is )?not (?:found|set|defined)[: ] ?)[\"'`$]{{0,2}}{_V.format('told')}\b"
    rf"|(?i:\b(?:fetch|find|read|get|load) (?:the )?(?:environment|env) (?:variable|var) )[\"'`$]{{0,2}}{_V.format('asked')}\b"
    r"|^[\"'`$]{0,2}(?P<alone>[A-Z][A-Z0-9]{0,30}_[A-Z0-9_]{1,30})[\"'`]? "
    r"(?i:(?:is |was )?(?:not set|not defined|unset|undefined)|is required|must be set)\b"
)
"""How shells, run-time libraries and programs say that a variable of the environment is not set."""
_LOOKED_UP = pattern(r"\bKeyError: '(?P<name>[A-Z][A-Z0-9_]{2,60})'")
_IN_ENVIRONMENT = pattern(r"<frozen os>|/os\.py\"|\benviron\b")
"""Where a language looks names up in its environment (Python, ``os.environ``)."""


def _missed_in(case: Case) -> tuple[Event, str] | None:
    own = case.own_events()
    for event in case.final_events()[::-1]:
        text = event.text[:_LONGEST]
        match = _MISSED.search(text)
        found = next(filter(None, match.groups()), "") if match is not None else ""
        key = _LOOKED_UP.search(text)
        if key is not None and any(_IN_ENVIRONMENT.search(one.text) for one in sought.before(own, event)):
            found = key["name"]
        if found:
            return event, found
    return None


_OF_OTHERS = pattern(r"(?i)unbound variable|parameter (?:null or )?not set|key not found")


def missed_variable(case: Case) -> Iterator[Finding]:
    """A variable that it cannot do without, by its own words, and that its definition does not give it."""
    program, name = case.service.program, case.service.name
    found = _missed_in(case) if program is not None and case.family.defined_in_files else None
    if program is None or found is None or _OF_THE_MANAGER.fullmatch(found[1]):
        return
    event, variable = found
    if any(word.startswith(f"{variable}=") for word in program.environment):
        return
    # Shells say the same of a name that their script was to set by itself, and some languages of any table of names.
    bears = FITS if _OF_OTHERS.search(event.text) else SAID
    files = [*program.environment_files, *(program.optional_files or ())]
    but = f", but for what stands in {' and '.join(files[:2])}" if files else ""
    where = f"nothing in its definition sets it{but}"
    yield Finding(
        says=f"{name} is called without the variable {variable}, and cannot do without it: \u201c{event.text[:200]}\u201d.",
        evidence=(case.quoted(event, bears), case.seen(where, "definition", bears=TELLS if files else HINT)),
        mends=(Mend(f"Set {variable} in the definition of {name} (Environment=, or a file that EnvironmentFile= names).", AFTER_RELOAD),),
        explains=("exits-with-error", "crash-loop", "exits-at-once"),
    )  # fmt: skip


def unset_variable(case: Case) -> Iterator[Finding]:
    """Its command line uses a variable that nothing sets, so that it is called without that word (systemd.service(5), "Command Lines")."""
    program, name = case.service.program, case.service.name
    told = [(event, match) for event in case.last_events() if event.by_manager and (match := _UNSET.search(event.text))]
    if program is None or not told:
        return
    event, match = told[-1]
    names = match["names"].strip()
    yield Finding(
        says=f"{name} is called without {names}: its command line uses that variable, and nothing sets it.",
        evidence=(
            case.quoted(event, FITS),
            looked.ended(case),
        ),
        mends=(Mend(f"Set {names} in the definition of {name} (Environment=, or the file that EnvironmentFile= names).", AFTER_RELOAD),),
        residual=True,
        explains=("exits-with-error", "crash-loop", "exits-at-once"),
    )  # fmt: skip

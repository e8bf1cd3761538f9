"""The configuration that the program itself refuses."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes import looked
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.definition.by_settings import out_of_bounds, stumbled_over
from hollow_chain.causes.definition.given import missed_variable, refused_assignment, refused_value, unset_variable
from hollow_chain.causes.definition.program import programs_of
from hollow_chain.causes.definition.reloads import refused_at_reload
from hollow_chain.causes.finding import DOUBT, FITS, HINT, SAID, TELLS, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rights import barrier
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import Standing, failed_last
from hollow_chain.causes.words import came_up_after
from hollow_chain.facts.host import Event, File
from hollow_chain.facts.service import MOUNTS, Service
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.bound import call_to_listen
from hollow_chain.wording.complaints import ConfigError, config_errors
from hollow_chain.wording.forms import says
from hollow_chain.wording.observed import LIKELY
from hollow_chain.wording.observed import SOURCE as OBSERVED
from hollow_chain.wording.things import paths_in

_FROM_OUTSIDE = (1, 2, 9, 15)
"""Signals by which a person or the manager ends a program: hang-up, interrupt, kill, terminate (signal(7))."""


@cause("config-rejected", Boot.STAYS, states=("running", *NOT_UP), when=When.STALE)
def config_rejected(case: Case) -> Iterator[Finding]:
    """The program refuses its own configuration, or what its definition calls it with.

    Looks at: the words of its last run: a file with a line number, the words of a parser, an option or a variable that it does not know
    or misses, against the definition; of one that is up, those of a reload that failed.
    Convinced by: such a line in a run that ended with an error.
    Against: the same run also naming an absent path, a taken port or a missing right; an end that was brought on from outside.
    Mend: correct the place that is named.
    """
    service = case.service
    last = service.last
    if case.standing is Standing.UP:
        yield from refused_at_reload(case)
        return
    if not failed_last(service) or service.kind in MOUNTS:
        return  # what a mount is refused is no configuration of a program: see the rule for these
    if last is not None and last.result == "signal" and last.signal in _FROM_OUTSIDE:
        return  # what refuses its configuration ends by itself
    own = [e for e in case.told_events() if not e.by_manager]
    programs = {path for path, _ in programs_of(case)}
    # A script that stumbles names itself: that is where in the program, not where in its configuration.
    complaints = [
        kept
        for one in config_errors(own)
        if (kept := _not_of(programs, one)) is not None and not _is_absent(case, kept)
    ]
    if not any(one.path and one.rejects for one in complaints):
        refused = list(refused_value(case, own)) or list(out_of_bounds(case))
        yield from refused
        if refused:
            return
    if not complaints:
        yield from unset_variable(case)
        passed_over = list(refused_assignment(case))
        yield from passed_over or missed_variable(case)
        yield from _unread(case)
        yield from _listens_nowhere(case)
        yield from stumbled_over(case)
        yield from _ended_on(case)
        return
    if last is not None and last.result == "watchdog":
        return
    if last is not None and last.result == "timeout" and not any(one.rejects for one in complaints):
        return  # it names places as it goes, and was ended for its slowness
    # The words of a parser with a place are best, then a place, then the words alone.
    best = min(complaints, key=lambda c: (c.closing, not (c.rejects and c.path), c.line is None, not c.path))
    bears = SAID if best.rejects and best.path and best.line is not None else HINT if best.closing else FITS
    away = says(best.event.text, "host away")
    if best.path and best.line is None and not _is_of_settings(case, best.path):
        bears = HINT  # data that it cannot use are no settings
    place = best.path + (f":{best.line}" if best.line is not None else "") if best.path else ""
    only = "" if place else _only_settings(case)
    where = place or only or "its configuration"
    at = f" at {place}" if place else f", most likely {only}" if only else ""
    yield Finding(
        says=f"{service.name} refuses its configuration{at}: \u201c{_sentence(own, best)}\u201d.",
        evidence=(
            case.quoted(best.event, bears),
            # That it ended with an error agrees with a complaint about a place; of words alone it makes no more.
            case.seen(
                _ending(service),
                at=service.last.ended_at if service.last else None,
                bears=HINT if best.path else TELLS,
            ),
            *((case.seen(_MAY_BE_RIGHT, "configuration", bears=DOUBT),) if away else ()),
        ),
        mends=(_correct(case, best.path, where),),
        explains=("exits-with-error", "crash-loop", "exits-at-once"),
    )


def _sentence(own: list[Event], one: ConfigError) -> str:
    """What a complaint says: of one that ends in a colon with the next line, of one that only names its place the error behind that."""
    said = one.event.text.strip()
    at = next((n for n, event in enumerate(own) if event is one.event), len(own))
    after = [
        text
        for event in own[at + 1 : at + 1 + _NEAR]
        if (text := event.text.strip()) and event.source == one.event.source
    ]
    if said in (one.path, f"{one.path}:{one.line}"):
        said = next((text for text in after if says(text, "severe", "rejected")), said)
    elif said.endswith(":") and after:
        said = f"{said} {after[0]}"
    return said[:200]


_NEAR = 6
"""Lines behind a complaint in which it goes on: a line of the source, and marks below it."""


def _is_absent(case: Case, one: ConfigError) -> bool:
    """Whether the file that it names was looked for and is not there: nothing in it can be wrong."""
    file = case.file(one.path) if one.path and one.line is None else None
    return file is not None and not file.exists


_MAY_BE_RIGHT = "the name that it stumbles over may be right, and nobody there to tell where it leads"
_SETTINGS_NAME = pattern(
    r"(?i)\.(?:conf|cnf|cfg|cf|config|ini|ya?ml|toml|json|xml|properties|rc|pem|crt|key|cer|zone)$|conf"
)


def _is_of_settings(case: Case, path: str) -> bool:
    """Whether a file is one of settings, by its place, its name, or because the command line names it."""
    program = case.service.program
    return (
        path.startswith("/etc/")
        or bool(_SETTINGS_NAME.search(path))
        or (program is not None and path in program.paths)
        or "/" not in path
    )


def _only_settings(case: Case) -> str:
    """The one file of settings that its command line names; empty where there is none, or several."""
    program = case.service.program
    named = dict.fromkeys(
        program.paths if program is not None and case.service.last is not None and not case.service.last.step else ()
    )
    files = [case.file(path) for path in named if _SETTINGS_NAME.search(path)]
    there = [file for file in files if file is not None and file.exists and file.kind == "file"]
    return there[0].path if len(there) == 1 and not _came_up_with(case, there[0]) else ""


def _came_up_with(case: Case, file: File) -> bool:
    """Whether it came up with that very content before: then it is not that."""
    return file.changed_at is not None and came_up_after(case, file.changed_at)


def _listens_nowhere(case: Case) -> Iterator[Finding]:
    """It looked up the place that it is to listen at, and its host knows no such name."""
    own, name = case.own_events(), case.service.name
    said, call = next(
        ((e, call) for e in reversed(lines.saying(own, "host away")) if (call := call_to_listen(own, e)) is not None),
        (None, None),
    )
    if said is None or call is None or case.outlived(said) == "further":
        return
    only = _only_settings(case)
    named = lines.host_in(said.text) or "a name or an address"
    by = f", most likely by {only}" if only else ""
    yield Finding(
        says=f"{name} is to listen at {named} that {case.node.host} does not know{by}: "
        f"\u201c{said.text.strip()[:200]}\u201d.",
        evidence=(
            case.quoted(said, FITS),
            *((case.quoted(call),) if call is not said else ()),
        ),
        mends=(_correct(case, only, f"the address in {only}" if only else "the address that it is to listen at"),),
        explains=("exits-with-error", "crash-loop", "exits-at-once", "host-unreachable"),
    )


def _unread(case: Case) -> Iterator[Finding]:
    """A file of settings that it could not read, by its own words, though it is there and nothing keeps it from it: its content."""
    if _FROM_ITSELF.isdisjoint({case.service.last.result if case.service.last is not None else ""}):
        return
    if lines.saying(case.own_events(), "library", "denied", "crashed"):
        return
    for event, path in lines.unopened_paths(case.own_events()):
        file = case.file(path)
        if (
            file is None
            or file.kind != "file"
            or not file.exists
            or not path.startswith("/etc/")
            or barrier(case, path, False) is not None
        ):
            continue
        if says(event.text, "missing", "denied", "too open", "locked", "busy"):
            continue
        about = f"{path} is there ({file.size} bytes, mode {file.mode}), and nothing that was seen keeps {case.service.name} from it"
        yield Finding(
            says=f"{case.service.name} cannot use the content of {path}: \u201c{event.text[:200]}\u201d.",
            evidence=(case.quoted(event, HINT), case.seen(about, FILES, file.altered_at or file.changed_at, HINT)),
            mends=(_correct(case, path, path),),
            explains=("exits-with-error", "crash-loop", "exits-at-once"),
        )
        return


def _ended_on(case: Case) -> Iterator[Finding]:
    """A start that was watched ended right after it had read a file, without a word, and nothing that it tried had failed."""
    seen = [one for one in case.host.observed or () if one.service == case.service.name][-1:]
    path = seen[0].read_last if seen else None
    if not path or not looked.is_silent(case) or any(call.weight >= LIKELY for call in seen[0].calls):
        return
    name = case.service.name
    fact = f"the last file that it had read when it ended was {path}; it went on to nothing after that, and no call tells why"
    yield Finding(
        says=f"{name} ends right after it has read {path}, without a word: most likely it cannot use what stands there.",
        evidence=(case.seen(fact, OBSERVED, seen[0].at, HINT), looked.ended(case)),
        mends=(_correct(case, path, path),),
        residual=True,
        explains=("exits-with-error", "crash-loop", "exits-at-once"),
    )


_FROM_ITSELF = frozenset({"exit-code", "protocol", "resources"})
"""Results of a program that ended by itself (systemd.service(5), ``SERVICE_RESULT``)."""


def _correct(case: Case, path: str, where: str) -> Mend:
    """Correct the place; of a file that is generated, what it is generated from."""
    program, name = case.service.program, case.service.name
    said = (program.generated or {}).get(path, "") if program is not None else ""
    if said:
        does = f"Correct what {path} is generated from, not the file itself (its head says: \u201c{said}\u201d); then start {name}."
        return Mend(does, "at the next start")
    return Mend(f"Correct {where}, then start {name}.", "at the next start")


def _not_of(programs: set[str], one: ConfigError) -> ConfigError | None:
    """A complaint that is not about a place in a program itself; where it names a file of settings beside that, the one about that."""
    if not one.path and any(one.event.text.startswith((f"{path}: ", f"{path}:")) for path in programs):
        return None
    if one.path not in programs:
        return one
    others = [path for path in paths_in(one.event.text) if path.startswith("/etc/") and path not in programs]
    return one._replace(path=others[0], line=None) if others and one.rejects else None


def _ending(service: Service) -> str:
    last = service.last
    if last is None:
        return f"{service.name} is {service.state}"
    number = last.exit_status if last.exit_status is not None else last.error_number
    step = f" in {last.step}" if last.step else ""
    return f"last run ended with {last.result or 'an error'}{f' ({number})' if number is not None else ''}{step}"

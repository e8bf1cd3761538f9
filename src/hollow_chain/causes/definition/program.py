"""The program that the definition names: absent, not to be run, or for another machine."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes.acts import Act, mode
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.definition import absence, unfound
from hollow_chain.causes.finding import AFTER_RELOAD, ENDS, FITS, PROOF, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, Shown
from hollow_chain.causes.places import is_own_program
from hollow_chain.causes.rights import place_of
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import NO_TRY_SINCE_BOOT, failed_last
from hollow_chain.causes.words import numbered, tells_of_an_end
from hollow_chain.facts.host import Event, File
from hollow_chain.families.steps import EXIT_NOT_FOUND, EXIT_NOT_RUN
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines, sought
from hollow_chain.wording.forms import read, says
from hollow_chain.wording.last_words import telling
from hollow_chain.wording.things import paths_in

EXIT_EXEC = 203
"""Exit status of systemd itself: the program could not be run (systemd.exec(5), "Process Exit Codes")."""


@cause(
    "program-missing",
    Boot.STAYS,
    states=NOT_UP,
    shown=Shown(2, "resources", "{name} was not started: {program} was not found"),
)
def program_missing(case: Case) -> Iterator[Finding]:
    """The program of the definition is not there, or the interpreter that it names is not; or a command that it runs itself.

    Looks at: the path in the definition, and what is there; the manager's exit status 203; its log line; the last words of whoever was
    to run a command or another program, and the folders in which it is sought.
    Convinced by: a look that found nothing at that path, or nothing of that name in those folders.
    Against: a file there.
    Mend: install the program, or correct the path.
    """
    service = case.service
    yield from _by_number(
        case, (2, 3), "is not there", "Install the program of {0}, or correct its path in the definition."
    )
    yield from _not_found(case)
    yield from unfound.commands(case)
    yield from _odd_heading(case)
    for path, file in programs_of(case):
        if file is not None and not file.exists:
            link = absence.broken_link(case, path)
            leads = f"; {link.path if link.path != path else 'that'} {link.leads}" if link is not None else ""
            yield Finding(
                says=f"The program of {service.name} is not there: {path}{leads}.",
                evidence=(case.seen(f"{path} does not exist", FILES, bears=PROOF), *_exec_evidence(case)),
                mends=(
                    Mend(f"Install the program that provides {path}.")
                    if link is None
                    else absence.to_put_back(case, path),
                    Mend(f"Or correct the path in the definition of {service.name}.", AFTER_RELOAD, instead=True),
                ),
            )
        elif file is not None and file.interpreter and file.interpreter_exists is False:
            name = file.interpreter.rstrip("\r")
            odd = name != file.interpreter
            what = f"{name} with a carriage return behind it" if odd else f"the interpreter {name}"
            yield Finding(
                says=f"The program of {service.name}, {path}, needs {what}, which is not there.",
                evidence=(
                    case.seen(f"{path} begins with #!{name}{' and a carriage return' if odd else ''}", FILES),
                    case.seen(f"{what} does not exist", FILES, bears=PROOF),
                    *_exec_evidence(case),
                ),
                mends=(
                    Mend(f"Give {path} the line ends of this system.")
                    if odd
                    else Mend(f"Install {name}, or correct the first line of {path}."),
                ),
                explains=(*ENDS, "path-missing"),
            )


_ODD = pattern(r"\benv: [\"'\u2018](?P<name>[\w.+\-]{1,60})\\r[\"'\u2019]: ")
"""How env(1) says that it does not find a program whose name ends in a carriage return."""


def _odd_heading(case: Case) -> Iterator[Finding]:
    """A script whose first line has an interpreter sought by its name, and a carriage return behind that."""
    program, last = case.service.program, case.service.last
    if program is None or last is None or last.exit_status != EXIT_NOT_FOUND:
        return
    for event in case.own_events()[::-1]:
        if (odd := _ODD.search(event.text)) is not None:
            what = f"{odd['name']} with a carriage return behind it"
            yield Finding(
                says=f"The program of {case.service.name}, {program.path}, needs {what}, which is not there.",
                evidence=(case.quoted(event, SAID), *_exec_evidence(case)),
                mends=(Mend(f"Give {program.path}, or the script that it runs, the line ends of this system."),),
                explains=(*ENDS, "path-missing"),
            )
            return


def _not_found(case: Case) -> Iterator[Finding]:
    """A program that the definition names without a path, and that the manager found in no folder of programs."""
    if not failed_last(case.service):
        return
    for event in case.last_events()[::-1]:
        named = [name for name in _not_run(event) if "/" not in name]
        if named and says(event.text, "missing"):
            yield Finding(
                says=f"The program of {case.service.name} is not there: {named[0]!r} is in no folder of programs.",
                evidence=(case.quoted(event, PROOF),),
                mends=(
                    Mend(
                        f"Install {named[0]}, or give its full path in the definition of {case.service.name}.",
                        AFTER_RELOAD,
                    ),
                ),
                explains=("exits-with-error", "crash-loop"),
            )
            return


def _not_run(event: Event) -> list[str]:
    """What a record of the manager says that it could not run."""
    return read(event.text).named("not run", "program")


def _run_in_vain(case: Case) -> list[tuple[Event, str]]:
    """Programs that it was to run and could not, by its own last words: who starts others says so of them."""
    if not failed_last(case.service) or case.standing.well or case.service.last is None:
        return []
    own, status = case.own_events(), case.service.last.exit_status
    found: list[tuple[Event, str]] = []
    for event in telling(own) if status in (EXIT_NOT_FOUND, EXIT_NOT_RUN) else case.final_events():
        path = sought.run_in_vain(event, sought.before(own, event), status)
        if path:
            found.append((event, path))
    return found


def programs_of(case: Case) -> list[tuple[str, File | None]]:
    """The program of the definition, and any other that the manager, or it itself, says could not be run; each with what is there. Several
    rules ask: worked out once."""
    known = case.facts.memory.get(("programs", case.node.key))
    if known is None:
        known = case.facts.memory["programs", case.node.key] = _programs_of(case)
    return known  # type: ignore[return-value]


def _programs_of(case: Case) -> list[tuple[str, File | None]]:
    service = case.service
    if service.program is None or (service.definition is not None and service.definition.load == "masked"):
        return []
    step = service.last.step_program if service.last else ""
    if service.program.root:
        # Below a root folder of its own, paths mean something else; of its program, the host's own path may be known.
        outer = service.program.outer_path if service.last and service.last.exit_status == EXIT_EXEC else ""
        return [(outer, case.file(outer))] if outer else []
    named = [path for path in (service.program.path, service.program.library, step) if path]
    for event in case.last_events():
        named += [name for name in _not_run(event) if name.startswith("/")]
        if event.call is not None and event.call.kind == "run" and event.call.thing.startswith("/"):
            named.append(event.call.thing)
    named += [path for _, path in _run_in_vain(case)]
    tried = service.last is not None and service.last.error_number != NO_TRY_SINCE_BOOT
    tried_well = not failed_last(service) and tried and service.state == "stopped"
    return [] if tried_well else [(path, case.file(path)) for path in dict.fromkeys(named)]


def _exec_evidence(case: Case) -> list[Evidence]:
    found: list[Evidence] = []
    last = case.service.last
    if last is not None and last.exit_status == EXIT_EXEC:
        found.append(
            case.seen("exit status 203 of the manager: the program could not be run", at=last.ended_at, bears=SAID)
        )
    found += [case.quoted(e) for e in case.last_events() if _not_run(e)][-1:]
    found += [case.quoted(e, SAID) for e in case.own_events() if e.call is not None and e.call.kind == "run"][-1:]
    found += [case.quoted(event, SAID) for event, _ in _run_in_vain(case)][-1:]
    return found


@cause("program-not-executable", Boot.STAYS, states=NOT_UP)
def program_not_executable(case: Case) -> Iterator[Finding]:
    """The program lacks the right to be run.

    Looks at: the permission bits of the program.
    Convinced by: no execute bit at all, or a folder where a program should be.
    Against: an execute bit.
    Mend: give it the right, after a look whether it is the right file.
    """
    for path, file in programs_of(case):
        if file is None or not file.exists or (file.executable is not False and file.kind != "folder"):
            continue
        what = "is a folder" if file.kind == "folder" else f"has no right to be run (mode {file.mode})"
        yield Finding(
            says=f"The program of {case.service.name}, {path}, {what}.",
            evidence=(
                case.seen(
                    f"{path}: {file.kind}, mode {file.mode}, owner {file.owner}:{file.group}", FILES, bears=PROOF
                ),
                *_exec_evidence(case),
            ),
            mends=(
                Mend(f"Correct the path in the definition of {case.service.name}.", AFTER_RELOAD)
                if file.kind == "folder"
                else Mend(
                    f"Give {path} the right to be run (mode {_runnable(case, file):04o}), after a look that it is the right file.",
                    acts=_let_run(case, path, file),
                ),
            ),
            explains=("access-denied", *ENDS),
        )


def _let_run(case: Case, path: str, file: File) -> tuple[Act, ...]:
    """Give the program that the definition names the right to be run; nothing that runs as its owner, and nothing else's."""
    known = bool(re.fullmatch("0?[0-7]{3}", file.mode)) and not file.link_to and not file.acl
    return (mode(path, _runnable(case, file)),) if known and is_own_program(case, path) else ()


def _runnable(case: Case, file: File) -> int:
    """The mode of a program with the right to run it added for the account of its service, and for nobody else. Whoever runs a
    script has to read it too."""
    bits = int(file.mode, 8) if re.fullmatch("[0-7]{3,4}", file.mode) else 0o644
    return bits | (0o5 if file.format in ("script", "") else 0o1) << place_of(case, file)


@cause("wrong-program-format", Boot.STAYS, states=NOT_UP)
def wrong_program_format(case: Case) -> Iterator[Finding]:
    """The program is there and may be run, but is no program for this machine.

    Looks at: the first bytes of the program against the machine's architecture; the manager's exit status 203.
    Convinced by: a format of another architecture or family, or none that can be run.
    Against: a format that fits.
    Mend: install the program for this machine.
    """
    yield from _damaged_library(case)
    yield from _of_different_versions(case)
    misfits = [(path, file, _misfit(file, case)) for path, file in programs_of(case) if file is not None]
    if not any(reason for _, _, reason in misfits):
        does = "Install the program of {0} for this machine."
        yield from _by_number(case, (193,), "is no program for this machine", does)
    for path, file, reason in misfits:
        if reason:
            yield Finding(
                says=f"The program of {case.service.name}, {path}, is no program for this machine: {reason}.",
                evidence=(
                    case.seen(f"first bytes of {path}: {file.format}", FILES, bears=PROOF),
                    *_exec_evidence(case),
                ),
                mends=(Mend(f"Install {path} for {case.host.architecture or 'this machine'}."),),
                explains=ENDS,
            )


def _damaged_library(case: Case) -> Iterator[Finding]:
    """A shared library that is there, and that the loader refuses."""
    for event, library in lines.refused_libraries(case.told_events()):
        sought = library_folders(case)
        yield Finding(
            says=f"The program of {case.service.name} needs the shared library {library}, which is no library for this machine, or damaged.",
            evidence=(case.quoted(event, PROOF), *((sought,) if sought is not None else ())),
            mends=(
                Mend(f"Install {library} anew."),
                *(
                    (
                        Mend(
                            f"Or correct the folders of libraries in the definition of {case.service.name}.",
                            AFTER_RELOAD,
                            instead=True,
                        ),
                    )
                    if sought is not None
                    else ()
                ),
            ),
            explains=("exits-with-error", "crash-loop"),
        )
        return


def _of_different_versions(case: Case) -> Iterator[Finding]:
    """The program, or a part of it, and a library that it loads are not made for one another, by the loader's own words."""
    for event in lines.saying(case.own_events(), "mismatch")[::-1] if failed_last(case.service) else ():
        named = [path for path in paths_in(event.text) if (file := case.file(path)) is not None and file.exists]
        whose = " and ".join(named[:2]) or f"the program of {case.service.name} and its libraries"
        sought, last = library_folders(case), case.service.last
        ended = case.seen(
            "its last run ended with an error right after that", at=last.ended_at if last else None, bears=FITS
        )
        yield Finding(
            says=f"The program of {case.service.name} and what it runs with or loads are of different versions: \u201c{event.text[:200]}\u201d.",
            evidence=(case.quoted(event, SAID), ended, *((sought,) if sought is not None else ())),
            mends=(Mend(f"Install {whose} of one release, from one source; see first what was upgraded last."),),
            explains=("exits-with-error", "exits-at-once", "crash-loop", "path-missing"),
        )  # fmt: skip
        return


_LIBRARY_FOLDERS = ("LD_LIBRARY_PATH=", "LD_PRELOAD=")
"""Variables that have the loader look elsewhere first (ld.so(8), "ENVIRONMENT")."""


def library_folders(case: Case) -> Evidence | None:
    """What the definition tells the loader to take libraries from, where it does."""
    environment = case.service.program.environment if case.service.program is not None else []
    given = next((one for one in environment if one.startswith(_LIBRARY_FOLDERS)), "")
    return case.seen(f"its definition sets {given[:200]}", "definition") if given else None


def _by_number(case: Case, numbers: tuple[int, ...], what: str, does: str) -> Iterator[Finding]:
    """What an error number alone says of the program, where nobody looked at the program itself."""
    evidence = numbered(case, *numbers, bears=SAID)
    absent = 2 in numbers or 3 in numbers
    if absent and any(map(tells_of_an_end, case.last_events())):
        return
    if evidence and all(file is None or (file.exists and not absent) for _, file in programs_of(case)):
        path = case.service.program.path if case.service.program else ""
        yield Finding(
            says=f"The program of {case.service.name}{f', {path},' if path else ''} {what}.",
            evidence=tuple(evidence),
            mends=(Mend(does.format(case.service.name)),),
        )


_SAME = {("i386", "x86_64"), ("arm", "aarch64")}


def _misfit(file: File, case: Case) -> str:
    """Why the program is none for this machine; empty where it is one, or nobody knows."""
    if not file.exists or file.executable is False or file.kind != "file" or not file.format:
        return ""
    if file.format in ("empty", "unknown"):
        # What has none of the known formats is no program (execve(2), ENOEXEC; CreateProcessW, ERROR_BAD_EXE_FORMAT).
        return "it is empty" if file.format == "empty" else "it has no known format and names no interpreter"
    kind, _, machine = file.format.partition(" ")
    if kind in case.family.foreign_formats:
        return "it is built for another family of systems"
    here = case.host.architecture.lower().replace("amd64", "x86_64").replace("arm64", "aarch64")
    machine = machine.replace("amd64", "x86_64").replace("arm64", "aarch64")
    if kind not in ("elf", "pe") or not machine or not here or machine == here or (machine, here) in _SAME:
        return ""
    if (re.fullmatch(r"i[3-6]86", here) and machine == "i386") or here.startswith(machine):
        return ""
    return f"it is built for {machine}, and this is {here}"

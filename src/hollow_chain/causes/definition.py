"""Definition: the service is not registered, or its definition or what it names is not right."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes import lines
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.rule import AFTER_RELOAD, NOT_UP, Evidence, Finding, Mend, cause
from hollow_chain.causes.standing import skipped
from hollow_chain.causes.words import failed_last, started_since_boot
from hollow_chain.facts.host import File
from hollow_chain.facts.service import Condition, Service

EXIT_CHDIR, EXIT_EXEC, EXIT_NAMESPACE = 200, 203, 226
"""Exit statuses of systemd itself, before the program runs (systemd.exec(5), "Process Exit Codes")."""
_TWIN = re.compile(r"[ _.-]?\(?\d{1,3}\)?$")
_EXEC_FAILED = re.compile(r"(?:Failed to (?:locate|find|execute)|at step EXEC spawning|Unable to locate) (?:executable |program )?'?(/[^\s':]+)")
_VOLATILE = ("/run/", "/var/run/", "/tmp/", "/proc/", "/sys/", "/dev/")
_MACHINE_CONDITIONS = re.compile(
    r"(Virtualization|Architecture|Firmware|Host|Kernel|Security|Capability|ACPower|NeedsUpdate|FirstBoot|"
    r"CPUFeature|Memory$|CPUs|Control(Group|lers)|OSRelease|Pressure|Credential)"
)


@cause("not-registered", states=("absent", "stopped"))
def not_registered(case: Case) -> Iterator[Finding]:
    """No service of that name is registered on the host, or the name is that of a template.

    Looks at: all registered names and aliases; names that differ in a few letters or in a number at their end;
    instances of the same template.
    Convinced by: the whole list of services having been read, and the name not being in it.
    Against: nothing; a list that was read in part is told as unread.
    Mend: register it, or correct the name where it is needed.
    """
    if case.registered:
        if case.service.template and (case.asked or case.needed_from is not None):
            yield _template_without_argument(case)
        return
    if case.node.name.endswith(".device"):
        return  # a device that is not there is `device-missing`
    near = _near_names(case)
    above = case.needed_from
    who = f"{above.name} needs {case.node.name}, but no" if above else "No"
    hint = f" Near names: {', '.join(near[:5])}." if near else ""
    mends = []
    if near and above:
        mends.append(Mend(f"If {near[0]} was meant, correct the name in the definition of {above.name}.", AFTER_RELOAD))
    mends.append(Mend(f"Otherwise register (install) {case.node.name} on {case.node.host}."))
    yield Finding(
        says=f"{who} service of {'that' if above else 'this'} name is registered on {case.node.host}: {case.node.name}.{hint}",
        evidence=(case.seen(f"{len(case.host.services)} services are registered on {case.node.host}; this is none of them"),),
        mends=tuple(mends),
        sure=0.95,
        near=tuple(near),
    )


def _near_names(case: Case) -> list[str]:
    from rapidfuzz import fuzz, process

    names = list(case.graph.names(case.node.host))
    stem = _stem(case.node.name)
    twins = [n for n in names if _TWIN.sub("", _stem(n)).casefold() == _TWIN.sub("", stem).casefold()]
    family = [n for n in names if "@" in case.node.name and n.partition("@")[0] == case.node.name.partition("@")[0]]
    close = process.extract(case.node.name, names, scorer=fuzz.WRatio, limit=5, score_cutoff=78)
    return list(dict.fromkeys([*twins, *family, *(name for name, _, _ in close)]))[:8]


def _stem(name: str) -> str:
    return name.removesuffix(".service")


def _template_without_argument(case: Case) -> Finding:
    service = case.service
    instances = [s.name for s in case.host.services if s.template_of == service.name]
    offered = f" Instances here: {', '.join(instances[:6])}." if instances else " No instance of it is loaded here."
    return Finding(
        says=f"{service.name} is a template and cannot be started without an instance argument.{offered}",
        evidence=(case.seen(f"{service.name} is a template", service.definition.file if service.definition else FILES),),
        mends=(Mend(f"Start an instance, such as {instances[0] if instances else service.name.replace('@', '@NAME')}."),),
        sure=0.95,
        near=tuple(instances[:8]),
    )


@cause("bad-definition", states=NOT_UP)
def bad_definition(case: Case) -> Iterator[Finding]:
    """The manager refuses the definition.

    Looks at: how the definition was loaded; the manager's complaint, with file and line.
    Convinced by: the manager's own refusal.
    Against: nothing.
    Mend: correct it; a reload makes the manager read it again.
    """
    definition = case.service.definition
    if definition is None or definition.load != "refused":
        return
    complaints = [e for e in case.events() if e.file or re.search(r"\.(service|socket|timer|mount|path|target|conf):\d+:", e.text)]
    refusals = [e for e in case.events() if re.search(r"(?i)refus|bad unit|invalid|bad-setting", e.text) and e not in complaints]
    place = complaints[-1] if complaints else None
    where = f"{place.file}:{place.line}" if place and place.file and place.line else definition.file
    spoken = [*complaints[-2:], *refusals[-1:]]
    words = f" ({spoken[-1].text[:160]})" if spoken else f" ({definition.error})" if definition.error else ""
    yield Finding(
        says=f"The manager refuses the definition of {case.service.name}, {where}{words}.",
        evidence=(
            case.seen(definition.error or f"definition of {case.service.name} refused", f"definition {definition.file}"),
            *(case.quoted(event) for event in spoken),
        ),
        mends=(Mend(f"Correct {where}.", AFTER_RELOAD), Mend(f"Then start {case.service.name}.")),
        sure=0.96,
        explains=("stopped", "never-started", "manual-not-started"),
    )


@cause("stale-definition", states=("running", *NOT_UP))
def stale_definition(case: Case) -> Iterator[Finding]:
    """The definition on disk is not the one that is loaded.

    Looks at: the manager's own flag; which settings differ.
    Convinced by: the flag; for a service that is down, by a differing setting that bears on its start.
    Against: a service that is up: then it is a warning.
    Mend: reload the definitions, then restart the service.
    """
    service = case.service
    definition = service.definition
    if definition is None or not (definition.needs_reload or definition.load == "missing" and service.state == "running"):
        return
    gone = definition.load == "missing"
    differing = [f"{k}: loaded {definition.loaded.get(k, '') or '(empty)'!r}, on disk {v!r}" for k, v in definition.on_disk.items()]
    up = service.state == "running"
    yield Finding(
        says=f"The definition of {service.name} on disk "
        + ("is gone" if gone else "is newer than the one that is loaded")
        + (f" ({'; '.join(differing[:2])})" if differing else "")
        + ("; it runs by the old one." if up else "; starts still follow the old one."),
        evidence=(
            case.seen(f"the manager reports that {service.name} needs a reload of its definition"),
            *(case.seen(text, f"definition {definition.file}", definition.changed_at) for text in differing[:4]),
        ),
        mends=(
            Mend("Reload the definitions of the manager."),
            Mend(f"{'Restart' if up else 'Start'} {service.name}.", "after the reload"),
        ),
        sure=0.93 if differing else 0.5,
        note=up,
        residual=not differing,
        explains=_explained_by_reload(definition.on_disk) if not up else (),
    )


def _explained_by_reload(on_disk: dict[str, str]) -> tuple[str, ...]:
    """Which causes a reload may remove, by the settings that it would bring."""
    gone: list[str] = ["exits-with-error", "exits-at-once", "crash-loop", "start-rate-limited", "stopped", "manual-not-started"]
    if "ExecStart" in on_disk:
        gone += ["program-missing", "program-not-executable", "wrong-program-format", "path-missing", "config-rejected"]
    if "WorkingDirectory" in on_disk:
        gone.append("workdir-missing")
    if "User" in on_disk or "Group" in on_disk:
        gone += ["account-missing", "access-denied"]
    return tuple(gone) if on_disk else ()


@cause("program-missing", states=NOT_UP)
def program_missing(case: Case) -> Iterator[Finding]:
    """The program of the definition is not there, or the interpreter that it names is not.

    Looks at: the path in the definition, and what is there; the manager's exit status 203; its log line.
    Convinced by: a look that found nothing at that path.
    Against: a file there.
    Mend: install the program, or correct the path.
    """
    service = case.service
    for path, file in _programs(case):
        if file is not None and not file.exists:
            leads = f", a link to {file.link_to}" if file.link_to else ""
            yield Finding(
                says=f"The program of {service.name} is not there: {path}{leads}.",
                evidence=(case.seen(f"{path} does not exist", FILES), *_exec_evidence(case)),
                mends=(
                    Mend(f"Install the program that provides {path}."),
                    Mend(f"Or correct the path in the definition of {service.name}.", AFTER_RELOAD),
                ),
                sure=0.96,
            )
        elif file is not None and file.interpreter and file.interpreter_exists is False:
            yield Finding(
                says=f"The program of {service.name}, {path}, needs the interpreter {file.interpreter}, which is not there.",
                evidence=(
                    case.seen(f"{path} begins with #!{file.interpreter}", FILES),
                    case.seen(f"{file.interpreter} does not exist", FILES),
                    *_exec_evidence(case),
                ),
                mends=(Mend(f"Install {file.interpreter}, or correct the first line of {path}."),),
                sure=0.95,
            )


def _programs(case: Case) -> list[tuple[str, File | None]]:
    """The program of the definition, and any other that the manager says it could not run; each with what is there."""
    service = case.service
    if service.program is None or service.definition is not None and service.definition.load == "masked":
        return []
    named = [service.program.path] if service.program.path else []
    for event in case.last_events():
        named += _EXEC_FAILED.findall(event.text)
    tried_well = not failed_last(service) and service.last is not None and service.state == "stopped"
    return [] if tried_well else [(path, case.file(path)) for path in dict.fromkeys(named)]


def _exec_evidence(case: Case) -> list[Evidence]:
    found: list[Evidence] = []
    last = case.service.last
    if last is not None and last.exit_status == EXIT_EXEC:
        found.append(case.seen("exit status 203 of the manager: the program could not be run", at=last.ended_at))
    found += [case.quoted(e) for e in case.last_events() if _EXEC_FAILED.search(e.text)][-1:]
    return found


@cause("program-not-executable", states=NOT_UP)
def program_not_executable(case: Case) -> Iterator[Finding]:
    """The program lacks the right to be run.

    Looks at: the permission bits of the program.
    Convinced by: no execute bit at all, or a folder where a program should be.
    Against: an execute bit.
    Mend: give it the right, after a look whether it is the right file.
    """
    for path, file in _programs(case):
        if file is None or not file.exists or (file.executable is not False and file.kind != "folder"):
            continue
        what = "is a folder" if file.kind == "folder" else f"has no right to be run (mode {file.mode})"
        yield Finding(
            says=f"The program of {case.service.name}, {path}, {what}.",
            evidence=(
                case.seen(f"{path}: {file.kind}, mode {file.mode}, owner {file.owner}:{file.group}", FILES),
                *_exec_evidence(case),
            ),
            mends=(
                Mend(f"Correct the path in the definition of {case.service.name}.", AFTER_RELOAD)
                if file.kind == "folder"
                else Mend(f"Give {path} the right to be run (mode 0755), after a look that it is the right file."),
            ),
            sure=0.95,
        )


@cause("wrong-program-format", states=NOT_UP)
def wrong_program_format(case: Case) -> Iterator[Finding]:
    """The program is there and may be run, but is no program for this machine.

    Looks at: the first bytes of the program against the machine's architecture; the manager's exit status 203.
    Convinced by: a format of another architecture or family, or none that can be run.
    Against: a format that fits.
    Mend: install the program for this machine.
    """
    for path, file in _programs(case):
        if file is None or not file.exists or file.executable is False or file.kind != "file" or not file.format:
            continue
        reason = _misfit(file, case)
        if reason:
            yield Finding(
                says=f"The program of {case.service.name}, {path}, is no program for this machine: {reason}.",
                evidence=(case.seen(f"first bytes of {path}: {file.format}", FILES), *_exec_evidence(case)),
                mends=(Mend(f"Install {path} for {case.host.architecture or 'this machine'}."),),
                sure=0.93,
            )


_SAME = {("i386", "x86_64"), ("arm", "aarch64")}


def _misfit(file: File, case: Case) -> str:
    if file.format in ("empty", "unknown"):
        refused = case.service.last is not None and case.service.last.exit_status == EXIT_EXEC
        what = "it is empty" if file.format == "empty" else "it has no known format and names no interpreter"
        return what if refused or case.host.manager == "systemd" else ""
    kind, _, machine = file.format.partition(" ")
    if kind == "pe" and case.host.manager == "systemd":
        return "it is built for another family of systems"
    here = case.host.architecture.lower().replace("amd64", "x86_64").replace("arm64", "aarch64")
    if kind != "elf" or not machine or not here or machine == here or (machine, here) in _SAME:
        return ""
    if re.fullmatch(r"i[3-6]86", here) and machine == "i386" or here.startswith(machine):
        return ""
    return f"it is built for {machine}, and this is {here}"


@cause("workdir-missing", states=NOT_UP)
def workdir_missing(case: Case) -> Iterator[Finding]:
    """Its working folder is not there.

    Looks at: the working folder of the definition, and what is there; the manager's exit status 200.
    Convinced by: a look that found no folder at that path.
    Against: a folder there.
    Mend: create it with the right owner, or correct the path.
    """
    service = case.service
    folder = service.program.folder if service.program else ""
    file = case.file(folder) if folder else None
    if file is None or (file.exists and file.kind == "folder"):
        return
    last = service.last
    status = last is not None and last.exit_status == EXIT_CHDIR
    owner = service.account.user if service.account and service.account.user else "its account"
    what = "is not a folder" if file.exists else "is not there"
    yield Finding(
        says=f"The working folder of {service.name} {what}: {folder}.",
        evidence=(
            case.seen(f"{folder} {'is a ' + file.kind if file.exists else 'does not exist'}", FILES),
            *([case.seen("exit status 200 of the manager: the working folder could not be entered", at=last.ended_at)]
              if last is not None and status else []),
        ),
        mends=(
            Mend(f"Create {folder}, owned by {owner}."),
            Mend(f"Or correct the working folder in the definition of {service.name}.", AFTER_RELOAD),
        ),
        sure=0.97 if status else 0.85,
    )


@cause("path-missing", states=NOT_UP)
def path_missing(case: Case) -> Iterator[Finding]:
    """A file or folder that it names or opens is not there.

    Looks at: files that the definition cannot do without; paths that the log calls absent; paths among the
    arguments. Each is looked at.
    Convinced by: the definition or the log naming it, and a look that found nothing.
    Against: a file there; a path of a kind that programs create themselves.
    Mend: create it with the right owner, or correct the path.
    """
    for path, reasons, sure in _absent_paths(case):
        if _is_of_instance(case.service, path):
            continue
        yield Finding(
            says=f"{case.service.name} needs {path}, which is not there{_how_far(case, path)}.",
            evidence=(case.seen(f"{path} does not exist", FILES), *reasons),
            mends=(
                Mend(f"Put {path} back, readable for {_user(case)}."),
                Mend(f"Or correct the path where {case.service.name} names it.", AFTER_RELOAD),
            ),
            sure=sure,
        )


def _user(case: Case) -> str:
    account = case.service.account
    return account.user if account and account.user else "its account"


def _how_far(case: Case, path: str) -> str:
    above = path.rpartition("/")[0]
    while above:
        file = case.file(above)
        if file is not None and file.exists:
            return f" (the path leads no further than {above})" if above != path.rpartition("/")[0] else ""
        above = above.rpartition("/")[0]
    return ""


def _absent_paths(case: Case) -> Iterator[tuple[str, list[Evidence], float]]:
    """Paths that are named and absent, with why they count and how sure that makes it."""
    service, program = case.service, case.service.program
    if program is None or service.kind != "service":
        return
    if not failed_last(service):
        if not started_since_boot(service, case.host.boot_at):
            yield from _absent_before_a_try(case)
        return
    skip = {program.path, program.folder, *(path for path, _ in _programs(case))}
    spoken = {path: event for event, path in lines.missing_paths(case.last_events()) if "systemd" not in event.source}
    strict = program.environment_files
    if service.last is not None and service.last.exit_status == EXIT_NAMESPACE:
        strict = [*strict, *program.paths]
    named = dict.fromkeys([*strict, *spoken, *program.paths])
    for path in named:
        file = case.file(path)
        if path in skip or (file is None and path not in spoken) or (file is not None and file.exists):
            continue
        if file is None and case.host.manager == "systemd":
            continue  # the log says so, and nobody looked: not enough
        if path in strict:
            yield path, [case.seen(f"the definition of {service.name} cannot do without {path}")], 0.93
        elif path in spoken:
            yield path, [case.quoted(spoken[path])], 0.9
        elif not path.startswith(_VOLATILE) and not spoken:
            yield path, [case.seen(f"{path} is among the arguments of {service.name}")], 0.6


def _absent_before_a_try(case: Case) -> Iterator[tuple[str, list[Evidence], float]]:
    """Absent files that carry the instance's name, of an instance that nobody has tried to start yet."""
    service = case.service
    for path in service.program.paths if service.program else ():
        file = case.file(path)
        if file is not None and not file.exists and _is_of_instance(service, path) and path.startswith("/etc/"):
            yield path, [case.seen(f"{path} is among the arguments of {service.name}")], 0.85


def _is_of_instance(service: Service, path: str) -> bool:
    return bool(service.instance) and service.instance in path.rpartition("/")[2]


@cause("instance-config-missing", states=NOT_UP)
def instance_config_missing(case: Case) -> Iterator[Finding]:
    """An instance whose own file is not there.

    Looks at: paths that carry the instance's name, in the definition, its conditions, its arguments and its log.
    Convinced by: such a path being absent; the files of other instances that are there are listed.
    Against: a file there.
    Mend: create the instance's file, or start the instance that was meant.
    """
    service = case.service
    if not service.instance:
        return
    unmet = [c.parameter for c in service.conditions if c.outcome == "unmet" and not c.negated]
    absent = {path: (reasons, max(sure, 0.88)) for path, reasons, sure in _absent_paths(case)}
    for path in unmet:
        if path.startswith("/"):
            absent.setdefault(path, ([case.seen(f"start condition of {service.name} on {path} does not hold")], 0.93))
    for path, (reasons, sure) in absent.items():
        if not _is_of_instance(service, path):
            continue
        file = case.file(path)
        there = file.siblings if file else []
        offered = f" There are: {', '.join(there[:6])}." if there else ""
        yield Finding(
            says=f"The instance {service.instance!r} of {service.template_of or service.name} has no file of its own: "
            f"{path} is not there.{offered}",
            evidence=(case.seen(f"{path} does not exist", FILES), *reasons, *(case.seen(f"{p} exists", FILES) for p in there[:4])),
            mends=(
                Mend(f"Create {path} for the instance {service.instance!r}."),
                Mend("Or start the instance that was meant; those with a file are listed above."),
            ),
            sure=sure,
            near=tuple(there[:8]),
        )


@cause("condition-unmet", states=("stopped", "failed", "unknown"))
def condition_unmet(case: Case) -> Iterator[Finding]:
    """A start condition does not hold, so the manager passes the service over without a failure.

    Looks at: the outcome of each condition when it was last tested.
    Convinced by: one that did not hold and that a technician can change (a file, a folder, an account).
    Against: a condition on what the machine is; a service that only others need: then it is a note.
    Mend: provide what the condition asks for, or change the condition.
    """
    service = case.service
    if not skipped(service):
        return
    unmet = [c for c in service.conditions if c.outcome == "unmet"]
    if any(_is_of_instance(service, c.parameter) and not c.negated for c in unmet):
        return
    by_nature = all(_MACHINE_CONDITIONS.search(c.kind) or (c.parameter + "/").startswith(("/sys/", "/proc/", "/dev/")) for c in unmet)
    said = ", ".join(_in_words(c) for c in unmet[:3])
    yield Finding(
        says=f"{service.name} was passed over at its start: {said}.",
        evidence=tuple(case.seen(f"{c.kind}={'!' if c.negated else ''}{c.parameter} does not hold") for c in unmet[:5]),
        mends=(Mend(_provide(unmet[0], service)), Mend(f"Then start {service.name}.")),
        sure=0.92,
        note=by_nature or (service.startup == "on-need" and case.needed_from is None and not service.account),
        explains=("stopped", "never-started", "manual-not-started"),
    )


def _in_words(condition: Condition) -> str:
    kind = re.sub(r"^(Condition|Assert)", "", condition.kind)
    words = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", kind).lower()
    return f"its condition \u201c{words} {'is not ' if condition.negated else ''}{condition.parameter}\u201d does not hold"


def _provide(condition: Condition, service: Service) -> str:
    if condition.parameter.startswith("/"):
        verb = "Remove" if condition.negated else "Provide"
        return f"{verb} {condition.parameter}, if {service.name} is meant to run here."
    return f"Provide what {condition.kind}={condition.parameter} asks for, or change the condition."


@cause("config-rejected", states=NOT_UP)
def config_rejected(case: Case) -> Iterator[Finding]:
    """The program refuses its own configuration.

    Looks at: the words of its last run: a file with a line number, the words of a parser.
    Convinced by: such a line in a run that ended with an error.
    Against: the same run also naming an absent path, a taken port or a missing right.
    Mend: correct the place that is named.
    """
    service = case.service
    if not failed_last(service):
        return
    own = [e for e in case.last_events() if "systemd" not in e.source]
    complaints = lines.config_errors(own)
    if not complaints:
        return
    best = next((c for c in complaints if c.path and c.line is not None), None) or next(
        (c for c in complaints if c.path), complaints[0]
    )
    where = best.path + (f":{best.line}" if best.line is not None else "") if best.path else "its configuration"
    yield Finding(
        says=f"{service.name} refuses its configuration at {where}: \u201c{best.event.text[:200]}\u201d.",
        evidence=(
            case.quoted(best.event),
            case.seen(_ending(service), at=service.last.ended_at if service.last else None),
        ),
        mends=(Mend(f"Correct {where}, then start {service.name}.", "at the next start"),),
        sure=0.93 if best.path and best.line is not None else 0.85,
    )


def _ending(service: Service) -> str:
    last = service.last
    if last is None:
        return f"{service.name} is {service.state}"
    number = last.exit_status if last.exit_status is not None else last.error_number
    step = f" in {last.step}" if last.step else ""
    return f"last run ended with {last.result or 'an error'}{f' ({number})' if number is not None else ''}{step}"


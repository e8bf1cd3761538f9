"""What a program seeks by a name without a folder: commands, in the folders of programs; files, in its working folder."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import AFTER_RELOAD, ENDS, FITS, SAID, Evidence, Finding, Mend
from hollow_chain.causes.standing import failed_last
from hollow_chain.facts.habits import beside, folder_of, folders_of_programs
from hollow_chain.facts.host import Event
from hollow_chain.families.steps import EXIT_NOT_FOUND
from hollow_chain.wording import sought
from hollow_chain.wording.last_words import telling
from hollow_chain.wording.things import below


def commands(case: Case) -> Iterator[Finding]:
    """A command that it was to run and did not find (``program-missing``); one that is there by now is no reason any more."""
    last = case.service.last
    if last is None or not failed_last(case.service) or case.standing.well:
        return
    own, status = case.own_events(), last.exit_status
    for event in (telling(own) if status == EXIT_NOT_FOUND else case.final_events())[::-1]:
        name = sought.command_missing(event, sought.before(own, event), status)
        if name and not _places(case, name, folders_of_programs(case.service)):
            yield _of_command(case, event, name)
            return


def _of_command(case: Case, event: Event, name: str) -> Finding:
    service, last = case.service, case.service.last
    evidence: list[Evidence] = [case.quoted(event, SAID)]
    if last is not None and last.exit_status == EXIT_NOT_FOUND:
        where = last.step or "its start"
        status = f"exit status {EXIT_NOT_FOUND} in {where}: a command was not found"
        evidence.append(case.seen(status, at=last.ended_at, bears=FITS))
    folders = folders_of_programs(service)
    absent = [one for one in folders if (file := case.file(f"{one}/{name}")) is not None and not file.exists]
    elsewhere = next(iter(_places(case, name, beside(service))), "")
    if elsewhere:
        evidence.append(
            case.seen(f"{elsewhere} is there, and {' '.join(folders)} is where it looks", FILES, bears=FITS)
        )
    elif len(absent) == len(folders):
        evidence.append(case.seen(f"no {name} in {' '.join(folders)}", FILES, bears=FITS))
    is_at = (
        f"which lies in {elsewhere.rpartition('/')[0]}, where it does not look" if elsewhere else "which is not there"
    )
    install = Mend(f"Install {name}, or correct its name where {service.name} runs it.")
    reach = Mend(f"Give its folder in the definition of {service.name} (PATH).", AFTER_RELOAD)
    return Finding(
        says=f"{service.name} runs {name}, {is_at}.",
        evidence=tuple(evidence),
        mends=(reach,) if elsewhere else (install, Mend(f"Or {reach.does[0].lower()}{reach.does[1:]}", AFTER_RELOAD, instead=True)),
        explains=(*ENDS, "path-missing"),
    )  # fmt: skip


def files(case: Case) -> Iterator[Finding]:
    """A file that it names without a folder, and does not find, where its definition sets no working folder (``path-missing``): the
    manager has it begin in the root then (systemd.exec(5), "WorkingDirectory=")."""
    program = case.service.program
    if program is None or folder_of(case.service) or program.root or not failed_last(case.service):
        return
    own = case.own_events()
    for event, name in sought.missing_names(case.final_events()):
        if "/" not in name and sought.is_of_run(sought.before(own, event)):
            continue  # a command, and sought elsewhere
        yield _of_file(case, event, name)
        return


def _of_file(case: Case, event: Event, name: str) -> Finding:
    service = case.service
    there = next(iter(_places(case, name, beside(service))), "")
    folder = next((one for one in beside(service) if there == below(one, name)), "")
    evidence: list[Evidence] = [case.quoted(event, SAID)]
    if there:
        evidence.append(
            case.seen(
                f"{there} is there, and the definition of {service.name} sets no working folder", FILES, bears=FITS
            )
        )
    lies = f": it lies in {folder}, and the definition sets no working folder" if there else ""
    set_it = f"Set WorkingDirectory={folder} in the definition of {service.name}."
    put_it = f"See from where {service.name} means {name}, and set that as its working folder."
    return Finding(
        says=f"{service.name} does not find {name}, which it names without a folder{lies}.",
        evidence=tuple(evidence),
        mends=(
            Mend(set_it if there else put_it, AFTER_RELOAD),
            Mend(f"Or give the whole path where {service.name} names it.", "at the next start", instead=True),
        ),
        explains=ENDS,
    )  # fmt: skip


def _places(case: Case, name: str, folders: tuple[str, ...]) -> list[str]:
    paths = [below(folder, name) for folder in folders]
    return [path for path in paths if (file := case.file(path)) is not None and file.exists]

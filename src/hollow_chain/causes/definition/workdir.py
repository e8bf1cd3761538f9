"""The folder that a program is to begin in."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes import acts
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import AFTER_RELOAD, SAID, Finding, Mend
from hollow_chain.causes.nature import Boot
from hollow_chain.causes.places import given
from hollow_chain.causes.rights import owners_of
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.words import numbered
from hollow_chain.facts.host import File

EXIT_CHDIR = 200
"""Exit status of systemd itself, before the program runs (systemd.exec(5), "Process Exit Codes")."""


@cause("workdir-missing", Boot.STAYS, states=NOT_UP)
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
    told = numbered(case, 267, bears=SAID)
    if file is None and told:
        yield Finding(
            says=f"The working folder of {service.name}{f', {folder},' if folder else ''} is not there or not valid.",
            evidence=tuple(told),
            mends=(
                Mend(f"Create {folder or 'it'}, or correct the working folder in the definition of {service.name}."),
            ),
        )
    if file is None or (file.exists and file.kind == "folder"):
        return
    last = service.last
    status = last is not None and last.exit_status == EXIT_CHDIR
    owner = service.account.user if service.account and service.account.user else "its account"
    what = "is not a folder" if file.exists else "is not there"
    yield Finding(
        says=f"The working folder of {service.name} {what}: {folder}.",
        evidence=(
            case.seen(f"{folder} {'is a ' + file.kind if file.exists else 'does not exist'}", FILES, bears=SAID),
            *told,
            *(
                [
                    case.seen(
                        "exit status 200 of the manager: the working folder could not be entered",
                        at=last.ended_at,
                        bears=SAID,
                    )
                ]
                if last is not None and status
                else []
            ),
        ),
        mends=(
            _creation(case, file, owner),
            Mend(f"Or correct the working folder in the definition of {service.name}.", AFTER_RELOAD, instead=True),
        ),
    )


def _creation(case: Case, file: File, owner: str) -> Mend:
    if file.link_to and not file.exists:
        doubt = f"{file.path} leads to {file.link_to}, by a link: see first who made it, and whether that is meant"
        return Mend(f"{doubt}; only then create the folder, owned by {owner}.")
    return Mend(f"Create {file.path}, owned by {owner}.", acts=_made(case, file.path) if not file.exists else ())


def _made(case: Case, path: str) -> tuple[acts.Act, ...]:
    """The working folder, for whom the service runs as, where that account is there."""
    user, group = owners_of(case)
    known = case.account(user)
    if not case.family.defined_in_files or (known is not None and not known.exists) or not given(case, path):
        return ()
    return (acts.folder(path, user, group),)

"""What may be wrong with how a service is registered with the manager of the control-manager family."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import FITS, PROOF, SAID, Finding, Mend
from hollow_chain.causes.nature import Boot
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last


@cause("program-ambiguous", Boot.STAYS, states=("running", *NOT_UP))
def program_ambiguous(case: Case) -> Iterator[Finding]:
    """Its command line has spaces and no quotes, and means two programs that are both there: the shorter path is run.

    Looks at: the command line of the definition; which of the programs that it may mean are there.
    Convinced by: two of them, and a service that fails.
    Against: quotes; a service that is well: then it is a warning, for whoever may write the shorter path decides what runs.
    Mend: put quotes around the path, in the definition.
    """
    program = case.service.program
    if program is None or not program.also_named:
        return
    well = case.standing.well and not failed_last(case.service)
    if well and not case.asked:
        return
    meant = program.also_named[-1]
    yield Finding(
        says=f"{case.service.name} runs {program.path}, where {meant} is likely meant: its command line has spaces and no quotes, and both "
        "are there.",
        evidence=(
            case.seen(f"its command line names {program.path} first, and {meant} as well", "definition", bears=FITS),
            case.seen(f"{program.path} and {meant} are both there", FILES, bears=SAID),
        ),
        mends=(
            Mend(f"Put quotes around {meant} in the definition of {case.service.name}.", "at the next start"),
            Mend(f"Or remove {program.path}, after a look at who put it there.", instead=True),
        ),
        note=well,
        explains=("exits-with-error", "exits-at-once", "start-timeout", "crash-loop"),
    )


@cause("being-removed", Boot.OVER, states=("running", *NOT_UP))
def being_removed(case: Case) -> Iterator[Finding]:
    """It is marked for removal, so that it can neither be started nor registered anew until its last user has let go of it.

    Looks at: the mark in its definition.
    Convinced by: that mark.
    Against: nothing.
    Mend: close what has it open (consoles, monitors, the service itself), or reboot; then register it anew.
    """
    definition = case.service.definition
    if definition is None or not definition.being_removed:
        return
    up = case.service.state == "running"
    yield Finding(
        says=f"{case.service.name} is marked for removal, and goes when its last user lets go of it.",
        evidence=(
            case.seen(f"{definition.file or 'its definition'} carries the mark of removal", "definition", bears=PROOF),
        ),
        mends=(
            Mend(
                f"Close what has {case.service.name} open{', and stop it' if up else ''}; or reboot. Then register it anew."
            ),
        ),
        note=up and not case.asked,
        explains=(
            "never-started",
            "stopped",
            "manual-not-started",
            "disabled",
            "exits-with-error",
            "program-missing",
            "stale-definition",
        ),
    )

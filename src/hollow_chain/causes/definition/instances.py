"""Instances of a template whose own files are not there."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.definition.paths import absent_paths
from hollow_chain.causes.finding import FITS, HINT, SAID, TELLS, Finding, Mend
from hollow_chain.causes.nature import Boot
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.facts.habits import is_of_instance


@cause("instance-config-missing", Boot.STAYS, states=("running", *NOT_UP))
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
    absent = dict(absent_paths(case))
    for path in unmet:
        if path.startswith("/"):
            absent.setdefault(
                path, [case.seen(f"start condition of {service.name} on {path} does not hold", bears=SAID)]
            )
    for path, reasons in absent.items():
        if not is_of_instance(service, path):
            continue
        file = case.file(path)
        there = file.siblings if file else []
        offered = f" There are: {', '.join(there[:6])}." if there else ""
        yield Finding(
            says=f"The instance {service.instance!r} of {service.template_of or service.name} has no file of its own: "
            f"{path} is not there.{offered}",
            evidence=(
                case.seen(f"{path} does not exist", FILES, bears=FITS),
                *reasons,
                *(case.seen(f"{p} exists", FILES, bears=TELLS if n else HINT) for n, p in enumerate(there[:4])),
            ),
            mends=(
                Mend(f"Create {path} for the instance {service.instance!r}."),
                Mend("Or start the instance that was meant; those with a file are listed above.", instead=True),
            ),
            near=tuple(there[:8]),
        )

"""What is no service and is needed all the same: file systems, devices, network adapters."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.called import called_sockets
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.definition import absence
from hollow_chain.causes.definition.paths import absent_paths
from hollow_chain.causes.finding import AFTER_RELOAD, ENDS, FITS, HINT, PROOF, SAID, Finding, Mend
from hollow_chain.causes.nature import RUNNING, Boot, When
from hollow_chain.causes.places import is_device
from hollow_chain.causes.rule import cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.facts.service import MOUNTS, Program
from hollow_chain.wording import lines
from hollow_chain.wording.forms import read


@cause("mount-failed", Boot.STAYS, states=("failed", "stopped", "starting"))
def mount_failed(case: Case) -> Iterator[Finding]:
    """A file system that it needs is not mounted.

    Looks at: mounts that are needed and not up; their last result; what the log says of them.
    Convinced by: a failed mount.
    Against: the device below the mount being absent (then that is the cause).
    Mend: mend what the log names, then mount it.
    """
    service = case.service
    if service.kind not in MOUNTS or service.startup == "disabled":
        return
    failed = service.state == "failed" or failed_last(service)
    if not failed and case.needed_from is None and not case.asked:
        return
    said = case.events()[-3:]
    where = service.program.paths[0] if service.program and service.program.paths else service.name
    what = service.program.paths[1] if service.program and len(service.program.paths) > 1 else ""
    source = case.file(what) if what else None
    absent = source is not None and not source.exists
    of_swap = service.kind == "swap"
    thing, lacks = (
        (f"The swap space {where}", "is not in use") if of_swap else (f"The file system {where}", "is not mounted")
    )
    yield Finding(
        says=f"{thing}{f' (from {what})' if what else ''} {lacks}{f', {what} is not there' if absent else ''}.",
        evidence=(
            case.seen(
                f"state of {service.name}: {service.detail or service.state}, result {service.last.result if service.last else 'not known'}",
                bears=PROOF if failed else SAID,
            ),
            *((case.seen(f"{what} does not exist", FILES),) if absent else ()),
            *(case.quoted(event) for event in said),
        ),
        mends=(
            Mend(f"See what the mount says, put {what or 'its source'} right, then start {service.name}.", seeks=True),
        ),
        residual=True,
        explains=("exits-with-error", "stopped", "manual-not-started", "never-started"),
    )


@cause(
    "device-missing",
    Boot.ANEW,
    put_right=(RUNNING,),
    states=("absent", "stopped", "failed", "unknown", "starting", "running"),
    when=When.DOWN,
)
def device_missing(case: Case) -> Iterator[Finding]:
    """A device that it needs is not there.

    Looks at: devices that are needed and have not appeared; names below /dev that it opens, or that its definition gives it; network
    adapters that its last words call absent.
    Convinced by: a hard need of a device that is not there; a name below /dev that leads to nothing; an adapter that the host does not
    have.
    Against: the device being there.
    Mend: connect the device, or correct its name where it is needed.
    """
    service = case.node.service
    if service is not None and service.kind == "service":
        yield from _adapter_missing(case)
        yield from _nodes_missing(case)
    if not case.node.name.endswith(".device") or (case.needed_from is None and not case.asked):
        return
    name = service.description if service and service.description else case.node.name
    state = service.detail or service.state if service else "not known to the manager"
    yield Finding(
        says=f"The device {name} is not there.",
        evidence=(
            case.seen(f"state of {case.node.name}: {state}", bears=PROOF),
            *(case.quoted(event) for event in case.events()[-2:]),
        ),
        mends=(
            Mend(f"Connect the device behind {case.node.name}."),
            Mend("Or correct the device's name where it is needed.", AFTER_RELOAD, instead=True),
        ),
    )


def _adapter_missing(case: Case) -> Iterator[Finding]:
    """A network adapter that its last words call absent, and that the host does not have."""
    here = {one.name for one in case.host.adapters}
    if not here or case.standing.well or not failed_last(case.service):
        return
    own = {case.service.name.partition(".")[0], (case.service.program or Program()).path.rpartition("/")[2]}
    for event in lines.saying(case.final_events(), "adapter missing")[::-1]:
        named = [name for name in read(event.text).named("adapter missing", "adapter") if name not in own]
        name = next((one for one in named if _is_adapter_name(one, event.text)), "")
        if name and name not in here:
            yield Finding(
                says=f"{case.service.name} needs the network adapter {name}, which {case.host.name} does not have.",
                evidence=(
                    case.quoted(event, SAID),
                    case.seen(
                        f"network adapters of {case.host.name}: {', '.join(sorted(here)[:12])}", "adapters", bears=FITS
                    ),
                ),
                mends=(
                    Mend(
                        f"Correct the name of the adapter where {case.service.name} names it, or bring {name} up before it."
                    ),
                ),
                explains=("exits-with-error", "exits-at-once", "crash-loop", "config-rejected", "path-missing"),
            )
            return


def _is_adapter_name(name: str, text: str) -> bool:
    """Whether it is meant as a name and no word of the sentence: names have a number (systemd.net-naming-scheme(7)), or stand in quotes."""
    return any(map(str.isdigit, name)) or any(f"{mark}{name}{mark}" in text for mark in "\"'`")


def _nodes_missing(case: Case) -> Iterator[Finding]:
    """Devices that it opens by a name below /dev that leads to nothing: who makes these names makes one for what is attached (udev(7))."""
    named = [(path, reasons) for path, reasons in absent_paths(case) if is_device(path)]
    sockets = {one.path for one in called_sockets(case)} if named else ()
    name = case.node.name
    for path, reasons in named:
        if path in sockets:
            continue
        file = case.file(path)
        looked = () if file is None else (case.seen(absence.seen(case, file), FILES, bears=HINT),)
        yield Finding(
            says=f"{name} needs the device {path}, which {absence.how_it_is_gone(case, path, reasons)}.",
            evidence=(*looked, *reasons),
            mends=(
                Mend(f"Connect the device behind {path}, and see whether its driver is loaded.", seeks=True),
                Mend(f"Or correct the name of the device where {name} names it.", AFTER_RELOAD, instead=True),
            ),
            explains=(*ENDS, "config-rejected", "path-missing"),
        )  # fmt: skip

"""What is said of a place that is closed to a service, and how it is opened to it."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

from hollow_chain.causes import places, rights
from hollow_chain.causes.acts import Act, allow
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, SAID, Evidence, Finding, Mend
from hollow_chain.causes.rights import Barrier, account_of
from hollow_chain.facts.host import Event
from hollow_chain.wording import lines
from hollow_chain.wording.forms import says


def could_only_be_made(case: Case, path: str) -> bool:
    """Whether it is not there, in a folder that is: who may enter that one is refused nothing there but to make it (open(2),
    ``EACCES``; of what is only to be read it would say that it is not there)."""
    file, above = case.file(path), case.file(path.rpartition("/")[0] or "/")
    return file is not None and not file.exists and not file.link_to and above is not None and above.exists


def was_writing(event: Event, case: Case | None = None, path: str = "") -> bool | None:
    """Whether a line says that it was about to write, or what it was refused can have been nothing else; None where that is open."""
    made = case is not None and not lines.calls(event, path) and could_only_be_made(case, path)
    wrote = event.call is not None and event.call.writes
    return True if made or wrote or says(event.text, "read only", "writes") else None


def denied(case: Case, event: Event | None, path: str, found: Barrier | None, tied: bool = True) -> Finding:
    """The account may not use *path*: *found* keeps it from that, or nothing that was seen does.

    *tied*: whether the record itself, or what led to it, names the path.
    """
    service, user = case.service, account_of(case)
    why = found.why if found else "the log says so, though owner and mode would let it"
    hung = service.last is not None and service.last.result in ("timeout", "watchdog")
    return Finding(
        says=f"{service.name} (account {user}) may not use {path}: {why}.",
        evidence=tuple(_evidence(case, event, found, tied)),
        mends=(_opening(case, event, path, found),),
        residual=found is None and hung,  # it went on after that, until its time was over
        explains=(
            "exits-with-error", "exits-at-once", "crash-loop", "config-rejected", "path-missing", "start-rate-limited", "killed",
        ),
    )  # fmt: skip


def _evidence(case: Case, event: Event | None, found: Barrier | None, tied: bool) -> Iterator[Evidence]:
    if event is not None:
        yield case.quoted(event, FITS if says(event.text, "denied", "read only") else HINT)
    if found is None:
        yield case.seen("owner, mode and definition, as far as they were seen, would let it", FILES)
    else:
        bears = SAID if tied and not found.only_writing else HINT
        yield case.seen(found.why, FILES if found.file else "definition", bears=bears)


def _opening(case: Case, event: Event | None, path: str, found: Barrier | None) -> Mend:
    """How the place is opened to the account, by what closes it."""
    place = found.path if found else path
    if found and found.by_definition:
        return _in_definition(case, path)
    if found and found.by_flag:
        return Mend(
            f"See who set that flag on {place}, and why: package managers and services do not. If it is to go, take it away with chattr(1); "
            f"then start {case.service.name}.",
            seeks=True,
        )
    if found and found.by_mount:
        return Mend(
            f"See why the file system on {place} is mounted so; mount it as {case.service.name} needs it, or move {path}.",
            seeks=True,
        )
    writes = was_writing(event, case, path) if event is not None else None
    does, acts = rights.in_words(case, path, place, writes, account_of(case))
    return Mend(does, acts=acts if found else ())


def not_remade(case: Case, event: Event, path: str, found: Barrier | None, tied: bool) -> Finding:
    """The same of what was taken away from a place in which it was never to be made by the service: that it is gone is the reason."""
    plain = denied(case, event, path, found, tied)
    return replace(
        plain,
        evidence=tuple(replace(one, bears=HINT) for one in plain.evidence),
        explains=tuple(name for name in plain.explains if name != "path-missing"),
    )


def told_alone(case: Case, event: Event, path: str) -> Finding:
    """What its words say of a path at which nobody has looked."""
    user = account_of(case)
    return Finding(
        says=f"{case.service.name} (account {user}) may not use {path}, by its own words; nobody has looked.",
        evidence=(case.quoted(event, FITS),),
        mends=(
            Mend(f"See who may use {path}, and give {user} the one right that {case.service.name} needs.", seeks=True),
        ),
        explains=("exits-with-error", "exits-at-once", "crash-loop"),
    )


def _in_definition(case: Case, path: str) -> Mend:
    """Let the service use a place that its definition closes."""
    name, acts = case.service.name, _let_write(case, path)
    if acts or places.given(case, path):
        return Mend(f"Let {name} use {path} in its definition, and nothing else.", AFTER_RELOAD, acts)
    doubt = f"{path} is not among the places that the definition of {name} gives it: see first whether it is meant to use that at all"
    return Mend(
        f"{doubt}; if it is, and by hand only: let its definition give it {path}, and nothing else.", AFTER_RELOAD
    )


def _let_write(case: Case, path: str) -> tuple[Act, ...]:
    """Let the service write to *path* though its definition makes everything around it read-only; where it is yet to be made,
    to its folder (systemd.exec(5), "ReadWritePaths=")."""
    confinement, file = case.service.confinement, case.file(path)
    hidden = confinement is None or any(places.inside(path, place) for place in confinement.hidden)
    if hidden or not case.family.defined_in_files or file is None or re.search(r"[\s%\"'\\]", path):
        return ()
    place = path if file.exists else path.rpartition("/")[0]
    if file.link_to or not places.given(case, place):
        return ()
    return (allow(case.node.name, f"ReadWritePaths={place}"),)

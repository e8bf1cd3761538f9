"""Room on a disk that a service writes to."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes import looked
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import DOUBT, FITS, HINT, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.words import numbered
from hollow_chain.facts.habits import names_of
from hollow_chain.facts.host import Filesystem
from hollow_chain.wording import lines
from hollow_chain.wording.counts import size
from hollow_chain.wording.things import paths_in

_QUOTA = "quota"
"""In the words of EDQUOT, "Disk quota exceeded" (errno(3)): then there may be room for all others."""


@cause("disk-full", Boot.STAYS, states=("running", *NOT_UP), when=When.UNWELL)
def disk_full(case: Case) -> Iterator[Finding]:
    """No space, no inodes, or no quota is left where it writes.

    Looks at: log lines that say so; the file systems below the paths that they quote.
    Convinced by: such a line and a file system that has nothing left.
    Against: room on that file system by now (then less sure).
    Mend: make room, or move what is written.
    """
    said = [event for event in lines.saying(case.told_events(), "full") if not case.went_on_after(event)]
    told = [case.quoted(said[-1], SAID)] if said else numbered(case, 112, bears=SAID)
    if not told:
        yield from _no_room(case)
        return
    paths = [path for event in said for path in paths_in(event.text)]
    paths += [case.service.program.folder] if case.service.program and case.service.program.folder else []
    places = [place for place in (_filesystem_of(case, path) for path in paths) if place is not None]
    places = [p for p in places if _is_full(p)] or [p for p in case.host.filesystems if _is_full(p)]
    full = places[0] if places else None
    quota = any(_QUOTA in event.text.casefold() for event in said)
    place = full.mounted_on if full else next(iter(paths), "")
    where = f"on {place}" if place else "where it writes"
    what = "inodes" if full is not None and full.free and full.inodes_free == 0 else "space"
    room = Mend(f"Make room {where}, then start {case.service.name}.")
    if quota:
        account = case.service.account.user if case.service.account and case.service.account.user else "its account"
        says = f"the disk quota of {account} is used up"
        room = Mend(
            f"Raise the disk quota of {account}, or remove files that belong to it; then start {case.service.name}."
        )
    else:
        says = f"no {what} {'are' if what == 'inodes' else 'is'} left {where}"
    yield Finding(
        says=f"{case.service.name} cannot write: {says}.",
        evidence=(
            *told,
            *((case.seen(f"{full.mounted_on}: {_room_on(full)}", FILES, bears=FITS),) if full and not quota else ()),
            *(() if full or quota else _room_there(case, paths)),
        ),
        mends=(room,),
        explains=("exits-with-error", "crash-loop", "killed"),
    )


def _no_room(case: Case) -> Iterator[Finding]:
    """It ends without a reason of its own, and nothing is left where it writes."""
    for file in looked.used(case) if looked.is_silent(case) else ():
        full = _filesystem_of(case, file.path)
        if full is None or not _is_full(full):
            continue
        what = "inodes" if full.free and full.inodes_free == 0 else "space"
        room = f"no {what} left on {full.mounted_on} ({_room_on(full)})"
        yield Finding(
            says=f"{case.service.name} most likely cannot write: no {what} {'are' if what == 'inodes' else 'is'} left on {full.mounted_on}, "
            f"where {file.path} lies.",
            evidence=(looked.place(case, file, room), looked.ended(case)),
            mends=(Mend(f"Make room on {full.mounted_on}, then start {case.service.name}."),),
            residual=True,
            explains=("exits-with-error", "exits-at-once", "crash-loop", "killed", "access-denied"),
        )
        return
    full_ones = (
        [f for f in case.host.filesystems if _is_full(f) and _may_be_written(case, f)] if looked.is_silent(case) else []
    )
    for full in full_ones[:1]:  # where it writes is known in part only
        name, what = case.service.name, "inodes" if full.free and full.inodes_free == 0 else "space"
        yield Finding(
            says=f"{name} may be unable to write: no {what} {'are' if what == 'inodes' else 'is'} left on {full.mounted_on}.",
            evidence=(
                case.seen(f"{full.mounted_on}: {_room_on(full)}", FILES, bears=HINT),
                case.seen(f"whether {name} writes there was not seen", FILES),
                looked.ended(case),
            ),
            mends=(Mend(f"Make room on {full.mounted_on}, then start {name}."),),
            residual=True,
        )


def _may_be_written(case: Case, place: Filesystem) -> bool:
    """Whether the service may well write to a file system of which nothing else tells that it does: by habit (hier(7)), and not where it
    bears the name of another service."""
    if place.kind in _OF_THE_KERNEL or not (place.mounted_on == "/" or place.mounted_on.startswith(_WRITTEN)):
        return False
    parts = set(place.mounted_on.split("/"))
    owners = set().union(*(case.index.own_names.get(part, ()) for part in parts))
    return not owners or not parts.isdisjoint(names_of(case.service))


_WRITTEN = ("/var", "/srv", "/tmp", "/run", "/home", "/opt", "/mnt", "/data")
_OF_THE_KERNEL = ("devtmpfs", "proc", "sysfs", "cgroup2", "squashfs", "iso9660", "efivarfs", "ramfs")
"""Kinds of file systems whose size says nothing of room (proc(5), sysfs(5)), or that are full by nature."""


def _room_there(case: Case, paths: list[str]) -> Iterator[Evidence]:
    """That there is room where it is said to be none: it may have been made since, or what is used up is none of a file system."""
    places = [place for place in (_filesystem_of(case, path) for path in paths) if place is not None]
    for place in (places or case.host.filesystems)[:1]:
        if place.size and place.free:
            yield case.seen(f"{place.mounted_on} has room: {_room_on(place)}", FILES, bears=DOUBT)


def _room_on(place: Filesystem) -> str:
    """What is free there, as far as it was read."""
    parts = [f"{size(place.free)} free"] if place.free is not None else []
    parts += (
        [f"{place.inodes_free:,} of {place.inodes:,} inodes free"]
        if place.inodes and place.inodes_free is not None
        else []
    )
    return ", ".join(parts) or "full"


def _filesystem_of(case: Case, path: str) -> Filesystem | None:
    around = [f for f in case.host.filesystems if (path + "/").startswith(f.mounted_on.rstrip("/") + "/")]
    return max(around, key=lambda f: len(f.mounted_on), default=None)


def _is_full(place: Filesystem) -> bool:
    if place.read_only or not place.size:
        return False
    nearly_none = place.free is not None and place.free < max(4096, place.size // 2000)
    return nearly_none or bool(place.inodes and place.inodes_free == 0)

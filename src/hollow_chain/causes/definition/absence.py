"""How something is told that is not where it should be, and who would put it back."""

from __future__ import annotations

import posixpath
from collections.abc import Iterator
from datetime import datetime, timedelta
from typing import NamedTuple

from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import AFTER_RELOAD, HINT, Evidence, Mend
from hollow_chain.causes.places import inside
from hollow_chain.causes.rights import barrier
from hollow_chain.causes.words import was_up_before
from hollow_chain.facts.host import File
from hollow_chain.wording.observed import SOURCE


def _folder_to_make(case: Case, path: str) -> Mend | None:
    """The mend of what lacks the very folder that it is to lie in; None where that is there, or nobody looked."""
    above = path.rpartition("/")[0]
    folder, over = case.file(above), case.file(above.rpartition("/")[0])
    if not above or folder is None or folder.exists or folder.link_to:
        return None
    name = above.removeprefix("/run/").removeprefix("/var/run/")
    if name != above and "/" not in name:
        does = f"Have the manager make {above} before each start (RuntimeDirectory={name} in the definition of {case.service.name})."
        return Mend(does, AFTER_RELOAD)
    if over is not None and over.exists and above.startswith(_WRITTEN_TO):
        return Mend(f"Make the folder {above}, owned by {user(case)}; or put it back with what was in it.")
    return None


_WRITTEN_TO = ("/var/", "/srv/", "/run/", "/home/")
"""Where services keep what they write (hier(7)): a folder that lacks there may be one that nobody has made yet."""


def led_there(case: Case, path: str, reasons: list[Evidence]) -> Iterator[Evidence]:
    """The link by which a path came about that nothing names: who watched a start saw where it led."""
    for file in case.host.files if any(one.source == SOURCE for one in reasons) else ():
        if file.link_to and file.path != path and inside(path, file.link_to) and file.link_to.count("/") > 1:
            yield case.seen(f"{file.path} is a link to {file.link_to}", FILES, bears=HINT)
            return


class BrokenLink(NamedTuple):
    """A link, at a path or on the way there, that leads to nothing."""

    path: str
    end: str
    """What is not there: where it leads, through other links if need be."""

    @property
    def leads(self) -> str:
        """Where it leads, as a part of a sentence that has named it."""
        return f"is a link to {self.end}, which is not there"


def broken_link(case: Case, path: str) -> BrokenLink | None:
    """The link for which nothing is at *path*; None where none is known."""
    link = _nearest(case, path)
    if link is None or link.exists:
        return None
    end = link
    for _ in range(_MOST_LINKS):
        after = case.file(_led(end))
        if after is None or after.exists or not after.link_to:
            break
        end = after
    return BrokenLink(link.path, _led(end))


_MOST_LINKS = 40
"""Links that the kernel follows one after the other (path_resolution(7))."""


def _led(link: File) -> str:
    return posixpath.normpath(posixpath.join(link.path.rpartition("/")[0] or "/", link.link_to))


def _nearest(case: Case, path: str) -> File | None:
    """What stands at a path, or else the nearest thing above it; a link counts, whatever it leads to."""
    while path:
        file = case.file(path)
        if file is not None and (file.exists or file.link_to):
            return file
        path = path.rpartition("/")[0]
    return None


def in_the_way(case: Case, path: str) -> File | None:
    """What stands on the way to an absent path and is no folder; None where nothing does."""
    nearest = _nearest(case, path)
    is_none = nearest is not None and nearest.exists and nearest.path != path and nearest.kind != "folder"
    return nearest if is_none else None


_TOGETHER = timedelta(seconds=1)
"""Within so long the content of a folder and what is known of it change by one act."""


def taken_out(case: Case, path: str) -> datetime | None:
    """When *path* was taken away, most likely: it is not there; its folder lets the service in, and make nothing; and it is what lies in
    that folder that has changed since the service was last up, and not who may use it. None where that is not so."""
    file, folder = case.file(path), case.file(path.rpartition("/")[0] or "/")
    if file is None or file.exists or file.link_to or folder is None or not folder.exists:
        return None
    changed, altered = folder.changed_at, folder.altered_at
    if changed is None or altered is None or altered - changed > _TOGETHER or not was_up_before(case, changed):
        return None
    found = barrier(case, path, True)
    by_folder = found is not None and found.path == folder.path and not found.by_definition
    return changed if by_folder and barrier(case, folder.path, False) is None else None


_IN_A_CIRCLE = "too many levels of symbolic links"
"""What the C library says of links that lead to one another (path_resolution(7), ``ELOOP``)."""


def how_it_is_gone(case: Case, path: str, reasons: list[Evidence]) -> str:
    """In what way a path is not what it should be, as the end of a sentence that has named it."""
    file = case.file(path)
    if file is None:
        return "is not there by its own words; nobody has looked"
    if file.exists:
        return f"is a {file.kind} where something else is wanted"
    if file.link_to and any(_IN_A_CIRCLE in one.fact.lower() for one in reasons):
        return f"is a link to {file.link_to}, and the links lead in a circle"
    return what_is_gone(case, path)


def seen(case: Case, file: File) -> str:
    """What a look at the path found, with the path."""
    barring, link = in_the_way(case, file.path), broken_link(case, file.path)
    if barring is not None:
        return f"{barring.path} is a {barring.kind}, and no folder"
    if link is not None and link.path != file.path:
        return f"{link.path} is a link to {link.end}"
    return f"{file.path} {_of_itself(file)}"


def _of_itself(file: File) -> str:
    return f"is a {file.kind}" if file.exists else f"is a link to {file.link_to}" if file.link_to else "does not exist"


def what_is_gone(case: Case, path: str) -> str:
    """What is not there of a path: itself, what it or a link on the way leads to, or a folder in the place of something else."""
    link, barring = broken_link(case, path), in_the_way(case, path)
    if link is not None:
        return link.leads if link.path == path else f"is not there: {link.path} {link.leads}"
    if barring is not None:
        return f"cannot be there: {barring.path} is a {barring.kind}, and no folder"
    return f"is not there{_how_far(case, path)}"


def to_put_back(case: Case, path: str) -> Mend:
    """The mend of an absent path: what is not there of it comes back, and what stands in its way goes."""
    link, barring = broken_link(case, path), in_the_way(case, path)
    if link is not None:
        return Mend(f"Put {link.end} back, or correct the link {link.path}; see first who made it.")
    if barring is not None:
        return Mend(f"See what made {barring.path}, and move it aside: a folder belongs there.")
    return _folder_to_make(case, path) or Mend(f"Put {path} back, readable for {user(case)}.")


def user(case: Case) -> str:
    """Who has to be able to use it."""
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

"""How something is told that is not where it should be, and who would put it back."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import AFTER_RELOAD, HINT, Evidence, Mend
from hollow_chain.causes.places import inside
from hollow_chain.facts.host import File
from hollow_chain.wording.observed import SOURCE


def folder_to_make(case: Case, path: str) -> Mend | None:
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


_WRITTEN_TO = ("/var/", "/srv/", "/run/")
"""Where services keep what they write (hier(7)): a folder that lacks there may be one that nobody has made yet."""


def led_there(case: Case, path: str, reasons: list[Evidence]) -> Iterator[Evidence]:
    """The link by which a path came about that nothing names: who watched a start saw where it led."""
    for file in case.host.files if any(one.source == SOURCE for one in reasons) else ():
        if file.link_to and file.path != path and inside(path, file.link_to) and file.link_to.count("/") > 1:
            yield case.seen(f"{file.path} is a link to {file.link_to}", FILES, bears=HINT)
            return


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
    return what_is_gone(file) if file.link_to else f"is not there{_how_far(case, path)}"


def seen(file: File) -> str:
    """What a look at the path found."""
    return f"is a {file.kind}" if file.exists else f"is a link to {file.link_to}" if file.link_to else "does not exist"


def what_is_gone(file: File) -> str:
    """What is not there of a path: itself, or what it links to."""
    return f"is a link to {file.link_to}, which is not there" if file.link_to else "is not there"


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

"""What the definition takes from a service's view of the file system, though the service uses it."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes import places
from hollow_chain.causes.case import Case
from hollow_chain.causes.places import inside
from hollow_chain.causes.rights import Barrier, barrier
from hollow_chain.causes.standing import failed_last
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Confinement, Service
from hollow_chain.wording import lines
from hollow_chain.wording.things import paths_in


def hidden_own(case: Case) -> Iterator[tuple[Event | None, Barrier]]:
    """Places that the definition hides although the service uses them: its log or its arguments name them, or they bear
    its name. A hidden file reads as an empty one, so that the words are often of something else; but not where they call a path
    missing that is hidden by nothing: then that is what it fails by."""
    confinement, program = case.service.confinement, case.service.program
    if confinement is not None and failed_last(case.service):
        yield from _hidden_by_own_view(case, confinement)
    if confinement is None or not confinement.hidden or not failed_last(case.service):
        return
    names = {case.node.name.rpartition(".")[0].partition("@")[0], *(a.rpartition(".")[0] for a in case.service.aliases)}
    names |= {program.path.rpartition("/")[2]} if program else set()
    missing = list(lines.missing_paths(case.own_events()))
    if any(_is_gone(case, path) for _, path in missing):
        return
    told = any(not any(places.inside(path, hidden) for hidden in confinement.hidden) for _, path in missing)
    works_with = [] if told else _paths_that_are_used(case.service)
    for place in confinement.hidden:
        lost = (
            next(((event, path) for event, path in reversed(missing) if places.inside(path, place)), None)
            if not told
            else None
        )
        if lost is not None:
            yield lost[0], Barrier(lost[1], _hides(case, lost[1], place), by_definition=True)
            continue
        event = next((e for e in case.own_events() if any(places.inside(p, place) for p in paths_in(e.text))), None)
        used = any(places.inside(path, place) for path in works_with)
        its = not told and any(_bears(part, names) for part in place.split("/"))
        if event is not None or used or its:
            yield event, Barrier(place, f"its definition hides {place} from it", by_definition=True)


def _is_gone(case: Case, path: str) -> bool:
    """Whether somebody has looked for it, and it is not there for anybody."""
    file = case.file(path)
    return file is not None and not file.exists


def _hides(case: Case, path: str, place: str) -> str:
    """That a place is hidden, and whether the path below it that is missed is there for all others."""
    file = case.file(path)
    there = f", in which the host's {path} is" if path != place and file is not None and file.exists else ""
    return f"its definition hides {place} from it{there}"


_TEMPORARY = ("/tmp", "/var/tmp")


def _hidden_by_own_view(case: Case, confinement: Confinement) -> Iterator[tuple[Event | None, Barrier]]:
    """What it calls missing, what is there for all others, and lies where it has folders of its own (systemd.exec(5), "PrivateTmp=",
    "PrivateDevices=")."""
    own = dict.fromkeys(_TEMPORARY if confinement.private_tmp else (), "PrivateTmp")
    own |= {"/dev": "PrivateDevices"} if confinement.private_devices else {}
    for event, path in lines.missing_paths(case.own_events()) if own else ():
        file, place = case.file(path), next((one for one in own if inside(path, one)), "")
        if place and path != place and file is not None and file.exists:
            why = f"its definition gives it a {place} of its own ({own[place]}=), in which the host's {path} is not"
            yield event, Barrier(path, why, by_definition=True)


def _paths_that_are_used(service: Service) -> list[str]:
    """The paths that a service is called with or works with: not those that its definition names only to hide them."""
    program, confinement = service.program, service.confinement
    if program is None or confinement is None:
        return []
    return [*places.words_of(service), *(path for path in program.paths if path not in confinement.hidden)]


def read_only_by_definition(case: Case, path: str) -> Barrier | None:
    """What the definition makes read-only around a file that the program opens to write, as one in such a place is."""
    found = barrier(case, path, True)
    return found if found is not None and found.by_definition else None


def not_to_be_run(case: Case, path: str) -> Barrier | None:
    """What keeps a program that may be read, and is one by its mode, from being run where it lies."""
    file = case.file(path)
    if file is None or not file.exists or file.kind != "file" or not re.fullmatch(r"[0-7]{3,5}", file.mode):
        return None
    return barrier(case, path, False, runs=True) if int(file.mode, 8) & 0o111 else None


def _bears(part: str, names: set[str]) -> bool:
    """Whether a part of a path bears one of *names*, with or without a suffix."""
    return part in names or part.partition(".")[0] in names

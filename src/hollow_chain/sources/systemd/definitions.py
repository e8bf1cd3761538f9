"""Definitions as files: when they were changed and enabled, and what a reload would bring."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import NamedTuple

from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Definition, Service
from hollow_chain.reach.handles import Walker
from hollow_chain.reach.interfaces import Each, Files
from hollow_chain.sources.systemd import unit_file
from hollow_chain.wording.secrets import mask_arguments

_WANTS_FOLDERS = ("/etc/systemd/system", "/run/systemd/system")
"""Links of generators are left out: they are made anew at each boot and each reload, and tell nothing of when it was decided."""


class Linked(NamedTuple):
    """That folders of other units hold links to a unit (systemd.unit(5), "name.wants/")."""

    at: datetime
    """When the last of them was made."""
    by: frozenset[str]
    """The units that start it along with themselves."""


def add(host: Host, linked: dict[str, Linked], files: Files, walker: Walker, each: Each) -> None:
    """When definitions were changed and enabled, and what a reload would bring."""

    def add_to(service: Service) -> None:
        definition = service.definition
        if definition is None:
            return
        definition.enabled_at = linked[service.name].at if service.name in linked else None
        if not definition.file or not (definition.needs_reload or service.state in ("failed", "starting")):
            return
        parts = [definition.file, *definition.drop_ins]
        definition.changed_at = _newest(parts, files)
        words = unit_file.effective(unit_file.read(parts, walker))
        typed = words.get("TimeoutStartSec") or words.get("TimeoutSec")
        if service.limits is not None and typed:
            service.limits.start_typed = typed
        if service.program is not None:
            service.program.log_files = list(dict.fromkeys([*service.program.log_files, *_files_of(words, *_OUTPUTS)]))
            service.program.input_file = next(_files_of(words, "StandardInput"), service.program.input_file)
        if definition.needs_reload:
            _compare(service, definition, words)

    each(add_to, host.services)


_FILE_STREAM = ("file:", "append:", "truncate:")
_OUTPUTS = ("StandardOutput", "StandardError")


def _files_of(words: dict[str, str], *streams: str) -> Iterator[str]:
    """The files that *streams* are bound to; the manager itself tells no more than that they are files."""
    given = [words.get(name, "") for name in streams]
    yield from (text.partition(":")[2] for text in given if text.startswith(_FILE_STREAM) and "%" not in text)


def _compare(service: Service, definition: Definition, on_disk_words: dict[str, str]) -> None:
    program, account = service.program, service.account
    loaded = {
        "ExecStart": " ".join(program.arguments) if program else "",
        "WorkingDirectory": program.folder if program else "",
        "User": account.user if account else "",
        "Group": account.group if account else "",
    }
    for name, text in loaded.items():
        on_disk = " ".join(mask_arguments(_words(on_disk_words.get(name, ""))))
        if on_disk != " ".join(text.split()) and "%" not in on_disk and "$" not in on_disk:
            definition.loaded[name], definition.on_disk[name] = text[:300], on_disk[:300]


def _words(text: str) -> list[str]:
    """The words of a setting as the manager keeps them: without quotes, and without the prefixes of a command line."""
    try:
        words = shlex.split(text)
    except ValueError:
        words = text.split()
    return [words[0].lstrip("-@:+!"), *words[1:]] if words else []


def _newest(parts: list[str], files: Files) -> datetime | None:
    stamps = [stamp for stamp in map(files.changed, parts) if stamp is not None]
    return datetime.fromtimestamp(max(stamps), UTC) if stamps else None


def linked_units(files: Files) -> dict[str, Linked]:
    """When each unit was linked to what starts it, and to what."""
    found: dict[str, Linked] = {}
    for folder in _WANTS_FOLDERS:
        for kind in ("wants", "requires", "upholds"):
            links = files.matching(f"{folder}/*.{kind}/*")
            files.expect(links)
            for link in links:
                changed, (place, _, name) = files.changed(link), link.rpartition("/")
                if changed is not None:
                    new = Linked(datetime.fromtimestamp(changed, UTC), frozenset([_owner(place)]))
                    old = found.get(name, new)
                    found[name] = Linked(max(new.at, old.at), new.by | old.by)
    return found


def _owner(folder: str) -> str:
    """The unit whose wants are in *folder*."""
    return folder.rpartition("/")[2].rpartition(".")[0]

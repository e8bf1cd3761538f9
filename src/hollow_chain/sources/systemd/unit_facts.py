"""Installed units that nothing has loaded: their facts, as their files tell them.

Asking the manager would make it load each of them, which takes longer than all other questions together. So only
those that somebody on this host wrote or changed are asked for (the manager may refuse them, and only it knows);
what the distribution ships is read here.
"""

from __future__ import annotations

from collections.abc import Iterable

from hollow_chain.facts.habits import NOT_LOADED
from hollow_chain.facts.service import (
    Account,
    Condition,
    Definition,
    Link,
    LinkKind,
    Program,
    Service,
    Startup,
    Trigger,
)
from hollow_chain.reach.handles import Walker
from hollow_chain.reach.interfaces import Files
from hollow_chain.sources.systemd import unit_file
from hollow_chain.wording.secrets import mask_arguments, mask_text

_LINKS: tuple[tuple[str, LinkKind, bool], ...] = (
    ("Requires", "hard", True),
    ("BindsTo", "hard", True),
    ("Requisite", "hard", False),
    ("Wants", "soft", True),
    ("After", "order", False),
    ("Conflicts", "clash", False),
)
_HAND_MADE = ("/etc/", "/run/")


def is_masked(path: str, files: Files) -> bool:
    """Whether the definition is a link to nothing (systemctl(1), "mask")."""
    return files.link(path) == "/dev/null"


def is_hand_made(name: str, path: str, files: Files) -> bool:
    """Whether somebody on this host wrote the definition, or adds to it with a file of his own."""
    if path.startswith(_HAND_MADE):
        return not is_masked(path, files)
    return any(files.is_folder(f"{folder}systemd/system/{name}.d") for folder in _HAND_MADE)


def additions_of(names: Iterable[str]) -> list[str]:
    """Where somebody on this host may add to definitions of these *names*."""
    return [f"{folder}systemd/system/{name}.d" for name in names for folder in _HAND_MADE]


def service_of_file(name: str, path: str, wanted_by: list[str], files: Files, walker: Walker) -> Service:
    """A unit that nothing has loaded, from its file; templates included. *wanted_by*: the units whose folders hold a link to it."""
    stem, _, kind = name.rpartition(".")
    if is_masked(path, files):
        definition = Definition(file=path, load="masked")
        return Service(name=name, kind=kind, state="stopped", startup="disabled", definition=definition)
    settings = unit_file.read([path], walker)
    words = unit_file.effective(settings)
    has_install = any(s.section == "Install" and s.name in ("WantedBy", "RequiredBy", "Alias") for s in settings)
    is_by_hand = not wanted_by and (has_install or stem.endswith("@"))
    return Service(
        name=name,
        kind=kind,
        description=mask_text(words.get("Description", "")[:300]),
        state="stopped",
        detail="template" if stem.endswith("@") else NOT_LOADED,
        startup=startup_of_linked(wanted_by, "manual" if is_by_hand else "on-need"),
        template=stem.endswith("@"),
        wanted_by=targets_of(wanted_by),
        triggers=[Trigger(kind="device", name=by) for by in wanted_by if by.endswith(".device")],
        links=_links(words),
        conditions=[
            Condition(
                kind=s.name, parameter=s.value.lstrip("|!"), negated="!" in s.value[:2], optional="|" in s.value[:2]
            )
            for s in settings
            if s.section == "Unit" and s.name.startswith(("Condition", "Assert")) and s.value
        ],
        definition=Definition(file=path),
        program=_program(words) if kind == "service" else None,
        account=Account(user=words.get("User", ""), group=words.get("Group", ""))
        if "User" in words or "Group" in words
        else None,
    )


def targets_of(wanted_by: Iterable[str]) -> list[str]:
    """The targets among the units that want one."""
    return sorted({by for by in wanted_by if by.endswith(".target")})


def startup_of_linked(wanted_by: list[str], otherwise: Startup) -> Startup:
    """The startup type of a unit that these want: what only another service wants is started along with that, and not at boot."""
    if targets_of(wanted_by):
        return "automatic"
    return "event" if any(by.endswith(".device") for by in wanted_by) else otherwise


def triggered_by_file(name: str, path: str, walker: Walker) -> str:
    """The unit that a socket, timer or path unit starts: the one it names, else the service of its own name."""
    words = unit_file.effective(unit_file.read([path], walker))
    return words.get("Service") or words.get("Unit") or f"{name.rpartition('.')[0]}.service"


def _links(words: dict[str, str]) -> list[Link]:
    return [
        Link(to=to, kind=kind, word=word, pulls=pulls)
        for word, kind, pulls in _LINKS
        for to in words.get(word, "").split()
        if "%" not in to
    ]


def _program(words: dict[str, str]) -> Program:
    command = words.get("ExecStart", "").split(" ; ")[0].lstrip("-@:+!").split()
    return Program(
        path=command[0] if command and "%" not in command[0] else "",
        arguments=mask_arguments(command)[:200],
        folder="" if "%" in words.get("WorkingDirectory", "%") else words["WorkingDirectory"].lstrip("-"),
        style=words.get("Type", "simple"),
        stays=words.get("RemainAfterExit", "").lower() in ("yes", "true", "1", "on"),
    )

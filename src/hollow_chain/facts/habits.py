"""How things of a service are named by habit."""

from __future__ import annotations

import re

from hollow_chain.facts.service import Service

NOT_LOADED = "not loaded"
"""The state of a definition that the manager has not taken up, so that it is known from its file alone."""


def names_of(service: Service) -> list[str]:
    """The names that a service's own folders bear by habit: its own, that of its program, that of its account."""
    account = service.account.user if service.account else ""
    return [name for name in dict.fromkeys((*own_names_of(service), account)) if _is_name(name)]


def own_names_of(service: Service) -> list[str]:
    """Those that no other service has: its own and that of its program."""
    stems = [name.rpartition(".")[0].partition("@")[0] for name in (service.name, *service.aliases)]
    program = service.program.path.rpartition("/")[2] if service.program else ""
    found = (*stems, program, *(stem.removesuffix("-server") for stem in stems))
    return [name for name in dict.fromkeys(found) if _is_name(name)]


def _is_name(name: str) -> bool:
    return bool(name) and name != "root" and "/" not in name and name[0] != "."


def folder_of(service: Service) -> str:
    """The folder that its definition has its program begin in (systemd.exec(5), "WorkingDirectory="); empty where it sets none, as who
    begins in the root goes elsewhere by himself, or where paths mean something else to it."""
    program = service.program
    if program is None or program.root or not program.path.startswith("/"):
        return ""
    return program.folder if program.folder.startswith("/") else ""


def is_of_instance(service: Service, path: str) -> bool:
    """Whether a path bears the name of the instance that *service* is."""
    name = service.instance
    found = re.search(rf"(?<![A-Za-z0-9]){re.escape(name)}(?![A-Za-z0-9])", path.rpartition("/")[2]) if name else None
    return found is not None and any(map(str.isalnum, name))

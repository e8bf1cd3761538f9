"""How things of a service are named by habit."""

from __future__ import annotations

import re

from hollow_chain.facts.service import Program, Service
from hollow_chain.lazy import pattern

NOT_LOADED = "not loaded"
"""The state of a definition that the manager has not taken up, so that it is known from its file alone."""


def names_of(service: Service) -> list[str]:
    """The names that a service's own folders bear by habit: its own, that of its program, that of its account."""
    account = service.account.user if service.account else ""
    return [name for name in dict.fromkeys((*own_names_of(service), account)) if _is_name(name)]


def own_names_of(service: Service) -> list[str]:
    """Those that no other service has: its own and that of its program."""
    stems = [name.rpartition(".")[0].partition("@")[0] for name in (service.name, *service.aliases)]
    program = _name_of_program(service.program) if service.program else ""
    found = (*stems, program, *(stem.removesuffix("-server") for stem in stems))
    return [name for name in dict.fromkeys(found) if _is_name(name)]


_INTERPRETERS = pattern(
    r"(?i)(?:python|perl|ruby|node|nodejs|deno|bun|java|bash|sh|dash|ksh|zsh|php|lua|luajit|tclsh|guile|erl|escript|env|mono|dotnet|cmd|"
    r"wscript|cscript|powershell|pwsh)[\d.]{0,8}(?:\.exe)?"
)


def is_interpreter(name: str) -> bool:
    """Whether a program of that name runs the programs of others: what it runs is told by its arguments."""
    return _INTERPRETERS.fullmatch(name) is not None


def _name_of_program(program: Program) -> str:
    """The name of what a service runs: of a script, where an interpreter runs it."""
    name = program.path.rpartition("/")[2]
    if not is_interpreter(name):
        return name
    script = next((word for word in program.arguments[1:2] if word.startswith("/")), "")
    return script.rpartition("/")[2].partition(".")[0]


def _is_name(name: str) -> bool:
    return bool(name) and name != "root" and "/" not in name and name[0] != "."


def folder_of(service: Service) -> str:
    """The folder that its definition has its program begin in (systemd.exec(5), "WorkingDirectory="); empty where it sets none, as who
    begins in the root goes elsewhere by himself, or where paths mean something else to it."""
    program = service.program
    if program is None or program.root or not program.path.startswith("/"):
        return ""
    return program.folder if program.folder.startswith("/") else ""


_PROGRAMS = ("/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin")
"""Where the manager has services seek programs if nothing else is set (systemd.exec(5), ``PATH``)."""
_MOST_BESIDE = 6
"""Folders beside which files are sought: a command line may name any number of paths."""


def folders_of_programs(service: Service) -> tuple[str, ...]:
    """The folders in which a service seeks the commands that it runs, in their order (environ(7), ``PATH``)."""
    given = next((one[5:] for one in (service.program or Program()).environment if one.startswith("PATH=/")), "")
    return tuple(dict.fromkeys(one.rstrip("/") for one in given.split(":") if one.startswith("/")))[:20] or _PROGRAMS


def beside(service: Service) -> tuple[str, ...]:
    """The folders of its program and of the files that its command line names: what it names without a folder may lie there."""
    program = service.program or Program()
    named = [path for path in (program.path, *program.arguments[1:], *program.own_folders) if path.startswith("/")]
    above = [path if path in program.own_folders else path.rpartition("/")[0] for path in named]
    return tuple(dict.fromkeys(one for one in above if one and one not in _PROGRAMS))[:_MOST_BESIDE]


def is_of_instance(service: Service, path: str) -> bool:
    """Whether a path bears the name of the instance that *service* is."""
    name = service.instance
    found = re.search(rf"(?<![A-Za-z0-9]){re.escape(name)}(?![A-Za-z0-9])", path.rpartition("/")[2]) if name else None
    return found is not None and any(map(str.isalnum, name))

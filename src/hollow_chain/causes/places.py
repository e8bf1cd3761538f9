"""Which files are a service's to be changed: those that its definition gives it, and nothing else.

What a log says decides nothing here. Definitions are root's; words, and files that a service writes itself, are not. A path that
only a log names is never changed by a machine, however right it looks: ``docs/safety.md``.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes.case import Case
from hollow_chain.facts.host import File
from hollow_chain.facts.service import Service
from hollow_chain.lazy import pattern

_OF_THE_SYSTEM = pattern(
    r"/(?:etc|usr|var|bin|sbin|lib\w*|boot|dev|proc|sys|run|home|root|opt|srv|mnt|media|tmp|var/(?:lib|log|run|cache|spool|tmp|lock|mail)|"
    r"run/lock|lib/systemd)?"
)
"""Folders of the system as such (hier(7)): whatever is wrong there, opening them to an account is no mend."""
_CLOSED = (
    "/etc", "/usr", "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/boot", "/efi", "/dev", "/proc", "/sys", "/root",
    "/run/user", "/run/systemd", "/run/log", "/var/lib/systemd", "/var/lib/private", "/var/log/private", "/var/cache/private",
    "/var/log/journal", "/var/lib/dpkg", "/var/lib/rpm", "/var/spool/cron", "/var/spool/mail", "/var/lib/hollow-chain",
)  # fmt: skip
"""What lies below these is the system's or its administrator's, but for the configuration folders that a definition gives."""
_BY_NAME = ("/var/lib", "/var/log", "/var/cache", "/var/spool", "/run", "/var/run")
"""Where a service's own folder lies under its own name (hier(7), file-hierarchy(7))."""
_RUNTIME = ("/run", "/var/run", "/run/lock", "/var/lock")
_BREAKS = pattern(r"[\s'\";|&<>()=,`$]+")
_LOCK_NAME = pattern(r"(?i)lock|\.?pid$|sock(?:et)?$")


_MADE_NAME = pattern(r"(?i)lock|\.?pid$|sock(?:et)?$|\.log$")


def is_made_by_name(path: str) -> bool:
    """Whether a file has the name of what a program makes when it starts: a lock, the number of its process, a socket, a log."""
    return bool(_MADE_NAME.search(path.rpartition("/")[2]))


_WRITTEN = ("/var", "/run", "/srv", "/tmp")
"""Where programs write; elsewhere they only read, as long as they do not say otherwise (hier(7))."""


def is_written(path: str) -> bool:
    """Whether a place is one for data, which programs make and write themselves."""
    return any(inside(path, place) for place in _WRITTEN)


def inside(path: str, place: str) -> bool:
    """Whether *path* is *place* or lies below it."""
    return (path + "/").startswith(place.rstrip("/") + "/")


_DEVICES = pattern(r"/dev/(?!(?:shm|mqueue|hugepages|pts|fd|log|std(?:in|out|err)|initctl)(?:/|$)).")
"""Names below /dev but for those of files in memory, sockets and what a process has open (hier(7), fd(4), shm_overview(7))."""


def is_device(path: str) -> bool:
    """Whether *path* is the name of a device."""
    return bool(_DEVICES.match(path))


def is_of_the_system(path: str) -> bool:
    """Whether a folder is one of the system as such, which no single service is to be given."""
    return bool(_OF_THE_SYSTEM.fullmatch(path.rstrip("/") or "/"))


def given(case: Case, path: str) -> str:
    """By what the service is given *path*, so that a machine may change owner or mode there; empty where it is not."""
    if not _is_plain(path) or is_of_the_system(path) or _is_of_another_package(case, path):
        return ""
    for place, why in _places(case):
        if inside(path, place) and not is_of_the_system(place) and (why == _FOLDERS or not is_closed(path)):
            return why
    # Whoever runs as the service may have written its settings: what they name is its own only if it is its account's already.
    named = _is_named_in_settings(case.service, path) or path in words_of(case.service)
    if named and _is_owned(case, path) and not is_closed(path):
        return "its definition or its settings name it, and its account owns it"
    return ""


def is_own_program(case: Case, path: str) -> bool:
    """Whether *path* is a program that the definition itself runs, and nobody else's package brought."""
    if not _is_plain(path) or _is_of_another_package(case, path):
        return False
    return case.service.program is not None and path == case.service.program.path


def may_be_removed(case: Case, file: File) -> bool:
    """Whether a file is a lock, PID file or socket of the service's own, by name and place. That its process is gone is another
    question, and whoever asks has to have answered it."""
    path, program = file.path, case.service.program
    if not _is_plain(path) or file.kind not in ("file", "socket") or file.link_to or file.package or program is None:
        return False
    folder, _, name = path.rpartition("/")
    own = given(case, path)
    if not _LOCK_NAME.search(name) or not (folder in _RUNTIME or own):
        return False
    if file.kind == "socket" and own in (_FOLDERS, _OF_ITS_NAME):
        return True
    used = {program.pid_file, *program.settings_paths, *program.paths, *words_of(case.service)}
    return path in used or any(_bears(name, stem) for stem in _stems(case.service))


def uses(case: Case, path: str) -> bool:
    """Whether the definition or the settings of the service name *path*, or it lies in a place of the service's own."""
    return bool(given(case, path)) or path in words_of(case.service) or _is_named_in_settings(case.service, path)


_FOLDERS = "a folder of its own by its definition"
_OF_ITS_NAME = "a folder of its own name"


def _places(case: Case) -> Iterator[tuple[str, str]]:
    """The places that the definition gives, each with how."""
    service = case.service
    program, confinement = service.program, service.confinement
    for folder in program.own_folders if program else ():
        yield folder, _FOLDERS
    for folder in confinement.writable if confinement else ():
        yield folder, "its definition lets it write there"
    if program is not None and program.folder:
        yield program.folder, "its working folder"
    for root in _BY_NAME:
        for stem in _stems(service):
            yield f"{root}/{stem}", _OF_ITS_NAME


def words_of(service: Service) -> list[str]:
    """The paths that the command line and the environment of the definition name, within longer arguments too."""
    program = service.program
    if program is None:
        return []
    texts = [*program.arguments[1:], *program.environment]
    words = [word.rstrip("/") for text in texts for word in _BREAKS.split(text[:4000]) if word.startswith("/")]
    return [word for word in dict.fromkeys([*words, program.pid_file]) if word.count("/") > 1][:100]


def _is_named_in_settings(service: Service, path: str) -> bool:
    program = service.program
    return program is not None and path in {*program.log_files, *program.settings_paths, *program.paths}


def _stems(service: Service) -> list[str]:
    """The names that folders and files of a service bear: its own, without kind and instance. Not its account's: several services
    share one, and some of them (``mail``, ``user``) have folders that are everybody's."""
    names = [name.rpartition(".")[0].partition("@")[0] or name for name in (service.name, *service.aliases)]
    found = [*names, *(name.removesuffix("-server") for name in names)]
    return [name for name in dict.fromkeys(found) if len(name) > 1 and "/" not in name and name not in ("root", "..")]


def _bears(name: str, stem: str) -> bool:
    return bool(re.match(rf"\.?{re.escape(stem)}(?![A-Za-z0-9])", name))


def _is_plain(path: str) -> bool:
    return (
        path.startswith("/")
        and "/../" not in f"{path}/"
        and "//" not in path
        and path.isprintable()
        and len(path) < 1000
    )


def is_closed(path: str) -> bool:
    """Whether a path lies where the system or its administrator has its files."""
    return any(inside(path, place) for place in _CLOSED)


def _packages(case: Case, path: str) -> set[str]:
    file = case.file(path)
    return set(file.package.split(", ")) - {""} if file is not None else set()


def _is_owned(case: Case, path: str) -> bool:
    file, account = case.file(path), case.service.account
    return file is not None and account is not None and bool(account.user) and file.owner == account.user


def _is_of_another_package(case: Case, path: str) -> bool:
    definition = case.service.definition
    own = _packages(case, definition.file) if definition is not None and definition.file else set()
    theirs = _packages(case, path)
    return bool(theirs) and not own & theirs

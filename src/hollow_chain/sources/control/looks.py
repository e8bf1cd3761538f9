"""Looking at what services name: programs, libraries, files and folders, with their owners and lists."""

from __future__ import annotations

import stat
from datetime import UTC, datetime

from hollow_chain.facts.host import File
from hollow_chain.facts.service import Service
from hollow_chain.reach.control import ControlReached, Declined
from hollow_chain.reach.handles import NotOpened
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.control.services import NEVER_TRIED
from hollow_chain.sources.reading import HostReading

_HEAD_BYTES = 4096
"""What is read of a program: its head says where the description of its machine stands, nearly always within the first page."""
_MOST_ABOVE = 40
_MACHINES = {0x014C: "i386", 0x8664: "x86_64", 0xAA64: "aarch64", 0x01C4: "arm"}
"""The PE format, "Machine Types"."""
_BY_COMMAND = (".bat", ".cmd")


class ControlLooker:
    """Looks at paths of a host, each once."""

    def __init__(self, reached: ControlReached) -> None:
        self.seen: dict[str, File] = {}
        self._reached = reached
        self._walker = reached.files.walker(any_link=True)

    def look(self, path: str, is_program: bool = False, with_rights: bool = False) -> File | None:
        """What *path* is, or that it is not there; None where nobody can tell."""
        key = path.replace("/", "\\").casefold()
        # A variable that nothing sets stands for no place at all.
        unset = File(path=path, exists=False) if path.startswith("%") else None
        found = self.seen.get(key) or unset or self._described(path)
        if found is None:
            return None
        self.seen[key] = found
        if not found.exists:
            self._look_above(path)
            return found
        if is_program and found.kind == "file" and not found.format:
            found.format = self._format(path)
        if with_rights and not found.owner:
            self._add_rights(found)
        return found

    def look_way(self, path: str) -> None:
        """Look at *path* and every folder on the way to it, with what their lists say."""
        self.look(path, with_rights=True)
        above = _above(path)
        for _ in range(_MOST_ABOVE):
            if not above:
                return
            self.look(above, with_rights=True)
            above = _above(above)

    def _described(self, path: str) -> File | None:
        try:
            found = self._walker.find(path)
        except NotOpened:
            return None
        except OSError as error:
            # Who may not even look at it knows nothing of it.
            return File(path=path, exists=False) if isinstance(error, FileNotFoundError) else None
        about = found.about
        if about is None:
            return File(path=path, exists=False, link_to=self._reached.files.link(path))
        kind = "folder" if stat.S_ISDIR(about.st_mode) else "file" if stat.S_ISREG(about.st_mode) else "other"
        return File(
            path=path,
            kind=kind,
            size=about.st_size if kind == "file" else None,
            changed_at=_moment(about.st_mtime),
            link_to=self._reached.files.link(path) if found.through_link else "",
        )

    def _look_above(self, path: str) -> None:
        """The nearest folder above an absent path that is there."""
        above = _above(path)
        for _ in range(_MOST_ABOVE):
            if not above:
                return
            key = above.replace("/", "\\").casefold()
            found = self.seen.get(key) or self._described(above)
            if found is None:
                return
            self.seen[key] = found
            if found.exists:
                return
            above = _above(above)

    def _add_rights(self, file: File) -> None:
        try:
            rights = self._reached.rights(file.path)
        except Declined:
            return
        file.owner, file.acl = rights.owner, rights.entries

    def _format(self, path: str) -> str:
        try:
            head = self._walker.read(path, _HEAD_BYTES).data
        except OSError:
            return ""
        return "script" if path.lower().endswith(_BY_COMMAND) else program_format(head)


def program_format(head: bytes) -> str:
    """What the first bytes of a program say: its format, and the machine that it is for (the PE format, "File Headers")."""
    if not head:
        return "empty"
    if head.startswith(b"\x7fELF"):
        return "elf"
    if not head.startswith(b"MZ") or len(head) < 64:
        return "unknown"
    at = int.from_bytes(head[60:64], "little")
    if at + 6 > len(head):
        return "pe" if at < 1 << 28 and len(head) >= _HEAD_BYTES else "unknown"
    if head[at : at + 4] != b"PE\0\0":
        return "unknown"
    machine = int.from_bytes(head[at + 4 : at + 6], "little")
    return f"pe {_MACHINES.get(machine, f'machine {machine}')}"


def _above(path: str) -> str:
    """The folder above; empty above the root of a drive."""
    head = path.replace("/", "\\").rstrip("\\").rpartition("\\")[0]
    return f"{head}\\" if len(head) == 2 else head


def _moment(seconds: float) -> datetime | None:
    return datetime.fromtimestamp(seconds, UTC) if 0 < seconds < 1e11 else None


def look(reading: HostReading) -> None:
    """Look at the programs of services that do not run, and at all that failed ones name."""
    looker = ControlLooker(control(reading))
    for service in reading.host.services:
        program = service.program
        if program is None or service.state == "running":
            continue
        looker.look(program.path, is_program=True)
        if program.library:
            looker.look(program.library, is_program=True)
        for path in (program.folder, *program.paths, *program.log_files):
            if path:
                looker.look(path)
        if has_failed(service):
            _look_closely(looker, service, reading)
    reading.host.files = list(looker.seen.values())


def has_failed(service: Service) -> bool:
    """Whether its last start or run failed, as far as its own facts tell."""
    number = service.last.error_number if service.last is not None else None
    return service.state in ("starting", "stopping", "stopped") and number not in (None, 0, NEVER_TRIED)


def _look_closely(looker: ControlLooker, service: Service, reading: HostReading) -> None:
    from hollow_chain.wording.things import paths_in

    program = service.program
    assert program is not None
    quoted = [path for e in reading.host.events if e.service == service.name for path in paths_in(e.text)]
    for path in dict.fromkeys([program.path, program.library, *program.paths, *program.log_files, *quoted][:60]):
        if path:
            looker.look_way(path)

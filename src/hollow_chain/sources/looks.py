"""Looking at what services name: files, folders, programs. Reads metadata and a program's first bytes."""

from __future__ import annotations

import errno
import posixpath
import stat
import struct
from contextlib import suppress
from datetime import UTC, datetime

from hollow_chain.facts.host import File
from hollow_chain.reach.file_locks import FileLocks
from hollow_chain.reach.handles import Found, NotOpened
from hollow_chain.reach.interfaces import Files, Reached
from hollow_chain.wording.x509 import validity

_LOCK_BYTES, _HEAD_BYTES, _CERTIFICATE_BYTES = 64, 256, 1 << 16
"""What is read of a lock (the number of a process), of a program (its kind; the kernel reads as much, execve(2)), and of a file with
certificates, of which the first counts."""
_MOST_LINKS = 6
"""Links and interpreters behind a program that are followed: an interpreter of an environment of its own is a link to a link."""
_LONGEST_PATH = 4000
"""Bytes of a path: the kernel takes no longer one (path_resolution(7), ``PATH_MAX``)."""
_MOST_SIBLINGS = 20
"""Files of other instances that are listed: enough to see how they are named."""

_KINDS = {
    stat.S_IFREG: "file",
    stat.S_IFDIR: "folder",
    stat.S_IFSOCK: "socket",
    stat.S_IFBLK: "device",
    stat.S_IFCHR: "device",
}
# elf(5), e_machine: the ones a server is likely to be.
_MACHINES = {
    3: "i386",
    40: "arm",
    62: "x86_64",
    183: "aarch64",
    243: "riscv64",
    22: "s390x",
    21: "ppc64",
    8: "mips",
}


class Looker:
    """Looks at paths of this machine, each once; stays off network file systems, which may never answer.

    Links are followed here, as the service itself would follow them: it is only told what stands at their end. Content is read of
    locks and programs alone, of the first a number, of the second what kind of program it is.
    """

    def __init__(self, reached: Reached) -> None:
        self.seen: dict[str, File] = {}
        self.passed_over: list[str] = []
        self._reached = reached
        self._walker = reached.files.walker(any_link=True)
        self._careful = reached.files.walker()
        self._names: dict[tuple[str, int], str] = {}
        self._locks: FileLocks | None = None

    def close(self) -> None:
        """Let go of the folders that it has come through."""
        self._walker.close()
        self._careful.close()

    def look(self, path: str, is_program: bool = False, instance: str = "") -> File | None:
        """What *path* is, or that it is not there; with its format where it is a program.

        For an absent file that carries the name of an *instance*, the files of other instances are listed.
        """
        if not path.startswith("/") or "\0" in path or len(path) > _LONGEST_PATH:
            return None
        known = self.seen.get(path)
        if known is not None and not (is_program and known.exists and not known.format):
            return known
        if self._is_off_limits(path):
            self.passed_over.append(path)
            return None
        described = self._described(path)
        if described is None:
            return None
        # Another may have looked meanwhile, where looks wait for a far host.
        found = self.seen.setdefault(path, described)
        if is_program and found.exists and found.kind == "file" and not found.format:
            self._add_format(found)
        if not found.exists and found is described:
            found.siblings = _siblings(path, instance, self._reached.files) if instance else []
            self._look_behind(found)
            self._look_above(path)
        return found

    def _look_behind(self, link: File) -> None:
        """Look at where a link leads that leads to nothing: it may be one to the next."""
        for _ in range(_MOST_LINKS):
            if link.exists or not link.link_to:
                return
            path = posixpath.normpath(posixpath.join(link.path.rpartition("/")[0] or "/", link.link_to))
            if path in self.seen or self._is_off_limits(path) or len(path) > _LONGEST_PATH:
                return
            found = self._described(path)
            if found is None:
                return
            link = self.seen.setdefault(path, found)

    def look_below(self, root: str, path: str) -> str:
        """Look at a program at *path*, and at its interpreter, as one whose root folder is *root* sees them. Gives the path; empty where
        it cannot be told what lies there: a link from the root on means something else to each of the two."""
        if not path or self._leads_out(root, path):
            return ""
        found = self.look(path, is_program=True)
        if found is not None and found.interpreter.startswith("/"):
            inner = root.rstrip("/") + found.interpreter
            described = None if self._leads_out(root, inner) else self._described(inner)
            found.interpreter_exists = described.exists if described is not None else None
        return path

    def _leads_out(self, root: str, path: str) -> bool:
        parts = path[len(root) :].strip("/").split("/")
        places = ["/".join([root.rstrip("/"), *parts[:depth]]) for depth in range(1, len(parts) + 1)]
        links = (self._reached.files.link(place) for place in places)
        return any(link.startswith("/") or ".." in link.split("/") for link in links)

    def look_way(self, path: str) -> None:
        """Look at *path* and at every folder on the way to it: any of them may keep an account out."""
        self.look(path)
        parts = path.split("/")
        for depth in range(2, len(parts)):
            self.look("/".join(parts[:depth]))

    def look_at_run(self, program: str) -> None:
        """Look at every folder on the way to *program*, to its interpreter, and to where links lead from there: what keeps an account
        from any of them keeps it from the program."""
        path = program
        for _ in range(_MOST_LINKS):
            self.look_way(path)
            found = self.seen.get(path)
            after = (found.link_to or found.interpreter) if found is not None else ""
            if not after:
                return
            path = after if after.startswith("/") else f"{path.rpartition('/')[0]}/{after}"

    def look_for_reports(self, path: str, arguments: list[str]) -> None:
        """See whether anything in a program speaks of reporting to the manager (sd_notify(3)); of one that may run another one, by its
        *arguments*, nothing of that kind is no proof."""
        file = self.look(path, is_program=True)
        if file is None or not file.exists or file.speaks_of_reports is not None:
            return
        if any(word.decode() in argument for argument in arguments for word in _REPORTING):
            file.speaks_of_reports = True
            return
        found = self._speaks_of_reports(path)
        runs_another = (
            not file.format.startswith("elf") or any(map(self._may_be_run, arguments)) or _is_word(arguments[:1])
        )
        file.speaks_of_reports = None if found is False and runs_another else found

    def _may_be_run(self, argument: str) -> bool:
        """Whether an argument may be a program, or the text of one."""
        if any(sign in argument for sign in " \n;$"):
            return True
        file = self.look(argument)
        return file is not None and file.exists and file.kind == "file" and not argument.startswith("/etc/")

    def _speaks_of_reports(self, path: str) -> bool | None:
        try:
            content = self._walker.read(path, _MOST_OF_PROGRAM)
        except (NotOpened, OSError, ValueError):
            return None
        if any(word in content.data for word in _REPORTING):
            return True
        return None if len(content.data) >= _MOST_OF_PROGRAM else False

    def names(self, folder: str, most: int) -> list[str]:
        """The names in a folder, *most* at the most; none where it cannot be read, or is off limits."""
        return [] if self._is_off_limits(folder) else self._careful.names(folder, most)

    def add_holder(self, path: str) -> None:
        """Add to a file which process has a lock on it, by the kernel's table alone."""
        file = self.seen.get(path)
        if file is None or not file.exists or file.kind != "file":
            return
        if self._locks is None:
            self._locks = self._reached.processes.locks()
        if self._locks:
            try:
                about = self._careful.find(path).about
            except OSError:
                return
            file.held_by = file.held_by or (self._locks.holder(about) if about is not None else 0)

    def add_fixed(self, path: str) -> None:
        """Add to a file or a folder whether a flag keeps everybody from changing it."""
        file = self.seen.get(path)
        if file is not None and file.exists and file.kind in ("file", "folder"):
            with suppress(OSError, ValueError):
                file.fixed = self._careful.fixed(self._careful.find(path))

    def add_lock(self, file: File) -> None:
        """Add to a lock or PID file which process holds or names it, and whether that process runs."""
        if not file.exists or file.kind != "file":
            return
        if self._locks is None:
            self._locks = self._reached.processes.locks()
        try:
            content = self._careful.read(file.path, _LOCK_BYTES)
        except OSError:
            return
        file.held_by = self._locks.holder(content.about)
        words = content.data.split()
        if words and words[0].isdigit() and len(words[0]) < 10:
            file.names_process = int(words[0])
            file.process_runs = self._reached.processes.runs(file.names_process)

    def add_validity(self, file: File) -> None:
        """Add to a certificate how long it is valid."""
        try:
            content = self._careful.read(file.path, _CERTIFICATE_BYTES)
        except (OSError, ValueError):
            return
        found = validity(content.data)
        if found is not None:
            file.valid_from, file.valid_until = found.since, found.until

    def _is_off_limits(self, path: str) -> bool:
        return any(path == mount or path.startswith(mount + "/") for mount in self._walker.off_limits)

    def _described(self, path: str) -> File | None:
        try:
            found = self._walker.find(path)
        except (FileNotFoundError, NotADirectoryError):
            return File(path=path, exists=False, link_to=self._reached.files.link(path))
        except NotOpened as refused:
            if refused.errno == errno.EREMOTE:
                self.passed_over.append(path)
            return self._in_a_circle(path) if refused.errno == errno.ELOOP else None
        except OSError as error:
            return self._in_a_circle(path) if error.errno == errno.ELOOP else None
        except ValueError:
            return None
        about = found.about
        led = found.path if found.through_link else ""
        if about is None:
            return File(path=path, exists=False, link_to=self._reached.files.link(path) or led)
        kind = _KINDS.get(stat.S_IFMT(about.st_mode), "other")
        return File(
            path=path,
            kind=kind,
            owner=self._name("user", about.st_uid),
            group=self._name("group", about.st_gid),
            mode=f"{stat.S_IMODE(about.st_mode):04o}",
            size=about.st_size if kind == "file" else None,
            changed_at=_moment(about.st_mtime),
            altered_at=_moment(about.st_ctime),
            executable=bool(about.st_mode & 0o111) if kind == "file" else None,
            # A link of others on the way counts like one in the last place: the path means what its maker wants.
            link_to=self._reached.files.link(path) or led,
            acl=self._acl(found),
        )

    def _in_a_circle(self, path: str) -> File | None:
        """A link from which links lead no way out (path_resolution(7)): to whoever follows it, nothing is there."""
        led = self._reached.files.link(path)
        return File(path=path, exists=False, link_to=led) if led else None

    def _acl(self, found: Found) -> list[str]:
        """The entries of the access control list of *path* beyond owner and others; empty where it has none."""
        try:
            data = self._walker.attribute(found, _ACL)
        except OSError:
            return []
        return [
            f"{kind}:{self._name(kind, number) if number is not None else ''}:{rights}"
            for kind, number, rights in acl_entries(data)
        ]

    def _look_above(self, path: str) -> None:
        """The nearest folder above an absent path that is there: it says how far the path leads."""
        folder = path.rpartition("/")[0]
        while len(folder) > 1 and folder not in self.seen:
            found = self._described(folder)
            if found is None:
                return
            found = self.seen.setdefault(folder, found)
            if found.exists:
                return
            folder = folder.rpartition("/")[0]

    def _name(self, kind: str, number: int) -> str:
        if (kind, number) not in self._names:
            accounts = self._reached.accounts
            try:
                name = accounts.user_name(number) if kind == "user" else accounts.group_name(number)
            except (KeyError, OverflowError):
                name = str(number)
            self._names[kind, number] = name
        return self._names[kind, number]

    def _add_format(self, file: File) -> None:
        try:
            head = self._walker.read(file.path, _HEAD_BYTES).data
        except OSError:
            return
        file.format, file.interpreter = program_format(head)
        if file.interpreter.startswith("/"):
            found = self._described(file.interpreter)
            file.interpreter_exists = found.exists if found is not None else None


def _moment(seconds: float) -> datetime | None:
    """A moment of a file; None where it is none that a calendar knows."""
    return datetime.fromtimestamp(seconds, UTC) if 0 < seconds < 1e11 else None


def _is_word(first: list[str]) -> bool:
    """Whether the first argument is a word that may be the name of a command, and no option, number or path."""
    return bool(first) and first[0][:1].isalpha()


_MOST_OF_PROGRAM = 96 << 20
"""Bytes of a program that are gone through: the largest daemons have some eighty megabytes, and are read within a tenth of a second."""
_REPORTING = (
    b"NOTIFY_SOCKET",
    b"sd_notify",
    b"sdnotify",
    b"libsystemd",
    b"systemd-notify",
    b"SdNotify",
    b"systemd.daemon",
)
"""Words without which nothing reports: the variable that the manager sets, and what libraries for it are called."""
_ACL = "system.posix_acl_access"
_ACL_KINDS = {0x02: "user", 0x04: "group", 0x08: "group", 0x10: "mask"}
_ACL_NAMED = (0x02, 0x08)
"""Kinds of entries that name an account (acl(5), ``ACL_USER`` and ``ACL_GROUP``)."""


def acl_entries(data: bytes) -> list[tuple[str, int | None, str]]:
    """The entries of a list as the kernel stores it: kind, number of the account where one is named, rights.

    A version (2) and entries of tag, rights and ID, little-endian (``linux/posix_acl_xattr.h``). Owner and others are
    left out: the mode says them.
    """
    if len(data) < 4 or int.from_bytes(data[:4], "little") != 2:
        return []
    found: list[tuple[str, int | None, str]] = []
    for tag, bits, number in struct.iter_unpack("<HHI", data[4 : 4 + (len(data) - 4) // 8 * 8]):
        if tag in _ACL_KINDS:
            rights = "".join(letter if bits & bit else "-" for letter, bit in (("r", 4), ("w", 2), ("x", 1)))
            found.append((_ACL_KINDS[tag], number if tag in _ACL_NAMED else None, rights))
    return found


def program_format(head: bytes) -> tuple[str, str]:
    """What the first bytes of a program say: its format, and the interpreter of a script (execve(2), elf(5))."""
    if not head:
        return "empty", ""
    if head.startswith(b"\x7fELF") and len(head) >= 20:
        order = "big" if head[5] == 2 else "little"
        machine = int.from_bytes(head[18:20], order)  # type: ignore[arg-type]
        return f"elf {_MACHINES.get(machine, f'machine {machine}')}", ""
    if head.startswith(b"#!"):
        # Spaces and tabs part it (execve(2), "Interpreter scripts"): a carriage return is a part of the name.
        words = head[2:].split(b"\n", 1)[0].decode("utf-8", "replace").strip(" \t").replace("\t", " ").split(" ")
        return "script", words[0]
    if head.startswith(b"MZ"):
        return "pe", ""
    return "unknown", ""


def _siblings(path: str, instance: str, files: Files) -> list[str]:
    if instance not in path.rpartition("/")[2]:
        return []
    pattern = "*".join(files.literally(part) for part in path.split(instance))
    return files.matching(pattern)[:_MOST_SIBLINGS]

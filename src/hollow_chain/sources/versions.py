"""Which versions there are of packages, definitions and settings: by these many hosts are compared.

Installed packages are read from the lists that package managers keep as text: dpkg(1), ``/var/lib/dpkg/status``; apk(8),
``/lib/apk/db/installed``. The database of RPM is none, so that nothing is said of it.
"""

from __future__ import annotations

import hashlib
import stat
from collections.abc import Callable, Iterator
from typing import NamedTuple

from hollow_chain.facts.host import File, Package, Unread
from hollow_chain.reach.handles import Content, Walker
from hollow_chain.reach.interfaces import Files
from hollow_chain.sources.reading import HostReading
from hollow_chain.wording.secrets import mask_texts

_MOST_STATUS = 64 << 20
"""Bytes of a list of packages that are read: ten thousand packages have some thirty million."""
_MOST_PACKAGES = 20_000
_MOST_TEXT = 256 << 10
"""Bytes of a file whose text is compared: definitions and settings have some thousand; what is longer holds data."""
_WRITTEN_AS_IT_RUNS = ("/run/", "/var/", "/tmp/", "/proc/", "/dev/", "/sys/")
"""Places that services write to as they run (hier(7)): no settings."""


class _PackageList(NamedTuple):
    """A list of installed packages that is a text."""

    path: str
    read: Callable[[str], Iterator[Package]]


def add(reading: HostReading) -> None:
    """The packages of a host, and the versions of the definitions and settings of its services."""
    _add_packages(reading)
    _add_digests(reading)


def _add_packages(reading: HostReading) -> None:
    files = reading.reached.files
    for one in _LISTS:
        if not files.exists(one.path):
            continue
        try:
            content = reading.walker.read(one.path, _MOST_STATUS)
        except OSError as error:
            reading.host.unread.append(Unread(what="the installed packages", why=f"{one.path}: {error.strerror}"))
            continue
        packages = sorted(one.read(content.data.decode("utf-8", "replace")), key=lambda found: found.name)
        reading.host.packages += packages[:_MOST_PACKAGES]
    if not reading.host.packages and _has_rpm(files):
        reading.host.unread.append(Unread(what="the installed packages", why="the database of RPM is not read"))


def _has_rpm(files: Files) -> bool:
    return any(files.exists(path) for path in ("/var/lib/rpm", "/usr/lib/sysimage/rpm"))


def dpkg_packages(text: str) -> Iterator[Package]:
    """The packages that the status file of dpkg says are installed (dpkg(1), deb822(5))."""
    for paragraph in text.split("\n\n"):
        fields = _fields(paragraph, ("Package", "Status", "Version"), ": ")
        if fields.get("Status", "").endswith(" installed") and fields.get("Package"):
            yield Package(name=fields["Package"][:200], version=fields.get("Version", "")[:200])


def apk_packages(text: str) -> Iterator[Package]:
    """The packages that the database of apk lists (apk(5), "P" and "V")."""
    for paragraph in text.split("\n\n"):
        fields = _fields(paragraph, ("P", "V"), ":")
        if fields.get("P"):
            yield Package(name=fields["P"][:200], version=fields.get("V", "")[:200])


def _fields(paragraph: str, names: tuple[str, ...], sign: str) -> dict[str, str]:
    found: dict[str, str] = {}
    for line in paragraph.split("\n"):
        name, told, value = line.partition(sign)
        if told and name in names:
            found[name] = value.strip()
    return found


_LISTS = (
    _PackageList("/var/lib/dpkg/status", dpkg_packages),
    _PackageList("/lib/apk/db/installed", apk_packages),
)


def _add_digests(reading: HostReading) -> None:
    """Compare by the text: moments differ wherever something was written, the same or not."""
    files = {file.path: file for file in reading.host.files}
    definitions, settings = list(_definitions(reading)), list(_settings(reading, files))
    wanted = list(dict.fromkeys([*definitions, *settings]))
    walker = reading.walker
    reading.reached.files.expect(wanted)
    read = dict(zip(wanted, reading.reached.each(lambda path: _readable(walker, path), wanted), strict=True))
    for path, content in read.items():
        if content is None:
            continue
        if path not in files:
            files[path] = File(path=path)
            reading.host.files.append(files[path])
        files[path].digest = digest_of(content.data)


def _definitions(reading: HostReading) -> Iterator[str]:
    for service in reading.host.services:
        if service.definition is not None and not service.template:
            yield from (path for path in (service.definition.file, *service.definition.drop_ins) if _is_path(path))


def _settings(reading: HostReading, files: dict[str, File]) -> Iterator[str]:
    for service in reading.host.services:
        program = service.program
        if program is None or program.root or service.template:
            continue
        for path in (*program.paths, *program.environment_files):
            file = files.get(path)
            if file is not None and file.exists and file.kind == "file" and path != program.path and is_set(path):
                yield path


def is_set(path: str) -> bool:
    """Whether a file is nothing that services write to as they run."""
    return _is_path(path) and not path.startswith(_WRITTEN_AS_IT_RUNS)


def _is_path(path: str) -> bool:
    return path.startswith("/") and "\0" not in path


def _readable(walker: Walker, path: str) -> Content | None:
    """A file whose text is nobody's secret: every account of the host may read it."""
    try:
        about = walker.find(path).about
        if about is None or not stat.S_ISREG(about.st_mode) or not 0 < about.st_size <= _MOST_TEXT:
            return None
        content = walker.read(path, _MOST_TEXT)
    except (OSError, ValueError):
        return None
    return content if content.about.st_mode & stat.S_IROTH else None


def digest_of(data: bytes) -> str:
    """What tells one version of a text from another; its secrets are masked before, so that nobody guesses them from it."""
    if b"\0" in data:
        return hashlib.sha256(data).hexdigest()[:_DIGITS]
    masked = "\n".join(mask_texts(data.decode("utf-8", "replace").splitlines()))
    return hashlib.sha256(masked.encode("utf-8", "replace")).hexdigest()[:_DIGITS]


_DIGITS = 16
"""Of a digest: 64 bits, by which a million versions are told apart with certainty enough."""

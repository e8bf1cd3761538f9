"""Which package brought a file: what a package or the system owns is not a service's to be changed.

Read from the lists that the package manager keeps (dpkg(1), "/var/lib/dpkg/info"). Where there are none, nothing is said.
"""

from __future__ import annotations

from hollow_chain.facts.host import File
from hollow_chain.reach.handles import Walker
from hollow_chain.sources.reading import HostReading

_LISTS = "/var/lib/dpkg/info"
_SUFFIX = ".list"
MAX_LIST = 16 << 20
"""Bytes of the list of one package that are read; the largest packages have some ten thousand files."""
_MERGED = ("/bin/", "/sbin/", "/lib/", "/lib32/", "/lib64/", "/libx32/")
"""Folders that became links to the same ones below /usr (hier(7)); lists name files by either."""


def add(reading: HostReading) -> None:
    """Tell of every file that was looked at, and of every definition of a service, which package brought it."""
    host = reading.host
    files = {file.path: file for file in host.files}
    for service in host.services:
        path = service.definition.file if service.definition is not None else ""
        if path and path not in files:
            files[path] = File(path=path)
            host.files.append(files[path])
    owners = owners_of(set(files), reading.walker)
    for path, file in files.items():
        file.package = ", ".join(sorted(owners.get(path, ())))


def owners_of(paths: set[str], walker: Walker) -> dict[str, set[str]]:
    """The packages of each of *paths* that any names; folders may have several."""
    spelled = {one.encode(): path for path in paths for one in _spellings(path) if "\n" not in one}
    found: dict[str, set[str]] = {}
    for name in walker.names(_LISTS, 200_000):
        if not name.endswith(_SUFFIX):
            continue
        try:
            lines = walker.read(f"{_LISTS}/{name}", MAX_LIST).data.split(b"\n")
        except OSError:
            continue
        for line in spelled.keys() & lines:
            found.setdefault(spelled[line], set()).add(name.removesuffix(_SUFFIX).partition(":")[0])
    return found


def owners_in(package: str, walker: Walker) -> frozenset[str]:
    """The files that a package brought, by either of their spellings; none where no list of it is kept."""
    names = (f"{package}{_SUFFIX}", *(f"{package}:{arch}{_SUFFIX}" for arch in _ARCHITECTURES))
    for name in names:
        try:
            data = walker.read(f"{_LISTS}/{name}", MAX_LIST).data
        except OSError:
            continue
        return frozenset(one for line in data.decode("utf-8", "replace").splitlines() for one in _spellings(line))
    return frozenset()


_ARCHITECTURES = ("amd64", "arm64", "i386", "armhf", "riscv64", "ppc64el", "s390x")
"""Of packages that are there for several architectures at once the list says for which it is."""


def _spellings(path: str) -> list[str]:
    if path.startswith(_MERGED):
        return [path, f"/usr{path}"]
    return [path, path.removeprefix("/usr")] if path.startswith(tuple(f"/usr{one}" for one in _MERGED)) else [path]

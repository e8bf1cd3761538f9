"""Which package brought a file: what a package or the system owns is not a service's to be changed.

Read from the lists that the package manager keeps (dpkg(1), "/var/lib/dpkg/info"). Where there are none, nothing is said.
"""

from __future__ import annotations

from collections.abc import Iterable

from hollow_chain.facts.host import File
from hollow_chain.reach.handles import PACKAGE_LIST, PACKAGE_LISTS, Walker
from hollow_chain.sources.reading import HostReading

MAX_LIST = 16 << 20
"""Bytes of the list of one package that are read; the largest packages have some ten thousand files."""
_MERGED = ("/bin/", "/sbin/", "/lib/", "/lib32/", "/lib64/", "/libx32/")
"""Folders that became links to the same ones below /usr (hier(7)); lists name files by either."""
_MERGED_INTO = tuple(f"/usr{folder}" for folder in _MERGED)


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
    spelled = {one.encode(): path for path in paths for one in _spelled([path]) if "\n" not in one}
    found: dict[str, set[str]] = {}
    for name, line in walker.whole_lines(PACKAGE_LISTS, PACKAGE_LIST, spelled.keys(), MAX_LIST):
        found.setdefault(spelled[line], set()).add(name.removesuffix(PACKAGE_LIST).partition(":")[0])
    return found


def files_of(packages: Iterable[str], walker: Walker) -> dict[str, frozenset[str]]:
    """The files that each of *packages* brought, by either of their spellings; of those that are gone, or of which no list is kept,
    nothing."""
    wanted = set(packages)
    found: dict[str, frozenset[str]] = {}
    for name in walker.names(PACKAGE_LISTS, 200_000) if wanted else ():
        # Of packages that are there for several architectures at once the list says for which it is.
        package = name.removesuffix(PACKAGE_LIST).partition(":")[0]
        if package not in wanted or not name.endswith(PACKAGE_LIST):
            continue
        try:
            lines = walker.read(f"{PACKAGE_LISTS}/{name}", MAX_LIST).data.decode("utf-8", "replace").splitlines()
        except OSError:
            continue
        found[package] = frozenset(_spelled(lines))
    return found


def _spelled(paths: list[str]) -> set[str]:
    """All of *paths*, each with its other spelling; lists have thousands of lines."""
    found = set(paths)
    found.update([f"/usr{path}" for path in paths if path.startswith(_MERGED)])
    found.update([path[len("/usr") :] for path in paths if path.startswith(_MERGED_INTO)])
    return found

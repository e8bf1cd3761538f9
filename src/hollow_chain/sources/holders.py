"""Who holds files and devices."""

from __future__ import annotations

from collections.abc import Iterable

from hollow_chain.reach.interfaces import Processes


def holders_of(
    names: Iterable[str], paths: Iterable[str], folders: Iterable[str], processes: Processes
) -> list[tuple[str, int]]:
    """Files that processes hold: locked ones that bear one of *names* or lie in one of *folders*, and those of *paths* that are open; with
    the process.

    For log lines that name a file without its folder, or none at all, and for devices, of which the kernel tells no lock.
    """
    wanted, whole, within = set(names), set(paths), set(folders)
    if not wanted and not whole:
        return []
    locked = processes.locks().processes if wanted else set()
    found: dict[str, int] = {}
    for process in processes.numbers():
        if not whole and process not in locked:
            continue
        try:
            targets = processes.open_files(process)
        except OSError:
            continue
        for target in targets:
            folder, _, name = target.rpartition("/")
            if target in whole or (process in locked and (name in wanted or folder in within)):
                found.setdefault(target, process)
    return list(found.items())

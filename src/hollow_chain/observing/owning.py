"""Which of the processes in a trace are the service's own: those that the manager put into its group, and whom they began."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from hollow_chain.observing.call_table import (
    STARTS_ANOTHER,
)
from hollow_chain.observing.trace_text import (
    TracedCall,
    TraceReader,
    unquoted,
)

_MANAGER = 1
"""The process of the manager (systemd(1))."""


def number_of(line: str) -> int:
    digits = line.partition(" ")[0]
    return int(digits) if digits.isdigit() and len(digits) <= 10 else 0


def leader_of(number: int, threads: set[int], parents: dict[int, int]) -> int:
    seen: set[int] = set()
    while number in threads and number in parents and number not in seen:
        seen.add(number)
        number = parents[number]
    return number


def processes_of(
    lines: Sequence[str], unit: str, programs: frozenset[str], known: frozenset[int]
) -> tuple[set[int], set[int], dict[int, int]]:
    """The processes of the service; which numbers are threads; and who began whom."""
    place = unit.replace("\\", "\\\\")
    group = (f"/{place}/cgroup.procs", f"/{place}>")
    reader = TraceReader()
    parents: dict[int, int] = {}
    threads: set[int] = set()
    own, others, last = set[int](), set[int](), 0
    by_group = set(known)
    for line in lines:
        if not any(word in line for word in ("clone", "fork", "execve", _INTO_GROUP)):
            continue
        found = reader.read(line)
        if _INTO_GROUP in line and "O_WRONLY" in line:
            # The manager puts the process that it has just begun into the group; or that process does so itself.
            number = number_of(line)
            if group[0] in line:
                by_group.add(last if number == _MANAGER else number)
            elif _is_of_another(line, place):
                others.add(last if number == _MANAGER else number)
        if not isinstance(found, TracedCall):
            continue
        if found.name in STARTS_ANOTHER and found.value and found.value > 0:
            parents[found.value] = found.process
            if any("CLONE_THREAD" in one for one in found.arguments):
                threads.add(found.value)
            if found.process == _MANAGER:
                last = found.value
                if any(group[1] in one for one in found.arguments):
                    by_group.add(last)
                elif any(_is_of_another(one, place) for one in found.arguments):
                    others.add(last)
        elif found.name == "execve" and found.arguments and unquoted(found.arguments[0]) in programs:
            own.add(found.process)
    # What another service runs may be the same program: an interpreter, a shell.
    others -= by_group
    own -= others | set(_descendants(others, parents))
    own = (own | by_group) - {0, _MANAGER}
    return own | set(_descendants(own, parents)), threads, parents


_INTO_GROUP = "/cgroup.procs"


_UNIT_IN_GROUP = re.compile(r"/([^/\"<>]{1,255}\.(?:service|scope|socket|mount|swap))[/>]")
"""The first unit in the path of a group, which is the one that a process belongs to (see ``groups``); its kinds are those that have
processes (systemd.unit(5))."""


def _is_of_another(text: str, unit: str) -> bool:
    found = _UNIT_IN_GROUP.search(text)
    return found is not None and found[1] != unit


def _descendants(own: set[int], parents: dict[int, int]) -> Iterator[int]:
    children: dict[int, list[int]] = {}
    for child, parent in parents.items():
        children.setdefault(parent, []).append(child)
    left, seen = list(own), set(own)
    while left:
        for child in children.get(left.pop(), ()):
            if child not in seen and child != _MANAGER:
                seen.add(child)
                left.append(child)
                yield child

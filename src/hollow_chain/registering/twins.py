"""Services that are one thing under two names: what failed tries at registering leave behind."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import NamedTuple

from hollow_chain.facts.habits import is_interpreter
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service

_NUMBERED = re.compile(r"[\s_.-]{0,3}(?:\(?\d{1,3}\)?|copy|new|old|test|bak)$", re.IGNORECASE)


class Twin(NamedTuple):
    """A service that looks like another one."""

    name: str
    why: str


def stem_of(name: str) -> str:
    """A name without what people put behind it for a second try, and without its case."""
    return _NUMBERED.sub("", name.removesuffix(".service")).casefold()


def work_of(service: Service) -> tuple[str, ...]:
    """What a service runs: its program, and what tells it from other uses of that; empty where that tells nothing."""
    program = service.program
    if program is None or not program.path:
        return ()
    if program.style == "shared-process" or program.library:  # its process runs others as well
        return (program.library.casefold(),) if program.library else ()
    words = [program.path, *program.arguments[1:]]
    name = re.split(r"[\\/]", program.path)[-1]
    if is_interpreter(name):  # then the script is the program
        script = next((word for word in words[1:] if re.search(r"[\\/]", word)), "")
        return (script.casefold(),) if script else ()
    return tuple(word.casefold() for word in words)


def twins_of(host: Host, new: Service) -> Iterator[Twin]:
    """The services of *host* that look like *new*: they run the same, or bear its name with a number behind it."""
    work, stem = work_of(new), stem_of(new.name)
    for other in host.services:
        if other.kind != "service" or other.name == new.name or other.template:
            continue
        if new.template_of and other.template_of == new.template_of:
            continue
        if work and work_of(other) == work:
            yield Twin(other.name, "which runs the same program with the same arguments")
        elif stem_of(other.name) == stem and work[:1] and work_of(other)[:1] == work[:1] and not new.instance:
            yield Twin(other.name, "which runs the same program, under nearly the same name")


def groups_of(host: Host) -> list[list[Service]]:
    """All services of *host* that are twins of one another, in groups of at least two, by what they run or else by name."""
    by: dict[tuple[str, ...], list[Service]] = {}
    for service in host.services:
        if service.kind != "service" or service.template or service.instance:
            continue
        work = work_of(service)
        if work:
            by.setdefault(("runs", *work), []).append(service)
            by.setdefault(("named", stem_of(service.name), work[0]), []).append(service)
    found: list[list[Service]] = []
    for members in by.values():
        numbered = len({one.name for one in members}) > 1
        if numbered and not any({m.name for m in members} <= {f.name for f in group} for group in found):
            found = [group for group in found if not {f.name for f in group} <= {m.name for m in members}]
            found.append(members)
    return found

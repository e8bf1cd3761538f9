"""The names of ports, as the host itself lists them (services(5))."""

from __future__ import annotations

from hollow_chain.reach.interfaces import Files

_PLACE = "/etc/services"
_MOST_LINES = 20_000
"""Lines of the list that are gone through: the full registry of all ports has some twelve thousand."""


def port_names(files: Files) -> dict[int, frozenset[str]]:
    """The names of each TCP port, the alternative ones included; nothing where the host has no such list."""
    try:
        lines = files.text(_PLACE).splitlines()[:_MOST_LINES]
    except OSError:
        return {}
    found: dict[int, frozenset[str]] = {}
    for line in lines:
        words = line.partition("#")[0].split()
        port, _, protocol = words[1].partition("/") if len(words) > 1 else ("", "", "")
        if protocol == "tcp" and port.isdigit() and len(port) <= 5:
            found[int(port)] = found.get(int(port), frozenset()) | {words[0], *words[2:]}
    return found

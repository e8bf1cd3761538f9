"""What arguments and configuration files say by their general form: endpoints to listen on, log files to write."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

from hollow_chain.facts.service import Claim

MAX_BYTES = 256 << 10
_ENDPOINT = re.compile(
    r"(?im)^[ \t]*(?P<key>[\w.\-]*(?:listen|port|bind|address)[\w.\-]*)[ \t]*[:= \t][ \t]*[\"']?"
    r"(?:(?:tcp|udp|https?)://)?(?:(?P<address>\*|\[[0-9A-Fa-f:]+\]|\d{1,3}(?:\.\d{1,3}){3}|localhost):)?(?P<port>\d{2,5})\b"
)
_OPTION = re.compile(r"^--?(?:[\w\-]*(?:port|listen|bind)[\w\-]*|p)(?:=(?P<value>.*))?$", re.IGNORECASE)
_VALUE = re.compile(r"^(?:(?P<address>[\d.]+|\[[0-9A-Fa-f:]+\]|\*|localhost)?:)?(?P<port>\d{2,5})$")
_LOG = re.compile(r"(?im)^[ \t]*[\w.\-]*log[\w.\-]*[ \t]*[:= \t][ \t]*[\"']?(?P<path>/[^\s\"';,]{2,300})")


def claims_of_arguments(arguments: list[str]) -> list[Claim]:
    """Endpoints among the arguments: the value of an option that speaks of a port or of listening."""
    found: list[Claim] = []
    for option, following in zip(arguments, [*arguments[1:], ""], strict=True):
        named = _OPTION.match(option)
        value = _VALUE.match((named["value"] or following) if named else "")
        if value and 0 < int(value["port"]) < 65536:
            found.append(
                Claim(port=int(value["port"]), address=(value["address"] or "").strip("[]*"), source="arguments")
            )
    return found


def claims_of_text(text: str, source: str) -> list[Claim]:
    """Endpoints in a configuration text, those of a listening word first."""
    found = [
        (
            m["key"].lower(),
            Claim(port=int(m["port"]), address=(m["address"] or "").strip("[]*"), source=f"configuration {source}"),
        )
        for m in _ENDPOINT.finditer(text)
        if 0 < int(m["port"]) < 65536
    ]
    options = [line.split() for line in text.splitlines() if line.startswith("-")]
    for words in options:
        found += [("listen", claim) for claim in claims_of_arguments(words)]
    return [claim for key, claim in sorted(found, key=lambda pair: not re.search("listen|bind", pair[0]))][:32]


def log_paths_of_text(text: str) -> list[str]:
    """Files that a configuration text names as logs."""
    return list(dict.fromkeys(m["path"] for m in _LOG.finditer(text)))[:8]


def texts(paths: Iterable[str]) -> dict[str, str]:
    """The texts of configuration files, as far as they are small plain files."""
    found: dict[str, str] = {}
    for path in paths:
        try:
            place = Path(path)
            if place.is_file() and place.stat().st_size <= MAX_BYTES:
                found[path] = place.read_bytes().decode("utf-8", "replace")
        except OSError:
            continue
    return found


def line_of(path: str, number: int) -> str:
    """One line of a configuration file, cut to a bearable length; empty where it cannot be read."""
    lines = texts([path]).get(path, "").splitlines()
    return lines[number - 1].strip()[:500] if 0 < number <= len(lines) else ""

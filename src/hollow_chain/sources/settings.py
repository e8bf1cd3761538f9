"""What arguments and configuration files say by their general form: endpoints to listen on, log files to write."""

from __future__ import annotations

import re
import stat
from collections.abc import Iterable, Iterator
from functools import lru_cache
from itertools import pairwise
from pathlib import PurePath

from hollow_chain.facts.service import Claim
from hollow_chain.lazy import pattern
from hollow_chain.reach.handles import Walker
from hollow_chain.wording.secrets import mask_text

MOST_FILES = 80
MOST_CLAIMS = 32
"""Files below a folder of settings that are read, and endpoints that are taken from one: some daemons bring a file for each module,
and a list of ports of a firewall is no list of what is listened on."""
MOST_FOUND = 500
"""Settings of a text that speak of ports and addresses, after which no more are looked for."""
_DEPTH = 3
"""Folders below that of the service: as deep as packages lay out their settings."""
_SUFFIXES = ("", ".conf", ".cnf", ".cfg", ".ini", ".yaml", ".yml", ".toml", ".json", ".config")
_ADDRESS = r"\*|\[[0-9A-Fa-f:]+\]|\d{1,3}(?:\.\d{1,3}){3}|localhost|[0-9A-Fa-f]*::[0-9A-Fa-f:]*"
_SETTING = pattern(
    r"(?m)^[ \t]*[\"']?(?P<key>[A-Za-z][\w.\-]*)[\"']?(?:[ \t]*[:=][ \t]*|[ \t]+)(?P<value>[^#\r\n]{0,300})"
)
_ENDPOINT = pattern(
    rf"^[\"']?(?:port[ \t]+)?(?:(?P<scheme>tcp|udp|https?)[:/]+)?(?:(?P<address>{_ADDRESS}):)?(?P<port>\d{{2,5}})(?![\w.:])(?P<rest>[^;]*)"
)
_ALONE = pattern(rf"^[\"'{{ ]*-?(?P<address>{_ADDRESS})(?![\w:.])")
_OPTION = pattern(r"^--?(?P<name>[A-Za-z][\w.\-]*)(?:=(?P<value>.*))?$")
_VALUE = pattern(rf"^(?:(?P<address>{_ADDRESS})?:)?(?P<port>\d{{2,5}})$")
_SHORT = {"p": "port", "l": "listen"}
"""Short options that programs by habit use for a port and an address."""
_WORDS = pattern(r"[_.\-]|(?<=[a-z])(?=[A-Z])")
_NO_PORTS = frozenset({"support", "transport", "report", "import", "export", "passport", "airport", "rapport"})
_OF_OTHERS = pattern(
    r"(?i)remote|peer|upstream|backend|master|primary|smtp|imap|connect|forward|target|dest|report|source|query|outgoing|announce|"
    r"client|max|min|range|proxy_pass|safe|database|db[_.\-]?(?:host|port)|replica|relay|nat"
)
_FALSE = frozenset({"0", "no", "off", "false", "none", "''", '""', "disabled"})
_SWITCHED_OFF = pattern(
    r"(?im)^[ \t]*-{0,2}(?:skip|disable|no)[-_ ]?(?:network(?:ing)?|tcp|listen(?:er)?)\b[ \t]*(?:[:= ][ \t]*(?P<value>\w+))?[ \t;]*$"
)
_NETWORK = pattern(
    r"(?i)(?:^|[_.\-])(?:tcp|network(?:ing)?)(?:$|[_.\-](?:enabled?|listen))|^enable[_.\-]?(?:tcp|network)"
)
_NEGATED = pattern(r"(?i)^(?:skip|disable|no)[_.\-]")
_OWN = pattern(
    r"(?im)^[ \t]{0,40}-{0,2}(?:[\w.\-]{0,40}(?:pid|lock|sock)[\w.\-]{0,40}[ \t]{0,8}[:=]?[ \t]{0,8}[\"']?(?P<path>/[^\s\"';,]{2,300})|"
    r"[\w.\-]{1,60}[ \t]{0,8}[:= \t][ \t]{0,8}[\"']?(?P<named>/[^\s\"';,]{2,300}(?:pid|lock|sock)\b))"
)
_LOG = pattern(
    r"(?im)^[ \t]{0,40}[\w.\-]{0,60}log[\w.\-]{0,60}[ \t]{0,40}[:= \t][ \t]{0,40}[\"']?(?P<path>(?:/|[A-Za-z]:[\\/])[^\s\"';,]{2,300})"
)


def claims_of_arguments(arguments: list[str]) -> list[Claim]:
    """Endpoints among the arguments: the value of an option that speaks of a port or of listening."""
    found: list[Claim] = []
    addresses: list[str] = []
    for option, following in pairwise([*arguments, ""]):
        named = _OPTION.match(option)
        key = _SHORT.get(named["name"], named["name"]) if named else ""
        if named is None or not speaks_of_listening(key):
            continue
        given = named["value"] if named["value"] is not None else following
        value, alone = _VALUE.match(given), _ALONE.match(given)
        if value and 0 < int(value["port"]) < 65536:
            found.append(Claim(port=int(value["port"]), address=_plain(value["address"]), source="arguments"))
        elif given in ("0", "off", "none") and "port" in key.lower():
            found.append(Claim(port=0, source=f"arguments: {option} {given}"[:80], switched_off=True))
        elif alone:
            addresses.append(_plain(alone["address"]))
    return _on(found, addresses)


@lru_cache(maxsize=4096)
def speaks_of_listening(key: str) -> bool:
    """Whether the name of a setting speaks of an endpoint of its own program, by its words."""
    if _OF_OTHERS.search(key):
        return False
    words = [word.lower() for word in _WORDS.split(key) if word]
    return any(
        word.startswith(("listen", "bind")) or word in ("accept", "interface")
        or (word.endswith("port") and word not in _NO_PORTS)
        for word in words
    )  # fmt: skip


def claims_of_text(text: str, source: str, told: bool = False) -> list[Claim]:
    """Endpoints in a configuration text; those that it switches off too. Addresses that stand alone go with the ports.

    *told* says that others than root may write the text.
    """
    where = f"configuration {source}"
    found: list[tuple[bool, Claim]] = []
    addresses: list[str] = []
    silent = False
    for setting in _SETTING.finditer(text):
        if len(found) + len(addresses) > MOST_FOUND:
            break
        key, value = setting["key"], setting["value"].strip().rstrip(";,").strip()
        if value.lower() in _FALSE and _NETWORK.search(key) and not _NEGATED.match(key):
            found.append((True, Claim(port=0, source=f"{where}: {key} {value}", switched_off=True)))
        if not speaks_of_listening(key):
            continue
        endpoint, alone = _ENDPOINT.match(value), _ALONE.match(value)
        listens = bool(re.search(r"(?i)listen|bind|accept", key))
        if endpoint and 0 < int(endpoint["port"]) < 65536:
            found.append((listens, _claim(endpoint, where)))
        elif alone:
            addresses += [_plain(word) for word in re.findall(_ADDRESS, value)[:8]]
        elif value.lower() in _FALSE:
            found.append((listens, Claim(port=0, source=f"{where}: {key} {value}", switched_off=True)))
            silent = silent or "address" in key.lower()
    for off in _SWITCHED_OFF.finditer(text):
        if (off["value"] or "on").lower() not in _FALSE:
            found.append((True, Claim(port=0, source=f"{where}: {off[0].strip()[:60]}", switched_off=True)))
    for words in (line.split() for line in text.splitlines() if line.startswith("-")):
        found += [(True, claim) for claim in claims_of_arguments(words)]
        addresses += [c.group("address") for flag, word in pairwise(words)
                      if flag in ("-l", "--listen") and (c := _ALONE.match(word))]  # fmt: skip
    ordered = [claim for _, claim in sorted(found, key=lambda pair: not pair[0])]
    if silent:  # without an address to listen on, a port alone is no claim
        ordered = [c for c in ordered if c.address or c.switched_off]
    # Cut before they are multiplied with each other: a text may name a hundred thousand of both.
    chosen = _on(ordered[:MOST_CLAIMS], addresses[:MOST_CLAIMS])[:MOST_CLAIMS]
    for claim in chosen if told else ():
        claim.told = True
    return chosen


def _claim(endpoint: re.Match[str], where: str) -> Claim:
    rest = endpoint["rest"] or ""
    address = endpoint["address"] or ""
    if not address and (beside := re.match(rf"[ \t]+(?P<address>{_ADDRESS})(?![\w:.])", rest)):
        address = beside["address"]
    return Claim(
        port=int(endpoint["port"]),
        protocol="udp" if endpoint["scheme"] == "udp" or re.search(r"(?i)\b(?:udp|quic)\b", rest) else "tcp",
        address=_plain(address),
        source=where,
        reuse=bool(re.search(r"(?i)\breuse_?port\b", rest)),
        v6_only=bool(re.search(r"(?i)\b(?:ipv6only=on|v6only)\b", rest)),
    )


def _plain(address: str | None) -> str:
    bare = (address or "").strip("[]")
    return {"*": "", "localhost": "127.0.0.1"}.get(bare, bare)


def _on(claims: list[Claim], addresses: list[str]) -> list[Claim]:
    """*claims*, those without an address of their own on each of *addresses*."""
    chosen = list(dict.fromkeys(addresses))
    if not chosen or "" in chosen:
        return claims
    return [
        one
        for claim in claims
        for one in ([claim] if claim.address or claim.switched_off else [_at(claim, place) for place in chosen])
    ]


def _at(claim: Claim, address: str) -> Claim:
    return Claim(port=claim.port, protocol=claim.protocol, address=address, source=claim.source, reuse=claim.reuse)


def log_paths_of_text(text: str) -> list[str]:
    """Files that a configuration text names as logs."""
    return list(dict.fromkeys(m["path"] for m in _LOG.finditer(text)))[:8]


def own_paths_of_text(text: str) -> list[str]:
    """Files that a configuration text names as locks, PID files or sockets, by the key or by the name."""
    return list(dict.fromkeys(m["path"] or m["named"] for m in _OWN.finditer(text)))[:16]


def places_of(name: str) -> tuple[str, str, str]:
    """The files, and the folder, in which the configuration of a program of that *name* lies by habit."""
    return f"/etc/{name}.conf", f"/etc/default/{name}", f"/etc/{name}"


def configuration_of(names: Iterable[str], walker: Walker) -> list[str]:
    """Where the configuration of a program lies by the habit of file systems (hier(7)): below /etc, by its names."""
    found: list[str] = []
    for name in dict.fromkeys(n for n in names if n and "/" not in n and not n.startswith(".")):
        *files, folder = places_of(name)
        found += [*files, *_below(walker, folder, _DEPTH)]
    return list(dict.fromkeys(found))[:MOST_FILES]


def _below(walker: Walker, folder: str, depth: int) -> Iterator[str]:
    """Files of a folder that look like configuration in force: not those that only lie ready."""
    kinds: dict[str, int] = {}
    within: dict[str, list[str]] = {}
    level = [folder]
    for _ in range(depth):  # level by level, so that a far host is asked once for each
        walker.expect((), level)
        within |= {
            place: [f"{place}/{name}" for name in walker.names(place, 200) if _is_in_force(name)] for place in level
        }
        paths = [path for place in level for path in within[place]]
        walker.expect(paths)
        kinds |= {path: _kind(walker, path) for path in paths}
        level = [path for path in paths if kinds[path] == stat.S_IFDIR]
    yield from _in_order(folder, within, kinds)


def _in_order(folder: str, within: dict[str, list[str]], kinds: dict[str, int]) -> Iterator[str]:
    for path in within.get(folder, ()):
        if kinds[path] == stat.S_IFREG and PurePath(path).suffix in _SUFFIXES:
            yield path
        elif kinds[path] == stat.S_IFDIR:
            yield from _in_order(path, within, kinds)


def _is_in_force(name: str) -> bool:
    return not (name.startswith(".") or name.endswith(("-available", "~")))


def _kind(walker: Walker, path: str) -> int:
    try:
        about = walker.find(path).about
    except OSError:
        return 0
    return stat.S_IFMT(about.st_mode) if about is not None else 0


def line_of(text: str, number: int) -> str:
    """One line of a configuration text, cut to a bearable length; empty where there is none."""
    lines = text.splitlines()
    return lines[number - 1].strip()[:500] if 0 < number <= len(lines) else ""


_GENERATED = pattern(r"(?i)do(?: not|n't) (?:edit|change|modify)|generated (?:by|from|automatically)|auto(?:matically)?[ -]?generated|managed by|"
                     r"(?:changes|edits) will be (?:lost|overwritten)")  # fmt: skip
_COMMENT = ("#", ";", "//", "/*", "*", "<!--", "--", "!")
_HEAD_LINES = 12
"""Lines at the head of a file in which it would say so."""
_MAX_SAID = 160
"""Characters of that line that are kept: it is quoted within a sentence."""


def generated(texts: dict[str, str]) -> dict[str, str]:
    """Which of some files say in a comment at their head that they are generated, and the line that does."""
    found = {}
    for path, text in texts.items():
        lines = (line.strip() for line in text[:4096].splitlines()[:_HEAD_LINES])
        said = next((line for line in lines if line.startswith(_COMMENT) and _GENERATED.search(line)), "")
        if said:
            found[path] = mask_text(said.strip("#;/*!<>- ")[:_MAX_SAID])
    return found

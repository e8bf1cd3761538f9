"""Endpoints that a program is set to listen on, by its arguments and its configuration files: by the general form of their settings.

What a bare port is about, its own listener or one that it connects to, is told by its neighbors, or not at all.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache
from itertools import pairwise

from msgspec.structs import replace

from hollow_chain.facts.service import Claim
from hollow_chain.lazy import pattern
from hollow_chain.sources.outline import OutlineBlock, OutlineSetting, settings_of

ARGUMENTS = "arguments"
"""The source of a claim that the command line makes."""
MOST_CLAIMS = 32
"""Endpoints that are taken from one text: a list of ports of a firewall is no list of what is listened on."""
MOST_FOUND = 500
"""Settings of a text that speak of ports and addresses, after which no more are looked for."""
_ADDRESS = r"\*|\[[0-9A-Fa-f:]+\]|\d{1,3}(?:\.\d{1,3}){3}|localhost|[0-9A-Fa-f]*::[0-9A-Fa-f:]*"
_ENDPOINT = pattern(
    rf"^[\"']?(?:port[ \t]+)?(?:(?P<scheme>tcp|udp|https?)[:/]+)?(?:(?P<address>{_ADDRESS})?:)?(?P<port>\d{{2,5}})(?![\w.:])(?P<rest>[^;]*)"
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
_TRUE = frozenset({"1", "yes", "on", "true"})
_SWITCHED_OFF = pattern(
    r"(?im)^[ \t]*-{0,2}(?:skip|disable|no)[-_ ]?(?:network(?:ing)?|tcp|listen(?:er)?)\b[ \t]*(?:[:= ][ \t]*(?P<value>\w+))?[ \t;]*$"
)
_NETWORK = pattern(
    r"(?i)(?:^|[_.\-])(?:tcp|network(?:ing)?)(?:$|[_.\-](?:enabled?|listen))|^enable[_.\-]?(?:tcp|network)"
)
_NEGATED = pattern(r"(?i)^(?:skip|disable|no)[_.\-]")
_LISTENS = pattern(r"(?i)listen|bind|accept|interface")
_HOST = pattern(r"(?i)^(?:\w{0,20}[_.\-])?(?:host(?:[_.\-]?name)?|server|addr(?:ess)?|ip|url|uri)$")
"""Names of settings that say on which machine the port beside them is."""
_SHORT_HOST = "h"
_CONDITION = pattern(r"^\W{0,8}(?:(?i:if|ifn?def|else|elif|elsif|elseif|unless)\b|If[A-Z])")
"""How a block begins that is in force under a condition only."""
_ENABLED = ("enable", "enabled", "active")
_DISABLED = ("disable", "disabled")
_PLAIN_WORDS = frozenset(
    re.findall(
        r"\w+",
        "port ports http https http2 tcp udp tls ssl ws wss rpc grpc web api admin management metrics status health server service local "
        "main global default defaults general listener listeners listen daemon common base core app application public external internal "
        "secure plain control dashboard ui gui console monitoring stats debug settings config options net network entrypoints frontend "
        "virtualhost site sites",
    )
)
"""Words beside "port", and names of blocks, that speak of a program itself, whichever it is. All other words may be the name of
another program that it connects to."""
_NAME = pattern(r"[A-Za-z]+")


def claims_of_arguments(arguments: list[str]) -> list[Claim]:
    """Endpoints among the arguments: the value of an option that speaks of a port or of listening."""
    found: list[Claim] = []
    addresses: list[str] = []
    elsewhere, beside = False, ""
    for option, following in pairwise([*arguments, ""]):
        named = _OPTION.match(option)
        key = _SHORT.get(named["name"], named["name"]) if named else ""
        given = (named["value"] if named["value"] is not None else following) if named else ""
        if named is None or not speaks_of_listening(key):
            if key and _is_elsewhere(key, given):
                elsewhere, beside = True, _plain(given) if _ALONE.match(given) else beside
            continue
        value, alone = _VALUE.match(given), _ALONE.match(given)
        if value and 0 < int(value["port"]) < 65536:
            unsure = not (value["address"] or _LISTENS.search(key) or is_plain(key))
            found.append(
                Claim(port=int(value["port"]), address=_plain(value["address"]), source=ARGUMENTS, unsure=unsure)
            )
        elif given in ("0", "off", "none") and "port" in key.lower():
            found.append(Claim(port=0, source=f"arguments: {option} {given}"[:80], switched_off=True))
        elif alone:
            addresses.append(_plain(alone["address"]))
    if elsewhere and not addresses:
        for claim in found:
            claim.unsure = claim.unsure or not (claim.address or claim.switched_off)
            claim.address = claim.address or (beside if claim.unsure and not claim.switched_off else "")
    return _on(found, addresses)


def _is_elsewhere(key: str, value: str) -> bool:
    """Whether a setting says on which machine something is, and not just that it is every address of this one."""
    return bool(key == _SHORT_HOST or _HOST.match(key)) and _plain(value.strip("\"'")) not in ("", "0.0.0.0", "::")


def _is_of_another(key: str, value: str) -> bool:
    """Whether a setting is the address of somebody whom the program calls: the port beside it is most likely over there."""
    alone = _ALONE.match(value) if _OF_OTHERS.search(key) else None
    return alone is not None and _plain(alone["address"]) not in ("", "0.0.0.0", "::")


def _address_beside(setting: OutlineSetting) -> str:
    """The address at which a port is that may be of its own or of another: that of the machine which is named beside it."""
    beside = setting.block.settings.items()
    named = [_ALONE.match(value) for key, value in beside if _HOST.match(key)]
    named += [_ALONE.match(value) for key, value in beside if _is_of_another(key, value)]
    return next((_plain(one["address"]) for one in named if one is not None), "")


def is_plain(name: str, own: Iterable[str] = ()) -> bool:
    """Whether all words of a name are said of any program by itself, or are its *own* names."""
    words = [word.lower() for part in _WORDS.split(name) for word in _NAME.findall(part)]
    return all(
        word in _PLAIN_WORDS or word.endswith("port") or word in own or word.removesuffix("d") in own for word in words
    )


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


def claims_of_text(text: str, source: str, told: bool = False, own: Iterable[str] = ()) -> list[Claim]:
    """Endpoints in a configuration text; those that it switches off too. Addresses that stand alone go with the ports.

    *told* says that others than root may write the text; *own* are names of the program and its service.
    """
    where = f"configuration {source}"
    names = {word.lower() for name in own for word in _NAME.findall(name)}
    found: list[tuple[bool, Claim]] = []
    addresses: list[str] = []
    silent = False
    for setting in settings_of(text):
        if len(found) + len(addresses) > MOST_FOUND:
            break
        key, value = setting.key, setting.value
        if value.lower() in _FALSE and _NETWORK.search(key) and not _NEGATED.match(key):
            found.append((True, Claim(port=0, source=f"{where}: {key} {value}", switched_off=True)))
        if not speaks_of_listening(key) or is_off(setting.block):
            continue
        endpoint, alone = _ENDPOINT.match(value), _ALONE.match(value)
        listens = bool(_LISTENS.search(key))
        if endpoint and 0 < int(endpoint["port"]) < 65536:
            claim = _claim(endpoint, where)
            claim.unsure = not _is_own(setting, listens, names)
            if claim.unsure and not claim.address:
                claim.address = _address_beside(setting)
            found.append((listens, claim))
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
    ordered = [claim for _, claim in sorted(found, key=lambda pair: (pair[1].unsure, not pair[0]))]
    if silent:  # without an address to listen on, a port alone is no claim
        ordered = [c for c in ordered if c.address or c.switched_off]
    # Cut before they are multiplied with each other: a text may name a hundred thousand of both.
    chosen = _on(ordered[:MOST_CLAIMS], addresses[:MOST_CLAIMS])[:MOST_CLAIMS]
    for claim in chosen if told else ():
        claim.told = True
    return chosen


def is_off(block: OutlineBlock) -> bool:
    """Whether a block says of itself that it is switched off, or one around it does."""
    return any(
        one.settings.get(key, "").lower() in _FALSE for one in block.around() for key in _ENABLED if key in one.settings
    ) or any(one.settings.get(key, "").lower() in _TRUE for one in block.around() for key in _DISABLED)


def _is_own(setting: OutlineSetting, listens: bool, names: set[str]) -> bool:
    """Whether a port is one that the program listens on by the words around it, and not maybe one that it connects to."""
    if any(_CONDITION.match(one.name) for one in setting.block.around()):
        return False
    beside = setting.block.settings
    if listens or any(_LISTENS.search(key) and speaks_of_listening(key) for key in beside):
        return listens or is_plain(setting.key, names)
    if any(_is_elsewhere(key, value) or _is_of_another(key, value) for key, value in beside.items()):
        return False
    return is_plain(setting.key, names) and all(is_plain(one.name, names) for one in setting.block.around())


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
    return replace(claim, address=address)

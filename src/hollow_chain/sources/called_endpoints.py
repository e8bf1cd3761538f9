"""Endpoints that a program is set to call, as the client of somebody: by its arguments, its variables and its configuration files.

By their general form alone: a locator (RFC 3986), a machine and a port in one value, or a machine and a port in two settings that belong
together. What may as well be where the program itself listens is left out.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from itertools import pairwise

from hollow_chain.facts.service import CalledEndpoint, Program
from hollow_chain.lazy import pattern
from hollow_chain.sources.called_with import called_with
from hollow_chain.sources.endpoint_settings import is_off, is_plain, speaks_of_listening
from hollow_chain.sources.outline import OutlineSetting, settings_of

MOST_CALLS = 16
"""Endpoints of one service that are kept."""
_MOST_SETTINGS = 2000
"""Settings of one text that are gone through: more are data."""
_HOST = r"\[[0-9A-Fa-f:]{2,45}\]|[A-Za-z0-9][\w.\-]{0,252}"
_LOCATOR = pattern(
    rf"[A-Za-z][A-Za-z0-9+.\-]{{1,20}}://(?:[^\s/@\"']{{0,200}}@)?(?P<host>{_HOST}):(?P<port>\d{{2,5}})(?!\d)"
)
_PLACE = pattern(rf"^[\"']?(?P<host>{_HOST}):(?P<port>\d{{2,5}})[\"']?(?:$|[,;\s])")
_BARE_HOST = pattern(rf"^[\"']?(?P<host>{_HOST})[\"']?$")
_BARE_PORT = pattern(r"^[\"']?(?P<port>\d{2,5})[\"']?$")
_OPTION = pattern(r"^--?(?P<name>[A-Za-z][\w.\-]{0,100})(?:=(?P<value>.{0,300}))?$")
_OWN = pattern(
    r"(?i)listen|bind|public|external|advertis|callback|redirect|origin|canonical|(?<![a-z])base[_.\-]?ur[li]|self|proxy"
)
"""Words of settings that tell others where the program itself is, or over whom a call goes that is none of its own."""
_OF_MACHINE = ("hostname", "host", "server", "address", "addr", "ip", "node")
"""Ends of the names of settings that say on which machine something is."""
_PORT = "port"
_NOWHERE = ("0.0.0.0", "[::]", "")


def calls_of(program: Program, texts: Mapping[str, str], own: Iterable[str]) -> list[CalledEndpoint]:
    """The endpoints that a program is set to call. *texts* are those of its configuration, by path; *own* are its names."""
    names = {name.lower() for name in own}
    variables = "\n".join(program.environment)
    found = [
        *_of_text(_as_settings(called_with(program, texts)), "its arguments", names),
        *_of_text(variables, "its environment", names),
    ]
    for path, text in texts.items():
        found += _of_text(text, path, names)
    return list({(one.address, one.port): one for one in reversed(found)}.values())[::-1][:MOST_CALLS]


def _as_settings(arguments: list[str]) -> str:
    """The options of a command line, each with its value, as the lines of a text."""
    lines = []
    for option, following in pairwise([*arguments, ""]):
        named = _OPTION.match(option)
        if named is not None:
            lines.append(f"{named['name']} = {named['value'] if named['value'] is not None else following}")
    return "\n".join(lines)


def _of_text(text: str, source: str, own: set[str]) -> Iterator[CalledEndpoint]:
    for setting in settings_of(text)[:_MOST_SETTINGS]:
        key = setting.key
        if (
            _OWN.search(key)
            or any(_OWN.search(block.name) for block in setting.block.around())
            or is_off(setting.block)
        ):
            continue
        said = f"{key} in {source}"
        for locator in _LOCATOR.finditer(setting.value):
            yield from _called(locator["host"], locator["port"], said)
        place = _PLACE.match(setting.value)
        if place is not None and _is_of_another(setting, key, own) and not speaks_of_listening(key):
            yield from _called(place["host"], place["port"], said)
        port = _BARE_PORT.match(setting.value) if key.lower().endswith(_PORT) else None
        if port is not None and _is_of_another(setting, key[: -len(_PORT)], own):
            yield from _called(_machine_beside(setting), port["port"], said)


def _machine_beside(setting: OutlineSetting) -> str:
    """The machine that stands beside a port, under the same name but for its end."""
    stem = setting.key.lower()[: -len(_PORT)]
    for end in _OF_MACHINE:
        found = _BARE_HOST.match(setting.block.settings.get(f"{stem}{end}", ""))
        if found is not None:
            return found["host"]
    return ""


def _is_of_another(setting: OutlineSetting, name: str, own: set[str]) -> bool:
    """Whether the words around a setting name somebody else, and do not just speak of the program itself."""
    return not (is_plain(name, own) and all(is_plain(block.name, own) for block in setting.block.around()))


def _called(host: str, port: str, source: str) -> Iterator[CalledEndpoint]:
    if host not in _NOWHERE and 0 < int(port) < 65536:
        yield CalledEndpoint(host.strip("[]"), int(port), source[:120])

"""What is wished of a service, in words that belong to no manager: the format of a service file, version 1.

A service file is TOML (toml.io, 1.0); each key is an option of ``register`` with the same name and meaning. ``docs/register.md``
documents it, ``docs/service.schema.json`` is its JSON Schema.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Literal, get_args

import msgspec

from hollow_chain import decoding
from hollow_chain.boot.changes import NotUnderstood, seconds
from hollow_chain.facts.part import Listed
from hollow_chain.trouble import wrong_call

FORMAT = "hollow-chain/service"
VERSION = 1
MAX_BYTES = 1 << 20
"""Bytes of a service file that are read: a long one has some thousand."""
MAX_TEXT = 4096
"""Letters of one value: more than any path that a kernel takes (``PATH_MAX``)."""
UpWhen = Literal["", "started", "forked", "reported", "ended"]
UP_WHEN: tuple[str, ...] = get_args(UpWhen)[1:]
OWN = "own"
"""The account that the manager makes for the service alone."""
Text = Annotated[str, msgspec.Meta(max_length=MAX_TEXT)]


class Wish(msgspec.Struct, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """One service as it is wished. What is empty is not asked for."""

    format: Literal["hollow-chain/service"] = "hollow-chain/service"
    version: Literal[1] = 1
    program: Text = ""
    """Path of the program, or its name where it lies on the search path."""
    arguments: Listed[Text] = []
    name: Text = ""
    """The name that it is registered under."""
    shown_as: Text = ""
    """The name that people see."""
    describe: Text = ""
    """What it is for, in a sentence."""
    account: Text = ""
    """The account that it runs under; ``own``: one that the manager makes for it alone."""
    folder: Text = ""
    """Working folder."""
    start: Listed[Text] = []
    """``automatic``, ``delayed``, ``manual``, or events that start it: ``on network up``, ``on path /srv/in``, ``on device /dev/ttyS0``,
    ``on socket 8080``, ``on time daily 04:00``."""
    stop_on: Listed[Text] = []
    """Events that stop it: ``network down``, ``device /dev/ttyS0 gone``, ``time 8h``."""
    needs: Listed[Text] = []
    """Services that it cannot do without: they are started along, and before it."""
    after: Listed[Text] = []
    """Services that it starts after, where both start."""
    restart: Text = ""
    """``after 10s, at most 5 in 10min``, ``always after 5s``, or ``never``."""
    limit: Text = ""
    """How long its start may take, such as ``90s``."""
    port: Listed[Annotated[int, msgspec.Meta(ge=1, le=65535)]] = []
    """Ports that it listens on."""
    env_file: Text = ""
    """File with its environment, a ``NAME=value`` a line."""
    instance_of: Text = ""
    """The template that it is an instance of."""
    pid_file: Text = ""
    """File that it writes the number of its process to, where its first process ends."""
    up_when: UpWhen = ""
    """What *up* means: ``started`` (it stays in front), ``forked`` (its first process ends and leaves another), ``reported`` (it tells the
    manager), ``ended`` (it is a job, and done when it ends). Not given: its first start tells."""


ANY_TIMES = frozenset(("arguments", "start", "stop_on", "needs", "after", "port"))
"""Keys that hold a list."""


def read(path: Path) -> Wish:
    """The wish in a service file. Raises :class:`~hollow_chain.trouble.Trouble` with the place and what to write instead."""
    import tomllib

    try:
        if path.stat().st_size > MAX_BYTES:
            raise wrong_call(f"cannot read {path}: larger than {MAX_BYTES >> 20} MiB, which no service file is")
        text = path.read_bytes().decode("utf-8")
        found = tomllib.loads(text)
    except OSError as error:
        raise wrong_call(f"cannot read {path}: {(error.strerror or str(error)).lower()}") from None
    except (UnicodeDecodeError, tomllib.TOMLDecodeError, RecursionError) as error:
        raise wrong_call(f"cannot read {path}: no TOML ({error})") from None
    return wish_of(found, str(path))


def wish_of(found: Mapping[str, Any], where: str) -> Wish:
    """The wish that a mapping of the keys says. Raises :class:`~hollow_chain.trouble.Trouble`."""
    given = {
        key: [value] if key in ANY_TIMES and isinstance(value, str | int) else value for key, value in found.items()
    }
    known = Wish.__struct_fields__
    for key in given:
        if key not in known:
            raise wrong_call(f"{where}: no key {key!r} in a service file; there are: {', '.join(known[2:])}")
    try:
        wish = decoding.of_plain(given, Wish)
    except msgspec.ValidationError as error:
        raise wrong_call(f"{where}: {_plain(error)}") from None
    check_texts(wish, where)
    try:
        seconds(wish.limit or "1s")
    except NotUnderstood as problem:
        raise wrong_call(f"{where}: limit: {problem}") from None
    return wish


def _plain(error: msgspec.ValidationError) -> str:
    what, _, place = str(error).partition(" - at ")
    return f"{place.strip('`').removeprefix('$.') or 'it'}: {what[:1].lower()}{what[1:]}" if place else what


def check_texts(wish: Wish, where: str = "") -> None:
    """Raise :class:`~hollow_chain.trouble.Trouble` where a value has a character that no definition can hold."""
    for key in wish.__struct_fields__:
        value = getattr(wish, key)
        for one in value if isinstance(value, list) else [value]:
            if isinstance(one, str) and not one.isprintable():
                raise wrong_call(
                    f"{f'{where}: ' if where else ''}{key.replace('_', '-')}: it has a character that cannot be printed"
                )


def schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of a service file, as its TOML stands in JSON."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": f"{FORMAT}, version {VERSION}",
        **msgspec.json.schema(Wish),
    }

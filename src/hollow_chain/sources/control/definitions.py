"""What the registry says of one service, value by value. Whatever has the wrong type or length says nothing."""

from __future__ import annotations

import struct
from collections.abc import Iterable
from typing import Any

from hollow_chain.facts.service import Link, Startup, Trigger
from hollow_chain.reach.control import AT_BOOT, AUTOMATIC, BY_SYSTEM, DISABLED, MANUAL, Key

MOST = 200
"""Needs, rights and actions of one service that are read."""
_LONGEST = 32_767
_ACTIONS = {0: "none", 1: "restart", 2: "reboot", 3: "run"}
"""Kinds of actions (``SC_ACTION_TYPE``)."""
_HEAD = struct.Struct("<5I")
"""Reset period, two places that are meant for addresses, number of actions, and a place again (``SERVICE_FAILURE_ACTIONS`` as the
registry keeps it); each action is a kind and milliseconds."""
_ACTION = struct.Struct("<2I")
_FOREVER = 0xFFFFFFFF
_STARTS = 1
"""``SERVICE_TRIGGER_ACTION_SERVICE_START``."""
_EVENTS = {1: "device", 2: "network", 3: "domain", 4: "firewall", 5: "policy", 6: "request", 7: "state", 20: "event"}
"""Kinds of events (``SERVICE_TRIGGER``, ``dwTriggerType``)."""


def plain(text: Any) -> str:
    """A text of the registry: up to its first zero, and without halves of signs, which nobody could write."""
    if not isinstance(text, str):
        return ""
    return text.partition("\0")[0][:_LONGEST].encode("utf-16-le", "replace").decode("utf-16-le", "replace")


def text_of(key: Key, name: str) -> str:
    """A value that is a text; empty where there is none."""
    return plain(key.values.get(name.lower(), ("", 0))[0])


def number_of(key: Key, name: str) -> int | None:
    """A value that is a number; None where there is none. One that was typed as text counts where it is one."""
    data = key.values.get(name.lower(), (None, 0))[0]
    if isinstance(data, bool):
        return None
    if isinstance(data, int):
        return data
    if isinstance(data, bytes) and len(data) == 4:
        return int.from_bytes(data, "little")
    return None


def texts_of(key: Key, name: str) -> list[str]:
    """A value that is a list of texts."""
    data = key.values.get(name.lower(), (None, 0))[0]
    found: Iterable[Any] = data if isinstance(data, list) else [data] if isinstance(data, str) else []
    return [one for one in map(plain, list(found)[:MOST]) if one]


def startup_of(number: int | None, delayed: bool, triggers: list[Trigger]) -> Startup:
    """The startup type by the number that stands for it."""
    if number in (AT_BOOT, BY_SYSTEM):
        return "automatic"
    if number == AUTOMATIC:
        return "delayed" if delayed else "automatic"
    if number == MANUAL:
        return "event" if triggers else "manual"
    return "disabled" if number == DISABLED else "unknown"


def needs_of(names: Iterable[str]) -> list[Link]:
    """Links to what it needs; groups keep their mark."""
    return [Link(to=name, word="DependOnGroup" if name.startswith("+") else "DependOnService") for name in names]


def failure_actions(key: Key) -> tuple[list[str], float | None]:
    """What is done after failures, and after how long they are forgotten."""
    data = key.values.get("failureactions", (b"", 0))[0]
    if not isinstance(data, bytes) or len(data) < _HEAD.size:
        return [], None
    period, _, _, count, _ = _HEAD.unpack_from(data)
    whole = (len(data) - _HEAD.size) // _ACTION.size
    actions = [_ACTION.unpack_from(data, _HEAD.size + at * _ACTION.size) for at in range(min(count, whole, MOST))]
    words = [_words(kind, delay) for kind, delay in actions]
    return words, -1.0 if period == _FOREVER else float(period)


def _words(kind: int, delay: int) -> str:
    action = _ACTIONS.get(kind, "none")
    return f"{action} after {delay / 1000:g} s" if delay and action != "none" else action


def trigger_of(key: Key) -> Trigger | None:
    """A trigger that starts the service; None where it does something else, or is none."""
    if number_of(key, "Action") != _STARTS:
        return None
    kind = number_of(key, "Type")
    return Trigger(kind=_EVENTS.get(kind, "event") if kind is not None else "event")

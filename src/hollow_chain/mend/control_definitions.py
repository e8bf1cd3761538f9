"""Definitions of the control-manager family made, changed and taken off on this machine: through the manager's interface, with all that
the registry had of them kept byte for byte."""

from __future__ import annotations

from typing import Any

import msgspec

from hollow_chain import decoding
from hollow_chain.families.entries import ManagerEntry, command_line
from hollow_chain.mend.hands import NotDone
from hollow_chain.reach.control import SERVICES, ControlReached, Declined, EntrySettings, ExactValues, Raw

DEFINES = ("define", "amend", "undefine")
"""The verbs that are carried out here."""
_STARTUPS = ("automatic", "delayed", "manual")
_MOST_KEYS, _MOST_DEPTH = 200, 4
"""Keys below that of a service, and how deep, that are kept: real ones have a handful."""
_ACTIONS = {"none": 0, "restart": 1, "reboot": 2}
"""Kinds of actions after a failure (``SC_ACTION_TYPE``) that need nothing told beside them."""
_EVENTS_KEY = "triggerinfo"


class Definitions:
    """What is registered on a machine."""

    def __init__(self, reached: ControlReached) -> None:
        self._registry, self._orders, self._values = reached.registry, reached.orders, reached.exact_values

    def keep(self, verb: str, name: str) -> dict[str, Any]:
        """All that the registry has of a service, keys below its own too. Raises :class:`~hollow_chain.mend.hands.NotDone`."""
        values = kept_values(self._values, key_of(name))
        if verb == "define":
            if values:
                raise NotDone(f"{name} is registered by now; ask again")
            return {"defined": None}
        if not values:
            raise NotDone(f"{name} is not registered any more; ask again")
        return {"defined": self._tree(key_of(name), _MOST_DEPTH)}

    def _tree(self, key: str, depth: int) -> dict[str, Any]:
        try:
            below = self._registry.key(key).below[:_MOST_KEYS] if depth else []
        except Declined:
            below = []
        return {
            "values": kept_values(self._values, key),
            "below": {name: self._tree(rf"{key}\{name}", depth - 1) for name in below},
        }

    def do(self, verb: str, name: str, value: str) -> None:
        """Carry out one of :data:`DEFINES`. Raises :class:`~hollow_chain.mend.hands.NotDone` and
        :class:`~hollow_chain.reach.control.Declined`."""
        if verb == "undefine":
            self._orders.delete(name)
        elif verb == "amend":
            self._amend(name, _entry_in(value))
        else:
            self._define(name, _entry_in(value))

    def _define(self, name: str, entry: ManagerEntry) -> None:
        self._orders.create(name, _settings_of(entry))
        try:
            self._set_rest(name, entry)
        except (Declined, NotDone):
            self._orders.delete(name)
            raise

    def _amend(self, name: str, entry: ManagerEntry) -> None:
        self._orders.configure(name, _settings_of(entry))
        self._set_rest(name, entry)
        if entry.sets_events and not entry.events and self._has_events(name):
            self._orders.set_events(name, [])

    def _set_rest(self, name: str, entry: ManagerEntry) -> None:
        if entry.actions:
            self._orders.set_failure_actions(name, [action(one) for one in entry.actions], entry.forgotten_after)
        if entry.events:
            self._orders.set_events(name, [(one.kind, one.action, one.number) for one in entry.events])
            if not self._has_events(name):  # some systems' managers take events, and keep none: nothing would start it
                raise NotDone("the service manager of this system keeps no events")

    def _has_events(self, name: str) -> bool:
        return any(one.casefold() == _EVENTS_KEY for one in self._registry.key(key_of(name)).below)

    def restore(self, name: str, tree: dict[str, Any] | None) -> None:
        """Register it as it was: the manager takes what it has to know, and the registry gets back each value byte for byte."""
        if tree is None:
            if self._values.all_of(key_of(name)):
                self._orders.delete(name)
            return
        before = {one: (kind, bytes.fromhex(data)) for one, (kind, data) in tree["values"].items()}
        settings = _settings_in(before)
        if self._values.all_of(key_of(name)):
            self._orders.configure(name, settings)
        else:
            self._orders.create(name, settings)
        self._orders.set_start_number(name, int.from_bytes(before["Start"][1][:4], "little"))
        self._put_tree(key_of(name), tree)

    def _put_tree(self, key: str, tree: dict[str, Any]) -> None:
        before = {one: (kind, bytes.fromhex(data)) for one, (kind, data) in tree["values"].items()}
        folded = {one.casefold() for one in before}
        for one in self._values.all_of(key):
            if one.casefold() not in folded:
                self._values.put(key, one, None)
        for one, value in before.items():
            self._values.put(key, one, value)
        for one, below in tree["below"].items():
            self._values.make(rf"{key}\{one}")
            self._put_tree(rf"{key}\{one}", below)


def kept_values(values: ExactValues, key: str) -> dict[str, Any]:
    """The values of a key as a journal takes them. Raises :class:`~hollow_chain.mend.hands.NotDone`."""
    try:
        return {name: [kind, data.hex()] for name, (kind, data) in values.all_of(key).items()}
    except Declined as declined:
        raise NotDone(f"the values of {key} cannot be kept: {declined.strerror}") from None


def key_of(service: str) -> str:
    """The key of the registry that defines a service."""
    return rf"{SERVICES}\{service}"


def action(text: str) -> tuple[int, int]:
    """An action in words, as ``restart after 60 s``, as the manager takes it: its kind, and milliseconds. Raises
    :class:`~hollow_chain.mend.hands.NotDone`."""
    kind, _, delay = text.strip().partition(" after ")
    number = delay.removesuffix(" s")
    if kind not in _ACTIONS or (delay and not number.replace(".", "", 1).isdigit()):
        raise NotDone(f"no action after a failure that a machine sets: {text.strip()!r}")
    return _ACTIONS[kind], round(float(number) * 1000) if delay else 0


def text_in(values: dict[str, Raw], name: str) -> str:
    """A value that is a text, under the one name that we use for the accounts that every system has."""
    from hollow_chain.sources.control.services import account_name

    return account_name(_text(values, name))


def needs_in(values: dict[str, Raw]) -> list[str]:
    """What a service needs by the values that define it; groups with the sign that the manager takes for them."""
    return [*_texts(values, "dependonservice"), *(f"+{name}" for name in _texts(values, "dependongroup"))]


def _texts(values: dict[str, Raw], name: str) -> list[str]:
    return [text for text in _decoded(values, name).split("\0") if text]


def _text(values: dict[str, Raw], name: str) -> str:
    return _decoded(values, name).strip("\0")


def _decoded(values: dict[str, Raw], name: str) -> str:
    data = next((data for one, (_, data) in values.items() if one.casefold() == name), b"")
    return data.decode("utf-16-le", "replace")


def _entry_in(value: str) -> ManagerEntry:
    try:
        return decoding.of_json(value, ManagerEntry)
    except msgspec.MsgspecError as error:
        raise NotDone(f"the definition cannot be read: {error}") from None


def _settings_of(entry: ManagerEntry) -> EntrySettings:
    startup = entry.startup if entry.startup in _STARTUPS else "manual"
    return EntrySettings(
        command_line([entry.program, *entry.arguments]),
        entry.shown_as,
        entry.description,
        entry.account,
        startup,
        list(entry.needs),
    )


def _settings_in(values: dict[str, Raw]) -> EntrySettings:
    """What the manager has to be told of a service, by the values that it had."""
    return EntrySettings(
        _text(values, "imagepath"),
        _text(values, "displayname"),
        _text(values, "description"),
        text_in(values, "objectname"),
        "manual",
        needs_in(values),
    )

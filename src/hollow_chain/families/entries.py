"""A definition in the control-manager family: an entry of the service manager (the documentation of ``CreateService``,
``ChangeServiceConfig2`` and ``SERVICE_TRIGGER``)."""

from __future__ import annotations

import msgspec

from hollow_chain.facts.part import Listed
from hollow_chain.facts.service import Account, Claim, Definition, Link, Program, Service, Trigger

PLAIN = "LocalService"
"""The account with the fewest rights of those that every system has."""
NETWORK_UP, NETWORK_DOWN = "4f27f2de-14e2-430b-a549-7cd48cbc8245", "cc4ba62a-162e-4648-847a-b6bdf993e335"
"""``NETWORK_MANAGER_FIRST_IP_ADDRESS_ARRIVAL_GUID`` and ``..._LAST_IP_ADDRESS_REMOVAL_GUID`` (winsvc.h)."""
DEVICE_COMES, ADDRESS_COMES = 1, 2
"""``SERVICE_TRIGGER_TYPE_DEVICE_INTERFACE_ARRIVAL`` and ``..._IP_ADDRESS_AVAILABILITY``."""
STARTS, STOPS = 1, 2
"""``SERVICE_TRIGGER_ACTION_SERVICE_START`` and ``..._STOP``."""
WISHED = "as wished"
"""The source of a claim that somebody has said who registered the service."""
EVENT_KINDS = {DEVICE_COMES: "device", ADDRESS_COMES: "network"}


class EventEntry(msgspec.Struct, omit_defaults=True):
    """An event of an entry (``SERVICE_TRIGGER``)."""

    kind: int
    action: int
    number: str
    """Its GUID."""


class ManagerEntry(msgspec.Struct, omit_defaults=True):
    """An entry of the service manager: what a definition is in this family."""

    name: str
    program: str
    arguments: Listed[str] = []
    shown_as: str = ""
    description: str = ""
    account: str = PLAIN
    startup: str = "automatic"
    needs: Listed[str] = []
    actions: Listed[str] = []
    """What follows the first, second and later failures, as :attr:`Service.failure_actions` has it."""
    forgotten_after: int = 0
    """Seconds without a failure after which they are counted anew."""
    events: Listed[EventEntry] = []
    sets_events: bool = False
    """Whether the events are to be as they stand here, none too; a change of something else leaves them."""
    ports: Listed[int] = []
    """Ports that it is said to listen on: no manager has a place for them, a stand-in host has."""


def service_of_entry(entry: ManagerEntry) -> Service:
    """The service that an entry registers, as a reading of the manager would tell it."""
    return Service(
        name=entry.name,
        display_name=entry.shown_as,
        description=entry.description,
        state="stopped",
        startup="event" if any(one.action == STARTS for one in entry.events) else entry.startup,  # type: ignore[arg-type]
        links=[Link(to=need, word="DependOnService") for need in entry.needs],
        triggers=[Trigger(kind=EVENT_KINDS.get(one.kind, "event")) for one in entry.events if one.action == STARTS],
        definition=Definition(),
        program=Program(path=entry.program, arguments=[entry.program, *entry.arguments], style="own-process"),
        account=Account(user=entry.account),
        claims=[Claim(port=port, source=WISHED) for port in entry.ports],
        failure_actions=list(entry.actions),
        failures_forgotten_after=float(entry.forgotten_after) if entry.actions else None,
    )


def command_line(words: list[str]) -> str:
    """A command line from which the program gets *words* (the documentation of ``CommandLineToArgvW``); the program is quoted always, as
    one with a space in its path would be ambiguous."""
    return " ".join([f'"{words[0]}"', *(_quoted(word) for word in words[1:])])


def _quoted(word: str) -> str:
    if word and not any(letter in ' \t"' for letter in word):
        return word
    out, slashes = ['"'], 0
    for letter in word:
        if letter == "\\":
            slashes += 1
            continue
        out.append("\\" * (slashes * 2 + 1 if letter == '"' else slashes) + letter)
        slashes = 0
    return "".join(out) + "\\" * (slashes * 2) + '"'

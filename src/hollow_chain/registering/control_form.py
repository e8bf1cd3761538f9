"""A wish as an entry of the service manager of the control-manager family (the documentation of ``CreateService``,
``ChangeServiceConfig2`` and ``SERVICE_TRIGGER``)."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from hollow_chain.families.entries import (
    ADDRESS_COMES,
    DEVICE_COMES,
    NETWORK_DOWN,
    NETWORK_UP,
    STARTS,
    STOPS,
    EventEntry,
    ManagerEntry,
    command_line,
)  # fmt: skip
from hollow_chain.registering import events
from hollow_chain.registering.events import EventWish, Restarts, Starts
from hollow_chain.registering.lines import DefinitionLine, Piece
from hollow_chain.registering.systemd_form import Chosen
from hollow_chain.registering.wish import OWN, Wish
from hollow_chain.trouble import wrong_call


def entry_of(wish: Wish, chosen: Chosen) -> tuple[ManagerEntry, Piece]:
    """The entry, and its lines. Raises :class:`~hollow_chain.trouble.Trouble` for what the family does not have."""
    _refuse(wish)
    starts, stops = events.starts_of(wish.start), events.stops_of(wish.stop_on)
    restarts = events.restarts_of(wish.restart)
    entry = ManagerEntry(
        name=wish.name,
        program=wish.program,
        arguments=list(wish.arguments),
        shown_as=wish.shown_as or wish.name,
        description=wish.describe,
        account=chosen.account if chosen.account != OWN else rf"NT SERVICE\{wish.name}",
        startup=starts.kind,
        needs=list(wish.needs),
        actions=actions_of(restarts),
        forgotten_after=round(restarts.within) if restarts.when != "never" else 0,
        ports=list(wish.port),
        events=[*(_start_event(event) for event in starts.events), *(_stop_event(event) for event in stops)],
    )
    return entry, Piece(
        "", tuple(_lines(wish, entry, chosen, starts, stops, restarts)), msgspec.json.encode(entry).decode(), wish.name
    )


def _refuse(wish: Wish) -> None:
    said = [
        (bool(wish.folder), "folder: a service of this family has no working folder; programs name their files in full"),
        (bool(wish.env_file), "env-file: the service manager of this family reads no such file"),
        (bool(wish.limit), "limit: a service of this family has no start limit of its own; one holds for all ('suppose limit all 60s')"),
        (bool(wish.instance_of), "instance-of: this family has no templates"),
        (bool(wish.after), "after: to start after another one means to need it in this family; write --needs"),
        (wish.up_when not in ("", "reported"), f"up-when: every service of this family reports to its manager, so none is up when {wish.up_when}"),
        (wish.restart.strip().lower().startswith("always"), "restart: this family restarts after failures only; write 'after 10s'"),
    ]  # fmt: skip
    for wrong, text in said:
        if wrong:
            raise wrong_call(text)


def actions_of(restarts: Restarts) -> list[str]:
    """The actions after failures: the last one holds for all later ones (``SERVICE_FAILURE_ACTIONS``)."""
    if restarts.when == "never":
        return []
    return [*[f"restart after {restarts.after:g} s"] * restarts.most, "none"]


def _start_event(event: EventWish) -> EventEntry:
    if event.kind == events.NETWORK:
        return EventEntry(ADDRESS_COMES, STARTS, NETWORK_UP)
    if event.kind == events.DEVICE:
        return EventEntry(DEVICE_COMES, STARTS, _class_of(event.what))
    raise wrong_call(
        f"start: the service manager of this family has no event for a {event.kind}; it has the network and kinds of devices"
    )


def _class_of(what: str) -> str:
    import uuid

    try:
        return str(uuid.UUID(what))
    except ValueError:
        raise wrong_call(
            f"start: on device {what!r}: this family tells of kinds of devices, each by the GUID of its interface class"
        ) from None


def _stop_event(event: EventWish) -> EventEntry:
    if event.kind == events.NETWORK:
        return EventEntry(ADDRESS_COMES, STOPS, NETWORK_DOWN)
    raise wrong_call(
        f"stop-on: the service manager of this family has no event for a {event.kind} that stops; it has the network"
    )


def _lines(
    wish: Wish, entry: ManagerEntry, chosen: Chosen, starts: Starts, stops: tuple[EventWish, ...], restarts: Restarts
) -> Iterator[DefinitionLine]:
    yield DefinitionLine(
        "", "Display name", entry.shown_as, "" if wish.shown_as else "its name, as nothing else is said of it"
    )
    if entry.description:
        yield DefinitionLine("", "Description", entry.description)
    yield DefinitionLine("", "Command", command_line([entry.program, *entry.arguments]))
    yield DefinitionLine("", "Process", "its own", "a program that shares a process has to be made for that")
    yield DefinitionLine("", "Account", entry.account, chosen.account_why)
    why = "" if wish.start else "it starts with the boot, as services do where nothing else is said"
    yield DefinitionLine("", "Startup type", entry.startup, why)
    for event in starts.events:
        yield DefinitionLine("", "Starts on", str(event))
    for event in stops:
        yield DefinitionLine("", "Stops on", str(event))
    for need in entry.needs:
        yield DefinitionLine("", "Needs", need)
    if entry.actions:
        why = (
            ""
            if restarts.asked
            else "it is started again after a failure; after that many it is left down, so that somebody sees it"
        )
        yield DefinitionLine(
            "", "After failures", f"{entry.actions[0]}, {restarts.most} times in {restarts.within:g} s", why
        )

"""What holds for all services of a host: variables, limits, whether a reboot is due."""

from __future__ import annotations

from contextlib import suppress
from typing import Any

from hollow_chain.facts.host import HostLimits, Unread
from hollow_chain.reach.control import CONTROL, SERVICES, Declined, Key, Registry
from hollow_chain.sources.control.definitions import number_of, plain, text_of, texts_of
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.reading import HostReading

_DELAY = 120.0
"""Seconds after boot at which the delayed group begins where nothing else is set (``AutoStartDelay``)."""
_MOST_PORTS = 100
_SYSTEM = r"SOFTWARE\Microsoft\Windows NT\CurrentVersion"
_ASKED_FOR = (
    (r"SOFTWARE\Microsoft\Windows\CurrentVersion\Component Based Servicing\RebootPending", "an installation of system components"),
    (r"SOFTWARE\Microsoft\Windows\CurrentVersion\WindowsUpdate\Auto Update\RebootRequired", "an update of the system"),
)  # fmt: skip
"""Keys that stand there while a reboot is wanted, and who wants it."""


def add(reading: HostReading) -> None:
    """Boot, system, limits, ports that are kept, and whether a reboot is due."""
    host, reached = reading.host, control(reading)
    host.boot_at = reached.booted_at()
    host.system = " ".join(filter(None, (_product(reached.registry), reached.build)))
    try:
        host.limits = limits(reached.registry)
    except Declined as declined:
        host.unread.append(Unread(what="limits of the service manager", why=declined.strerror or str(declined)))
    host.reboot_due = reboot_due(reached.registry)


def _product(registry: Registry) -> str:
    with suppress(Declined):
        return text_of(registry.key(_SYSTEM), "ProductName")
    return ""


def variables(reading: HostReading) -> dict[str, str]:
    """The variables of every service (the machine's environment)."""
    reached = control(reading)
    found = dict(reached.variables())
    with suppress(Declined):
        key = reached.registry.key(rf"{CONTROL}\Session Manager\Environment")
        found |= {name: plain(data) for name, (data, _) in key.values.items() if isinstance(data, str)}
    return found


def limits(registry: Registry) -> HostLimits:
    """Limits that hold for all services. Raises :class:`Declined`."""
    key = registry.key(CONTROL)
    typed, seconds = _typed(key, "ServicesPipeTimeout")
    delay = number_of(key, "AutoStartDelay")
    return HostLimits(
        start_seconds=seconds,
        start_typed=typed,
        start_changed_at=key.changed_at if typed else None,
        delayed_seconds=_DELAY if delay is None else float(delay),
        reserved_ports=_reserved(registry),
    )


def _typed(key: Key, name: str) -> tuple[str, float | None]:
    """A number of milliseconds as it was typed, whatever its type, and the seconds that the manager makes of it: a text is none to it."""
    data: Any = key.values.get(name.lower(), (None, 0))[0]
    number = number_of(key, name)
    if number is not None:
        return str(number), number / 1000
    return (plain(data)[:40], None) if isinstance(data, str) else ("", None)


def _reserved(registry: Registry) -> list[str]:
    """Ports that are kept from being given out (the documentation of ``ReservedPorts``)."""
    with suppress(Declined):
        found = texts_of(registry.key(rf"{SERVICES}\Tcpip\Parameters"), "ReservedPorts")
        return [text.replace(" ", "") for text in found if text.replace("-", "").replace(" ", "").isdigit()][
            :_MOST_PORTS
        ]
    return []


def reboot_due(registry: Registry) -> str:
    """Why this machine waits for a reboot; empty where it does not, as far as can be seen."""
    for path, who in _ASKED_FOR:
        with suppress(Declined):
            registry.key(path)
            return f"asked for by {who}"
    with suppress(Declined):
        pairs = registry.key(rf"{CONTROL}\Session Manager").values.get("pendingfilerenameoperations", ([], 0))[0]
        if isinstance(pairs, list) and pairs:
            # Two texts each: what is there, and what it becomes (MoveFileExW, "MOVEFILE_DELAY_UNTIL_REBOOT").
            first = next((plain(one).removeprefix("\\??\\") for one in pairs if plain(one)), "")
            return f"{(len(pairs) + 1) // 2} files wait to be replaced at a reboot, {first} among them"
    with suppress(Declined):
        names = rf"{CONTROL}\ComputerName"
        now = text_of(registry.key(rf"{names}\ActiveComputerName"), "ComputerName")
        then = text_of(registry.key(rf"{names}\ComputerName"), "ComputerName")
        if now and then and now.casefold() != then.casefold():
            return f"its name becomes {then}"
    return ""

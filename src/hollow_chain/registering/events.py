"""Events that start or stop a service, in a plain little language that belongs to no manager.

What each family makes of an event stands with its definitions; one that a family does not have is refused there.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from hollow_chain.boot.changes import NotUnderstood, seconds
from hollow_chain.lazy import pattern
from hollow_chain.trouble import wrong_call

AUTOMATIC, DELAYED, MANUAL = "automatic", "delayed", "manual"
TYPES = (AUTOMATIC, DELAYED, MANUAL)
NETWORK, PATH, DEVICE, SOCKET, TIME = "network", "path", "device", "socket", "time"
KINDS = (NETWORK, PATH, DEVICE, SOCKET, TIME)
_DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_CLOCK = pattern(r"^([01]?\d|2[0-3]):([0-5]\d)$")
_ENDPOINT = pattern(r"^(?:(\[[0-9A-Fa-f:.]+\]|[\d.]+):)?(\d{1,5})(?:/(tcp|udp))?$")
_FORMS = (
    "'on network up', 'on path /PATH', 'on device /dev/NAME', 'on socket PORT' (or /PATH), "
    "'on time 2min after boot' (or 'daily 04:00', 'monday 06:00', 'every 15min')"
)
_STOP_FORMS = "'network down', 'device /dev/NAME gone', 'time 8h'"


@dataclass(frozen=True)
class EventWish:
    """One event."""

    kind: str
    what: str = ""
    """A path, a device, or an endpoint."""
    seconds: float = 0.0
    """Of a time: after the boot, between two, or how long it may run."""
    day: str = ""
    """Of a time: the day of the week."""
    clock: str = ""
    """Of a time: the time of the day, ``04:00``."""
    every: bool = False

    def __str__(self) -> str:
        return f"{self.kind} {self.what}".strip()


@dataclass(frozen=True)
class Starts:
    """What starts a service."""

    kind: str = AUTOMATIC
    """The startup type; ``manual`` where events start it."""
    events: tuple[EventWish, ...] = ()


def starts_of(texts: list[str]) -> Starts:
    """What *texts* say of the start. Raises :class:`~hollow_chain.trouble.Trouble`."""
    kinds = [text.strip().lower() for text in texts if text.strip().lower() in TYPES]
    events = [text for text in texts if text.strip().lower() not in TYPES]
    if len(kinds) > 1 or (kinds and events and kinds != [MANUAL]):
        raise wrong_call(f"start: {' and '.join(map(repr, texts))} exclude one another")
    return Starts(kinds[0] if kinds else MANUAL if events else AUTOMATIC, tuple(_start_event(text) for text in events))


def _start_event(text: str) -> EventWish:
    words = text.split()
    if len(words) < 2 or words[0].lower() != "on" or words[1].lower() not in KINDS:
        raise wrong_call(f"start: {text!r} is none of {', '.join(TYPES)}, {_FORMS}")
    kind, rest = words[1].lower(), " ".join(words[2:])
    found = _START[kind](rest)
    if found is None:
        raise wrong_call(f"start: {text!r} cannot be read; write one of {_FORMS}")
    return found


def _network(rest: str) -> EventWish | None:
    return EventWish(NETWORK) if rest.lower() in ("", "up") else None


def _path(rest: str) -> EventWish | None:
    return EventWish(PATH, rest) if re.match(r"^(/|[A-Za-z]:[\\/])", rest) else None


def _device(rest: str) -> EventWish | None:
    return EventWish(DEVICE, rest) if rest else None


def _socket(rest: str) -> EventWish | None:
    if rest.startswith("/"):
        return EventWish(SOCKET, rest)
    found = _ENDPOINT.match(rest)
    return EventWish(SOCKET, rest) if found and 0 < int(found[2]) < 65536 else None


def endpoint(event: EventWish) -> tuple[str, int, str]:
    """Address, port and protocol of a socket that is no path."""
    found = _ENDPOINT.match(event.what)
    assert found is not None
    return (found[1] or "").strip("[]"), int(found[2]), found[3] or "tcp"


def _time(rest: str) -> EventWish | None:
    words = rest.lower().split()
    if words[-2:] == ["after", "boot"]:
        return EventWish(TIME, rest, seconds=_span("".join(words[:-2])))
    if words[:1] == ["every"]:
        return EventWish(TIME, rest, seconds=_span("".join(words[1:])), every=True)
    if len(words) == 2 and _CLOCK.match(words[1]) and words[0] in ("daily", *_DAYS):
        return EventWish(TIME, rest, day="" if words[0] == "daily" else words[0], clock=words[1].rjust(5, "0"))
    return None


def _span(text: str) -> float:
    try:
        found = seconds(text)
    except NotUnderstood as problem:
        raise wrong_call(f"time: {problem}") from None
    if found <= 0:
        raise wrong_call(f"time: {text!r} is no time at all")
    return found


_START = {NETWORK: _network, PATH: _path, DEVICE: _device, SOCKET: _socket, TIME: _time}


def stops_of(texts: list[str]) -> tuple[EventWish, ...]:
    """The events that stop a service. Raises :class:`~hollow_chain.trouble.Trouble`."""
    return tuple(_stop_event(text) for text in texts)


def _stop_event(text: str) -> EventWish:
    words = text.removeprefix("on ").split()
    kind, rest = (words[0].lower() if words else ""), words[1:]
    if kind == NETWORK and [word.lower() for word in rest] == ["down"]:
        return EventWish(NETWORK)
    if kind in (DEVICE, PATH) and len(rest) > 1 and rest[-1].lower() == "gone":
        return EventWish(kind, " ".join(rest[:-1]))
    if kind == TIME and rest:
        return EventWish(TIME, " ".join(rest), seconds=_span("".join(rest)))
    raise wrong_call(f"stop-on: {text!r} is none of {_STOP_FORMS}")


@dataclass(frozen=True)
class Restarts:
    """What follows a failure."""

    when: str = "on-failure"
    """``never``, ``on-failure`` or ``always``."""
    after: float = 5.0
    most: int = 5
    within: float = 300.0
    """At most so many starts within so many seconds."""
    asked: bool = False


_RESTART = pattern(
    r"(?i)^(?:(always)\s+)?after\s+([\d.]+\s*[a-z]*)(?:\s*,?\s*at\s+most\s+(\d{1,4})\s+in\s+([\d.]+\s*[a-z]*))?$"
)


def restarts_of(text: str) -> Restarts:
    """What *text* says of restarts. Raises :class:`~hollow_chain.trouble.Trouble`."""
    plain = " ".join(text.split())
    if not plain:
        return Restarts()
    if plain.lower() == "never":
        return Restarts("never", asked=True)
    found = _RESTART.match(plain)
    if found is None:
        raise wrong_call(
            f"restart: {text!r} cannot be read; write 'after 10s, at most 5 in 10min', 'always after 5s' or 'never'"
        )
    try:
        after = seconds(found[2].replace(" ", ""))
        within = seconds(found[4].replace(" ", "")) if found[4] else max(300.0, 10 * after)
    except NotUnderstood as problem:
        raise wrong_call(f"restart: {problem}") from None
    most = int(found[3]) if found[3] else 5
    if not most or not within:
        raise wrong_call(f"restart: {text!r} allows no start at all; write 'never' where that is meant")
    if found[3] and after * most > within:
        raise wrong_call(
            f"restart: {most} starts, each {after:g} s after the last, never fall into {within:g} s: the bound would not hold"
        )
    return Restarts("always" if found[1] else "on-failure", after, most, within, asked=True)

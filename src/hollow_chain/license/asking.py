"""Asking a license server: its front process, each daemon, each entitlement, and whether something can be had now."""

from __future__ import annotations

import socket
import time
from contextlib import closing
from dataclasses import dataclass, field
from typing import Any

from hollow_chain.license import wire

PORT = 7171
"""The port of a license server where its file names none."""
SECONDS = 5.0
"""How long one answer may take, from the call to its last byte: a server that drips bytes holds nobody longer."""
MOST_DAEMONS = 50
"""Daemons of one server that are asked; each may take its time to answer."""
ALL_SECONDS = 4.0
"""How long all daemons together may take, in times of what one answer may."""


class NoAnswer(Exception):
    """The server does not answer, or not in this protocol; the text says how."""


@dataclass
class Told:
    """What a server told."""

    host: str
    port: int
    status: dict[str, Any]
    entitlements: list[dict[str, Any]] = field(default_factory=list)
    """Those of all daemons that answer, each with the name of its ``daemon``."""
    silent: dict[str, str] = field(default_factory=dict)
    """Daemons that are up by the front process and do not answer, with the reason."""

    @property
    def daemons(self) -> list[dict[str, Any]]:
        """The daemons as the front process knows them."""
        found = self.status.get("daemons")
        return [d for d in found if isinstance(d, dict)] if isinstance(found, list) else []


def request(host: str, port: int, message: wire.Message, seconds: float = SECONDS) -> wire.Message:
    """One request to one process, and its answer. Raises :class:`NoAnswer`."""
    until = time.monotonic() + seconds
    try:
        with closing(socket.create_connection((host, port), seconds)) as channel:
            channel.settimeout(_left(until))
            channel.sendall(wire.encode({"id": 1, **message}))
            return _answer(channel, host, port, until)
    except TimeoutError:
        raise NoAnswer(f"no answer from {host}:{port} within {seconds:g} s") from None
    except (OSError, OverflowError) as error:
        raise NoAnswer(f"no connection to {host}:{port}: {getattr(error, 'strerror', None) or error}") from None


def _left(until: float) -> float:
    """Seconds until a moment. Raises :class:`TimeoutError` where it has passed."""
    left = until - time.monotonic()
    if left <= 0:
        raise TimeoutError
    return left


def _answer(channel: socket.socket, host: str, port: int, until: float) -> wire.Message:
    lines = wire.Lines()
    while True:
        channel.settimeout(_left(until))
        data = channel.recv(1 << 16)
        if not data:
            break
        try:
            for found in lines.feed(data):
                return found
        except wire.WireError as error:
            raise NoAnswer(f"{host}:{port} does not speak the protocol of license servers: {error}") from None
    raise NoAnswer(f"{host}:{port} closed the connection without an answer")


def ask(host: str, port: int, seconds: float = SECONDS) -> Told:
    """Ask the front process, then every daemon that is up. Raises :class:`NoAnswer` where the front does not answer."""
    status = request(host, port, {"do": "status"}, seconds)
    if status.get("ok") is not True:
        raise NoAnswer(f"{host}:{port} refused: {str(status.get('says'))[:200]}")
    told = Told(host, port, status)
    until = time.monotonic() + ALL_SECONDS * seconds
    for daemon in told.daemons[:MOST_DAEMONS]:
        if not daemon.get("up") or not isinstance(daemon.get("port"), int):
            continue
        try:
            found = request(
                host, daemon["port"], {"do": "entitlements"}, max(min(seconds, until - time.monotonic()), 0.01)
            )
        except NoAnswer as error:
            told.silent[str(daemon.get("name"))] = str(error)
            continue
        listed = found.get("entitlements")
        told.entitlements += [{**e, "daemon": daemon.get("name")} for e in listed or () if isinstance(e, dict)]
    return told


def can_have(told: Told, want: wire.Want, seconds: float = SECONDS) -> tuple[bool, str]:
    """Whether a want can be had now, and the reason where not."""
    reasons: list[str] = []
    for daemon in told.daemons[:MOST_DAEMONS]:
        if not daemon.get("up") or not isinstance(daemon.get("port"), int) or daemon.get("name") in told.silent:
            continue
        found = request(told.host, daemon["port"], {"do": "can", "want": _plain(want)}, seconds)
        if found.get("ok") is True:
            return True, f"{want} can be had now ({found.get('free')} free before it)"
        if found.get("error") != "no-entitlement" or not reasons:
            reasons.insert(0 if found.get("error") != "no-entitlement" else len(reasons), str(found.get("says")))
    down = [str(d.get("name")) for d in told.daemons if not d.get("up")]
    if down and (not reasons or "no entitlement" in reasons[0]):
        reasons.insert(0, f"the daemon {', '.join(down)} is down")
    return False, f"{want} cannot be had: {reasons[0] if reasons else 'no daemon answers'}"


def daemon_for(told: Told, want: wire.Want) -> int | None:
    """The port of the daemon that serves what is wanted."""
    for entitlement in told.entitlements:
        if (entitlement.get("product"), entitlement.get("feature") or "") == (want.product, want.feature):
            return next((d["port"] for d in told.daemons if d.get("name") == entitlement["daemon"]), None)
    return None


def _plain(want: wire.Want) -> dict[str, Any]:
    return {"product": want.product, "feature": want.feature, "version": want.version, "seats": want.seats}


class Holder:
    """A client that takes seats and keeps them with heartbeats: the stand-in for an application."""

    def __init__(self, host: str, port: int, name: str) -> None:
        self._channel = socket.create_connection((host, port), SECONDS)
        self._channel.settimeout(SECONDS)
        self._where = host, port
        self._name = name
        self.seat = 0
        self.heartbeat = 30.0

    def take(self, want: wire.Want) -> None:
        """Take the seats. Raises :class:`NoAnswer` with the server's reason."""
        found = self._do({"do": "take", "want": _plain(want)})
        if found.get("ok") is not True:
            raise NoAnswer(f"{want} denied: {found.get('says')}")
        self.seat, self.heartbeat = int(found["seat"]), float(found["heartbeat"])

    def keep(self) -> None:
        """One heartbeat. Raises :class:`NoAnswer` where the seat is lost."""
        found = self._do({"do": "keep", "seat": self.seat})
        if found.get("ok") is not True:
            raise NoAnswer(f"seat {self.seat} is lost: {found.get('says')}")

    def give(self) -> None:
        """Give the seats back and hang up."""
        self._do({"do": "give", "seat": self.seat})
        self._channel.close()

    def _do(self, message: wire.Message) -> wire.Message:
        try:
            self._channel.sendall(wire.encode({"id": 1, "client": self._name, **message}))
            return _answer(self._channel, *self._where, time.monotonic() + SECONDS)
        except OSError as error:
            raise NoAnswer(
                f"the server at {self._where[0]}:{self._where[1]} is gone: {error.strerror or error}"
            ) from None

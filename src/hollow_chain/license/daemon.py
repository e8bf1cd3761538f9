"""The stand-in license daemon: one process a publisher, which grants seats on a port of its own.

The front process starts it, tells it what to serve in JSON lines on its standard input, and reads on its standard output
that it is up. It takes no order from the wire but for seats.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import sys
import threading
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec

from hollow_chain import decoding
from hollow_chain.license import wire
from hollow_chain.license.file import SignedEntitlement
from hollow_chain.license.seats import Denial, Pool, Seat, SeatBook, title
from hollow_chain.license.serving import AlreadyHeld, Connection, Log, OwnFiles, when_ended


class Orders(msgspec.Struct, kw_only=True):
    """What the front process tells a daemon."""

    name: str
    address: str
    port: int
    folder: str
    heartbeat: float
    log: str = ""
    entitlements: list[SignedEntitlement] = []
    end: bool = False
    """That it is to end: said in words, since not every system has a signal that a process can end in order on."""


class SeatDaemon:
    """The daemon: a book of seats, and the connections of its clients."""

    def __init__(self, orders: Orders) -> None:
        self.orders = orders
        self.book = SeatBook(orders.heartbeat)
        self.book.load(orders.entitlements)
        self.log = Log(orders.name, Path(orders.log) if orders.log else None)
        self.clients: set[Connection] = set()
        self._does = {
            "entitlements": self._list,
            "can": self._can,
            "take": self._take,
            "keep": self._keep,
            "give": self._give,
        }

    def answer(self, request: wire.Message, client: Connection) -> None:
        """Carry out one request."""
        does = self._does.get(str(request.get("do")))
        if does is None:
            client.send(wire.refused(request, "unknown", f"a license daemon does: {', '.join(self._does)}"))
            return
        try:
            does(request, client)
        except wire.WireError as error:
            client.send(wire.refused(request, "wire", str(error)))

    def _list(self, request: wire.Message, client: Connection) -> None:
        client.send(wire.answered(request, daemon=self.orders.name, entitlements=[_shown(p) for p in self.book.pools]))

    def _can(self, request: wire.Message, client: Connection) -> None:
        want = wire.want_of(request)
        found = self.book.find(want, client.local, _today())
        if isinstance(found, Denial):
            client.send(wire.refused(request, found.error, found.says))
        else:
            client.send(wire.answered(request, can=True, free=self.book.pools[found].free))

    def _take(self, request: wire.Message, client: Connection) -> None:
        want, who = wire.want_of(request), _who(request)
        found = self.book.take(want, who, client.local, time.monotonic(), _today())
        if isinstance(found, Denial):
            self.log(f"denied {want} to {who} at {client.client}: {found.says}")
            client.send(wire.refused(request, found.error, found.says))
        else:
            self.log(
                f"granted seat {found.number} ({found.count} of {self._what(found)}) to {who}; {self._left(found)}"
            )
            client.send(wire.answered(request, seat=found.number, heartbeat=self.book.heartbeat))

    def _keep(self, request: wire.Message, client: Connection) -> None:
        if self.book.keep(_seat(request), _who(request), time.monotonic()):
            client.send(wire.answered(request))
        else:
            client.send(wire.refused(request, "no-seat", "this client has no such seat; take one anew"))

    def _give(self, request: wire.Message, client: Connection) -> None:
        found = self.book.give(_seat(request), _who(request))
        if found is None:
            client.send(wire.refused(request, "no-seat", "this client has no such seat"))
        else:
            self.log(
                f"returned seat {found.number} ({found.count} of {self._what(found)}) by {found.client}; {self._left(found)}"
            )
            client.send(wire.answered(request))

    def _what(self, seat: Seat) -> str:
        return title(self.book.pools[seat.pool].entitlement)

    def _left(self, seat: Seat) -> str:
        pool = self.book.pools[seat.pool]
        return f"{pool.used} of {pool.entitlement.seats} used"

    async def reclaim(self) -> None:
        """Take back what silent clients have, for ever."""
        while True:
            await asyncio.sleep(min(self.book.heartbeat, 5.0))
            for seat in self.book.reclaim(time.monotonic()):
                self.log(
                    f"reclaimed seat {seat.number} ({seat.count} of {self._what(seat)}) from {seat.client}, which is silent; {self._left(seat)}"
                )

    def reload(self, orders: Orders) -> None:
        """Take over entitlements in place."""
        before = len(self.book.seats)
        self.book.load(orders.entitlements)
        self.log(
            f"reloaded: {len(self.book.pools)} entitlements; {before - len(self.book.seats)} seats of clients ended with theirs"
        )


def _today() -> Any:
    return datetime.now(UTC).date()


def _who(request: wire.Message) -> str:
    who = request.get("client")
    if not isinstance(who, str) or not 0 < len(who) <= 200:
        raise wire.WireError("client: a name of up to 200 characters is needed")
    return who


def _seat(request: wire.Message) -> int:
    seat = request.get("seat")
    if not isinstance(seat, int) or isinstance(seat, bool):
        raise wire.WireError("seat: a number is needed")
    return seat


def _shown(pool: Pool) -> dict[str, Any]:
    entitlement = pool.entitlement
    return {
        "product": entitlement.product, "feature": entitlement.feature, "version": entitlement.version,
        "seats": entitlement.seats, "used": pool.used, "free": pool.free,
        "from": entitlement.starts, "until": entitlement.ends, "bound_to": entitlement.bound,
    }  # fmt: skip


async def _serve(first: Orders) -> int:
    daemon = SeatDaemon(first)
    files = OwnFiles(Path(first.folder), f"daemon-{first.name}")
    try:
        left = files.take()
        loop = asyncio.get_running_loop()
        server = await loop.create_server(
            lambda: Connection(daemon.answer, daemon.clients), first.address, first.port, backlog=1024
        )
    except AlreadyHeld as error:
        daemon.log(f"another daemon of {first.name} runs: {error}")
        return 4
    except OSError as error:
        daemon.log(
            f"cannot listen on {first.address}:{first.port}: {os.strerror(error.errno) if error.errno else error}"
        )
        return 5
    if left:
        daemon.log(left)
    port = server.sockets[0].getsockname()[1]
    daemon.log(
        f"daemon {first.name} is up on port {port} (process {os.getpid()}), {len(first.entitlements)} entitlements"
    )
    print(msgspec.json.encode({"up": port}).decode(), flush=True)  # noqa: T201 - the front process reads it
    done = asyncio.Event()
    when_ended(done.set)
    tasks = [asyncio.create_task(daemon.reclaim()), asyncio.create_task(_follow(daemon, done))]
    await done.wait()
    for task in tasks:
        task.cancel()
    server.close()
    files.drop()
    daemon.log(f"daemon {first.name} ends on request")
    return 0


_LONGEST_ORDERS = 16 << 20
"""Characters of one line of orders."""


async def _follow(daemon: SeatDaemon, done: asyncio.Event) -> None:
    """Take further orders, up to the one to end. The front going away is no reason to end: clients keep their seats."""
    lines: asyncio.Queue[str] = asyncio.Queue()
    loop = asyncio.get_running_loop()

    def read() -> None:
        while line := sys.stdin.readline(_LONGEST_ORDERS):
            with contextlib.suppress(RuntimeError):  # the loop has ended
                loop.call_soon_threadsafe(lines.put_nowait, line)

    # A thread, since not every system can wait for a pipe and for connections at once; it ends with the process.
    threading.Thread(target=read, daemon=True).start()
    while True:
        line = await lines.get()
        with contextlib.suppress(msgspec.MsgspecError):
            orders = decoding.of_json(line, Orders)
            if orders.end:
                done.set()
                return
            daemon.reload(orders)


def main() -> None:
    """Run a daemon; its orders come on standard input."""
    line = sys.stdin.readline(_LONGEST_ORDERS)
    try:
        orders = decoding.of_json(line, Orders)
    except msgspec.MsgspecError:
        says = "hollow-chain-license-daemon: it is started by 'hollow-chain license serve', not by hand"
        print(says, file=sys.stderr)  # noqa: T201
        sys.exit(2)
    sys.exit(asyncio.run(_serve(orders)))


if __name__ == "__main__":
    main()

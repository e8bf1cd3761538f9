"""A minute of many clients on the license server, with daemons killed and files reloaded: no seat lost or given twice."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import platform
import random
import re
import signal
import statistics
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

from hollow_chain.license import asking, wire
from hollow_chain.sources.license_machine import this_machine

PROGRAM = Path(sys.executable).parent / "hollow-chain"
CLIENTS, SECONDS, SEATS = 200, 60.0, 120
PORT = 17171
_GRANTED = re.compile(r"granted seat (\d+) \((\d+) of \S+\) to (\S+); (\d+) of (\d+) used")
_GIVEN = re.compile(r"(?:returned|reclaimed) seat (\d+) \((\d+) of")
_UP = re.compile(r"daemon \S+ is up on port \d+ \(process \d+\), ")
_ECHO = (
    "import asyncio\n"
    "class Echo(asyncio.Protocol):\n"
    "    def connection_made(self, t): self.t = t\n"
    "    def data_received(self, d): self.t.write(d)\n"
    "async def main():\n"
    "    s = await asyncio.get_running_loop().create_server(Echo, '127.0.0.1', 17172)\n"
    "    await s.serve_forever()\n"
    "asyncio.run(main())\n"
)


def write_file(folder: Path, seats: int) -> Path:
    """A license file for this machine, signed."""
    own = next((a.hardware_address for a in this_machine().adapters), "02:00:00:00:00:01")
    path = folder / "soak.toml"
    path.write_text(
        f'format = "hollow-chain/license"\nversion = 1\n[server]\nhost = "{platform.node()}"\nhost_ids = ["{own}"]\nport = {PORT}\n'
        f'[[daemon]]\nname = "maker"\nprogram = "hollow-chain-license-daemon"\nkey = ""\n'
        f'[[entitlement]]\ndaemon = "maker"\nproduct = "suite"\nseats = {seats}\nsignature = ""\n'
    )
    call = [PROGRAM, "license", "sign", path, "--key", folder / "key", "--daemon", "maker"]
    subprocess.run(call, check=True, stdout=subprocess.DEVNULL)
    return path


class Crowd:
    """All clients, and how long each answer took."""

    def __init__(self) -> None:
        self.times: list[float] = []
        self.port = 0

    async def one(self, name: str, until: float) -> None:
        """Take, keep, give, again and again; connect anew where the daemon went away."""
        rng = random.Random(name)
        while time.monotonic() < until:
            try:
                await self._session(name, until, rng)
            except (OSError, ValueError, asyncio.IncompleteReadError):
                await asyncio.sleep(0.05)

    async def _session(self, name: str, until: float, rng: random.Random) -> None:
        reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
        with contextlib.closing(writer):
            while time.monotonic() < until:
                got = await self._ask(reader, writer, {"do": "take", "client": name, "want": {"product": "suite"}})
                if got.get("ok") is not True:
                    await self._ask(reader, writer, {"do": "entitlements"})
                    continue
                for _ in range(rng.randrange(4)):
                    await self._ask(reader, writer, {"do": "keep", "client": name, "seat": got["seat"]})
                await self._ask(reader, writer, {"do": "give", "client": name, "seat": got["seat"]})

    async def _ask(
        self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, message: wire.Message
    ) -> wire.Message:
        began = time.perf_counter()
        writer.write(wire.encode({"id": 1, **message}))
        line = await reader.readuntil(b"\n")
        self.times.append(time.perf_counter() - began)
        found: wire.Message = json.loads(line)
        return found


def _daemon_port() -> int:
    with contextlib.suppress(asking.NoAnswer):
        status = asking.request("127.0.0.1", PORT, {"do": "status"})
        return next((d["port"] for d in status["daemons"] if d["up"]), 0)
    return 0


async def _trouble(crowd: Crowd, folder: Path, until: float) -> None:
    """Kill the daemon and reload the file, in turns."""
    turn = 0
    while time.monotonic() < until - 5:
        await asyncio.sleep(6)
        turn += 1
        if turn % 2:
            mark = json.loads((folder / "soak.toml.state" / "daemon-maker.pid").read_text())
            os.kill(mark["process"], signal.SIGKILL)
            old = crowd.port
            while (port := await asyncio.to_thread(_daemon_port)) in (0, old):
                await asyncio.sleep(0.05)
            crowd.port = port
        else:
            write_file(folder, SEATS + turn)
            await asyncio.to_thread(asking.request, "127.0.0.1", PORT, {"do": "reload"})


async def _soak(folder: Path) -> tuple[Crowd, float]:
    crowd = Crowd()
    while not crowd.port:
        crowd.port = await asyncio.to_thread(_daemon_port)
        await asyncio.sleep(0.1)
    began = time.monotonic()
    until = began + SECONDS
    await asyncio.gather(_trouble(crowd, folder, until), *(crowd.one(f"c{n}", until) for n in range(CLIENTS)))
    return crowd, time.monotonic() - began


async def _rate(port: int, seconds: float = 5.0) -> float:
    """Requests a second of 50 clients that only send and wait, on any server that answers line by line."""
    count, until = 0, time.monotonic() + seconds

    async def one() -> None:
        nonlocal count
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        line = wire.encode({"id": 1, "do": "can", "want": {"product": "suite"}})
        while time.monotonic() < until:
            writer.write(line)
            await reader.readuntil(b"\n")
            count += 1
        writer.close()

    await asyncio.gather(*(one() for _ in range(50)))
    return count / seconds


def audit(log: str) -> tuple[int, list[str]]:
    """Replay the daemon's log: every grant against what is free; returns grants and what is wrong."""
    held: dict[str, int] = {}
    grants, wrong = 0, []
    for line in log.splitlines():
        if _UP.search(line):
            held.clear()  # a new daemon begins with all seats free
        elif found := _GRANTED.search(line):
            number, count, _, used, seats = found.groups()
            grants += 1
            if number in held:
                wrong.append(f"given twice: {line}")
            held[number] = int(count)
            if sum(held.values()) != int(used) or int(used) > int(seats):
                wrong.append(f"does not add up ({sum(held.values())} held): {line}")
        elif (found := _GIVEN.search(line)) and held.pop(found[1], None) is None:
            wrong.append(f"returned and never granted: {line}")
    return grants, wrong


def measure(folder: Path) -> Iterator[tuple[str, float, float]]:
    """Soak the server; check its log; its rate against a bare echo server."""
    path, log = write_file(folder, SEATS), folder / "soak.log"
    call = [PROGRAM, "license", "serve", path, "--log", log, "--heartbeat", "2"]
    server = subprocess.Popen(call, stderr=subprocess.DEVNULL)
    echo = subprocess.Popen([sys.executable, "-c", _ECHO])
    try:
        crowd, took = asyncio.run(_soak(folder))
        grants, wrong = audit(log.read_text())
        p99 = statistics.quantiles(crowd.times, n=100)[98]
        print(
            f"license server: {CLIENTS} clients, {took:.0f} s: {len(crowd.times) / took:.0f} requests/s, p99 {p99 * 1000:.1f} ms, {grants} grants"
        )
        for line in wrong[:5]:
            print(f"  {line}")
        ours, theirs = asyncio.run(_rate(_daemon_port())), asyncio.run(_rate(17172))
        print(f"license server {ours:.0f} requests/s; bare echo {theirs:.0f}")
        yield "seats lost or given twice", float(len(wrong)), 0.0
        yield "bare echo / license server, requests a second", theirs / ours, 1 / 0.3
    finally:
        server.terminate()
        echo.terminate()
        server.wait(10)
        echo.wait(10)

"""Reading hosts over SSH: against the same reading on the host, how many ways there and back it takes, and many hosts at once."""

from __future__ import annotations

import os
import statistics
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

from tests.live.harbor import PROGRAM, Harbor, lacking

_WAY = 0.02
"""Seconds that a slow link takes each way."""
_HOSTS, _AT_ONCE = 50, 8
_TIMES = 7


def _seconds(command: list[str], env: dict[str, str] | None = None) -> float:
    began = time.perf_counter()
    subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=True, env=env)
    return time.perf_counter() - began


def measure(folder: Path) -> Iterator[tuple[str, float, float]]:
    """``capture`` of one host, here and over SSH; over a link of 20 ms each way; of 50 hosts."""
    reason = lacking()
    if reason:
        print(f"hosts over SSH: not measured ({reason})")
        return
    with Harbor("quay", "office", keep=("nginx", "redis-server", "memcached")) as harbor:
        yield from _one(harbor)
        yield from _many(harbor)


def _one(harbor: Harbor) -> Iterator[tuple[str, float, float]]:
    inside = [
        "nsenter",
        "-t",
        str(harbor.hosts["quay"].init),
        "-a",
        str(PROGRAM),
        "capture",
        "--out",
        "/var/tmp/host.json",
    ]
    far = harbor.command("capture", "--from", "ssh://quay", "--out", str(harbor.home / "host.json"))
    env = harbor.env()
    near, over = [], []
    for _ in range(_TIMES):
        near.append(_seconds(inside))
        over.append(_seconds(far, env))
    mine, other = statistics.median(over), statistics.median(near)
    print(f"capture over SSH: {mine * 1000:.0f} ms; on the host: {other * 1000:.0f} ms")
    yield "capture over SSH / on the host", mine / other, 2.5
    slow = _over_a_slow_link(harbor)
    ways = (slow - mine) / (2 * _WAY)
    print(f"over a link of {_WAY * 1000:.0f} ms each way: {slow * 1000:.0f} ms, {ways:.0f} ways there and back")
    yield "ways there and back for one host", ways, 40.0


def _over_a_slow_link(harbor: Harbor) -> float:
    with harbor.slow_link("quay", _WAY) as way:
        words = ("capture", "--from", way, "--out", str(harbor.home / "slow.json"))
        return statistics.median(_seconds(harbor.command(*words), harbor.env()) for _ in range(3))


def _many(harbor: Harbor) -> Iterator[tuple[str, float, float]]:
    """The hosts of the harbor, asked again and again under other names."""
    one = harbor.command("capture", "--from", "ssh://office", "--out", str(harbor.home / "one.json"))
    alone = statistics.median(_seconds(one, harbor.env()) for _ in range(3))
    path = harbor.home / "many.toml"
    hosts = (f'[hosts.berth-{n:02}]\nat = "ssh://root@{harbor.address(harbor.names[n % 2])}"\n' for n in range(_HOSTS))
    path.write_text(f'format = "hollow-chain/hosts"\nversion = 1\n{"".join(hosts)}')
    words = (
        "capture",
        "--from",
        str(path),
        "--out",
        str(harbor.home / "many"),
        "--at-once",
        str(_AT_ONCE),
        "--within",
        "5min",
    )
    took = _seconds(harbor.command(*words), harbor.env())
    cores = min(_AT_ONCE, os.cpu_count() or 1)
    print(
        f"{_HOSTS} hosts, {_AT_ONCE} at once: {took:.1f} s; one: {alone:.2f} s; {cores} cores, on which the hosts run too"
    )
    yield f"{_HOSTS} hosts / one x {_HOSTS} / {cores}", took / (alone * _HOSTS / cores), 1.3

"""What watching a start costs, and what it does to good ones: each daemon that is here is started on a throwaway host, plainly and watched,
in turns, by the manager's own clock."""

from __future__ import annotations

import json
import statistics
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

from tests.live.realhost import RealHost, why_not

from bench.factory.__main__ import AT_ONCE, is_installed, probed
from bench.factory.daemons import DAEMONS, Daemon
from bench.factory.trial import booted, made_whole

_MOST, _TIMES = 36, 1
"""Daemons that are started, spread over all that are known, and how often each: three minutes in all."""
_SPAN = "systemctl show -P InactiveExitTimestampMonotonic {0}; systemctl show -P ActiveEnterTimestampMonotonic {0}"
_TREE = "for p in $(cat /sys/fs/cgroup$(systemctl show -P ControlGroup {0})/cgroup.procs); do ps -o comm=,user= -p $p; done | sort"


class Started(NamedTuple):
    """What came of the starts of one daemon."""

    name: str
    plain: float
    """Seconds, the median."""
    watched: float
    false: list[str]
    """Causes that were named of good starts."""
    up: bool
    same: bool
    """Whether it had the same processes after a watched start."""


def started(daemon: Daemon, number: int) -> Started | None:
    """Start a daemon several times; None where it does not come up here."""
    if probed(daemon, number) is None:
        return None
    host, extra = booted(daemon, f"o{number}")
    try:
        with host:
            made_whole(host, daemon)
            return _measured(host, daemon)
    except RuntimeError:
        return None
    finally:
        if extra is not None:
            extra.cleanup()


def _measured(host: RealHost, daemon: Daemon) -> Started | None:
    plain: list[float] = []
    watched: list[float] = []
    false: list[str] = []
    up = same = True
    for _ in range(_TIMES):
        host.run(
            f"systemctl stop {daemon.unit}; systemctl reset-failed {daemon.unit}; timeout 60 systemctl start {daemon.unit}; sleep 2",
            check=False,
        )
        if host.run(f"systemctl is-active {daemon.unit}", check=False).stdout.strip() != "active":
            return None
        plain.append(_took(host, daemon))
        before = host.run(_TREE.format(daemon.unit), check=False).stdout
        if not before.strip():  # nothing of it runs, as of a script that finds nothing to start
            return None
        host.run(f"systemctl stop {daemon.unit}; systemctl reset-failed {daemon.unit}", check=False)
        done = host.program(f"observe {daemon.unit} --yes --json")
        if not done.stdout.startswith("{"):
            return None
        document = json.loads(done.stdout)
        false += [cause["cause"] for cause in document["causes"]]
        watched.append(_took(host, daemon))
        up = up and document["observed"]["outcome"] == "up" and done.returncode == 0
        host.run("sleep 1")
        same = same and host.run(_TREE.format(daemon.unit), check=False).stdout == before
    return Started(daemon.name, statistics.median(plain), statistics.median(watched), false, up, same)


def _took(host: RealHost, daemon: Daemon) -> float:
    begun, ended = (int(one) for one in host.run(_SPAN.format(daemon.unit)).stdout.split())
    return max(ended - begun, 1) / 1e6


def measure(_: Path) -> Iterator[tuple[str, float, float]]:
    """The ratios, each with its target."""
    if reason := why_not():
        print(f"observed starts: not measured, {reason}")
        return
    with ThreadPoolExecutor(max(1, AT_ONCE // 2)) as pool:
        here = [one for one in DAEMONS if one.own or is_installed(one)]
        chosen = here[:: -(-len(here) // _MOST) or 1]
        found = [one for one in pool.map(started, chosen, range(len(chosen))) if one is not None]
    for one in found:
        if one.false or not one.up or not one.same:
            print(f"  {one.name}: causes {one.false}, up {one.up}, same processes {one.same}")
    ratios = [one.watched / one.plain for one in found]
    plain, watched = (statistics.median(column) for column in ([o.plain for o in found], [o.watched for o in found]))
    print(f"good starts observed: {len(found)} daemons; plain {plain * 1000:.0f} ms, observed {watched * 1000:.0f} ms")
    yield "start under observation / plain start, median", statistics.median(ratios), 4.0
    yield (
        "good starts with a cause, not up, or with other processes",
        float(sum(bool(o.false) or not o.up or not o.same for o in found)),
        0.0,
    )


if __name__ == "__main__":
    for row in measure(Path()):
        print(row)

"""``python -m bench.factory``: run a sample of the factory and print what it is worth (see ``--help``)."""

from __future__ import annotations

import argparse
import os
import random
import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec

from bench.factory import waiting as _more  # noqa: F401
from bench.factory.daemons import DAEMONS, Daemon
from bench.factory.healthy import Healthy, drawn, looked_at
from bench.factory.operators import NO_CALL_SHOWS, OPERATORS, breaks
from bench.factory.probe import Probe, probe
from bench.factory.replay import replayed
from bench.factory.tables import tables
from bench.factory.trial import Outcome, Trial, booted, made_whole, run

OUT = Path(__file__).parents[1] / "out" / "factory"
_PAIRS = 0.25
"""Share of the trials in which what is asked about has a fault of its own, where it is not the broken service itself."""
AT_ONCE = 2 * (os.cpu_count() or 2) + 1
"""Trials at once: most of each is waiting."""


def probed(daemon: Daemon, number: int) -> Probe | None:
    """What the daemon uses; None where it does not start here. Kept in a file: a new run need not look again."""
    kept = OUT / "probes" / f"{daemon.name}.json"
    if kept.exists():
        text = kept.read_bytes()
        return msgspec.json.decode(text, type=Probe) if text else None
    found = None
    if daemon.own or is_installed(daemon):
        host, extra = booted(daemon, f"p{number}")
        try:
            with host:
                made_whole(host, daemon)
                found = probe(host, daemon)
        except (RuntimeError, subprocess.TimeoutExpired) as error:
            print(f"{daemon.name}: {str(error)[:200]}")
        finally:
            if extra is not None:
                extra.cleanup()
    kept.parent.mkdir(parents=True, exist_ok=True)
    kept.write_bytes(msgspec.json.format(msgspec.json.encode(found)) if found else b"")
    return found


def is_installed(daemon: Daemon) -> bool:
    stem, _, instance = daemon.name.partition("@")
    names = [daemon.unit, f"{stem}@.service"] if instance else [daemon.unit]
    return any((Path("/lib/systemd/system") / name).exists() for name in names) or Path(f"/etc/init.d/{stem}").exists()


def plan(probes: list[Probe], count: int, seed: int, only: str, silent: bool = False) -> list[Trial]:
    """A sample of trials: all operators alike, whatever number of daemons they fit."""
    draw = random.Random(seed)
    by_operator = {
        name: [(one, broken) for one in probes for broken in breaks(one, name, seed)]
        for name in OPERATORS
        if only in name and not (silent and any(word in name for word in NO_CALL_SHOWS))
    }
    chosen: list[Trial] = []
    for options in by_operator.values():
        draw.shuffle(options)
    while len(chosen) < count and any(by_operator.values()):
        for options in by_operator.values():
            if options and len(chosen) < count:
                one, broken = options.pop()
                chosen.append(
                    Trial(
                        one,
                        broken,
                        draw.choice((1, 1, 2, 3, 4)),
                        draw.random() < 0.5,
                        draw.choice((0.3, 2.5)),
                        draw.random() < _PAIRS,
                    )
                )
    return chosen


def main() -> None:
    """Probe, plan, run, print."""
    parser = argparse.ArgumentParser(prog="python -m bench.factory", description=main.__doc__)
    parser.add_argument("--half", default="", help="a to m; all where left out")
    parser.add_argument("--count", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--operator", default="", help="part of the names of operators")
    parser.add_argument("--daemon", default="", help="part of the names of daemons")
    parser.add_argument("--blind", action="store_true", help="print numbers only, nothing of single answers")
    parser.add_argument("--name", default="last", help="name of the folder that keeps the outcomes and snapshots")
    parser.add_argument("--hosts", type=int, default=4, help="healthy hosts that are looked at, too")
    parser.add_argument("--probe", action="store_true", help="only look at the healthy daemons")
    parser.add_argument(
        "--replay", action="store_true", help="ask the kept hosts of --name again, by the rules of today"
    )
    parser.add_argument("--silent", action="store_true", help="nothing that is said is kept, and a start is observed")
    given = parser.parse_args()
    if given.replay:
        outcomes = replayed(OUT / given.name)
        (OUT / given.name / "replayed.jsonl").write_bytes(b"\n".join(map(msgspec.json.encode, outcomes)))
        print("\n".join(tables(outcomes, given.blind)))
        return
    daemons = [d for d in DAEMONS if given.half in ("", d.half) and given.daemon in d.name]
    with ThreadPoolExecutor(AT_ONCE) as pool:
        found = list(pool.map(probed, daemons, range(len(daemons))))
        probes = [one for one in found if one is not None]
        print(
            f"{len(probes)} of {len(daemons)} daemons start here; not: "
            + ", ".join(d.name for d, p in zip(daemons, found, strict=True) if not p)
        )
        if given.probe:
            return
        trials = plan(probes, given.count, given.seed, given.operator, given.silent)
        if given.silent:
            trials = [msgspec.structs.replace(one, silent=True, depth=1, pair=False) for one in trials]
        keep = OUT / given.name
        keep.mkdir(parents=True, exist_ok=True)
        for old in keep.iterdir():
            old.unlink()
        drafts = [drawn(probes, random.Random(given.seed + n)) for n in range(given.hosts)]
        healthy = [pool.submit(looked_at, draft, number) for number, draft in enumerate(drafts)]
        outcomes = list[Outcome]()
        with (keep / "outcomes.jsonl").open("wb") as lines:
            for outcome in pool.map(run, trials, range(len(trials)), [keep] * len(trials)):
                outcomes.append(outcome)
                lines.write(msgspec.json.encode(outcome) + b"\n")
                lines.flush()
    print("\n".join((*tables(outcomes, given.blind), *_of_healthy([one.result() for one in healthy]))))


def _of_healthy(hosts: list[Healthy]) -> Iterator[str]:
    looks, alarms = sum(host.looks for host in hosts), [alarm for host in hosts for alarm in host.alarms]
    uneven = sum(len(host.uneven) for host in hosts)
    yield f"{len(hosts)} healthy hosts, {looks} looks: {len(alarms)} alarms; roster and why count unlike at {uneven} moments"
    yield from (f"  {alarm.moment}: {alarm.cause} at {alarm.service}: {alarm.says[:200]}" for alarm in alarms)


if __name__ == "__main__":
    main()

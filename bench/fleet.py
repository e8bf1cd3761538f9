"""Many hosts: how long a survey takes against the mere reading of its columns, how well work is spread, what a reading costs."""

from __future__ import annotations

import os
import random
import shutil
import signal
import statistics
import subprocess
import sys
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

from bench.made_up import made_up
from hollow_chain.facts.host import Host, Package, snapshot
from hollow_chain.sources.readings import Readings, keep, open_store

HOSTS, SERVICES = int(os.environ.get("HOLLOW_CHAIN_BENCH_HOSTS", "2000")), 200
"""Ten thousand take ten minutes: ``docs/fleet.md`` has their figures."""
_ROUND = 100
_TURN = 6.0
"""Seconds of a call between two looks at how fast the machine is."""
PROGRAM = str(Path(sys.executable).parent / "hollow-chain")
_SETTINGS = "startup, account, start_limit, stop_limit, memory_limit, restart, configuration, definition, program, program_size, program_changed_at"
DUCK = (
    'import duckdb, sys; duckdb.sql("select round, host, service, standing, causes, needs, up_after, begun_after, down_after_boot, '
    f'{_SETTINGS} from \'" + sys.argv[1] + "/index/services/*.parquet\'").to_arrow_table(); '
    'duckdb.sql("select * from \'" + sys.argv[1] + "/index/hosts/*.parquet\'").to_arrow_table()'
)
ONE = (
    "import gc, sys, time; gc.disable(); from hollow_chain.sources.readings import open_store; "
    "from hollow_chain.fleet.keeping import work_of; from hollow_chain.fleet.work import done; "
    "store = open_store(sys.argv[1]); work = [one for number in store.rounds() for one in work_of(store, number, store.round(number))]; "
    "hosts = [one._replace(parts=[part]) for one in work for part in one.parts]; "
    "chosen = hosts[:: max(1, len(hosts) // 100)]; done(hosts[0]); began = time.perf_counter(); [done(one) for one in chosen]; "
    "print((time.perf_counter() - began) / len(chosen))"
)


def filled(place: Path, hosts: int) -> tuple[Readings, float]:
    """A store of so many made-up hosts without an index, and the bytes of a reading. One host in ten has troubles."""
    store = open_store(str(place), make=True)
    size = 0
    for first in range(0, hosts, _ROUND):
        made = [_host(number) for number in range(first, min(hosts, first + _ROUND))]
        size += keep(store, snapshot(made, "bench"), {}, datetime.now(UTC)).bytes
    return store, size / hosts


def _host(number: int) -> Host:
    dice = random.Random(number)
    # The same services on every host, as in a fleet; the troubles are of some hosts alone.
    (host,) = made_up(SERVICES, 1, seed=7).hosts
    host.name = f"pier-{number:05d}"
    host.system = f"Harbor Linux 12.{dice.randrange(4)}"
    host.packages = [Package(name=f"lib-{at}", version=f"1.{int(number % 12 == at)}") for at in range(300)]
    if dice.random() < 0.9:
        for service in host.services:
            service.state, service.startup = "running", "automatic"
        host.events = []
    return host


def measured(folder: Path) -> Iterator[tuple[str, float, float]]:
    """All of it."""
    place = folder / "readings"
    _, bytes_each = filled(place, HOSTS)
    cores = len(os.sched_getaffinity(0))
    pool, peak, alone, together = _in_turns(place, cores, PROGRAM, "keep", str(place), "--index")
    each = statistics.median(alone)
    print(
        f"{HOSTS:,} hosts of {SERVICES} services: {pool:.1f} s on {cores} cores; one takes {each * 1000:.1f} ms alone,"
        f" {statistics.median(together) * 1000:.1f} ms beside another on every core; parent {peak >> 20} MB"
    )
    yield f"diagnosis of {HOSTS:,} hosts / one x {HOSTS:,} / cores", pool / (each * HOSTS / cores), 1.15
    yield "memory of the parent, GB", peak / 1e9, 1.0
    index = sum(path.stat().st_size for path in (place / "index").rglob("*.parquet"))
    yield "kilobytes of a reading of 200 services", (bytes_each + index / HOSTS) / 1000, 40.0
    mine = min(_timed(PROGRAM, "survey", "--from", str(place), "--json")[0] for _ in range(3))
    _, survey_peak = _timed(PROGRAM, "survey", "--from", str(place), "--json")
    print(f"memory of the survey: {survey_peak >> 20} MB")
    duck = min(_timed(sys.executable, "-c", DUCK, str(place))[0] for _ in range(3))
    print(f"survey of {HOSTS * SERVICES:,} services: {mine:.2f} s; DuckDB reads the same columns in {duck:.2f} s")
    yield "survey / DuckDB reading the same columns", mine / duck, 3.0
    yield from _on_engine(place, pool, cores)
    shutil.rmtree(place)


def _one(place: Path, at_once: int = 1) -> float:
    """Seconds that one host takes by itself, read, diagnosed and made into rows, in so many processes at once that know nothing of each other."""
    running = [
        subprocess.Popen([sys.executable, "-c", ONE, str(place)], stdout=subprocess.PIPE, text=True)
        for _ in range(at_once)
    ]
    return statistics.mean(float(process.communicate()[0]) for process in running)


def _in_turns(place: Path, cores: int, *command: str) -> tuple[float, int, list[float], list[float]]:
    """Seconds and peak memory of a call, and what one host took meanwhile, alone and beside another on every core.

    The speed of a machine that others share drifts within a minute by as much as is to be measured: the call is halted every few seconds
    for a look at one host. The time in which it is halted does not count."""
    alone, together = [_one(place)], [_one(place, cores)]
    began, halted = time.perf_counter(), 0.0
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True)
    while not _ended(process, _TURN):
        stopped = time.perf_counter()
        os.killpg(process.pid, signal.SIGSTOP)
        alone.append(_one(place))
        together.append(_one(place, cores))
        os.killpg(process.pid, signal.SIGCONT)
        halted += time.perf_counter() - stopped
    took = time.perf_counter() - began - halted
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    assert process.returncode in (0, 1), (command, process.returncode)
    return took, usage.ru_maxrss * 1024, [*alone, _one(place)], [*together, _one(place, cores)]


def _ended(process: subprocess.Popen[bytes], within: float) -> bool:
    """Whether it ends in so many seconds; it is left for whoever asks how it ended."""
    until = time.perf_counter() + within
    while time.perf_counter() < until:
        if os.waitid(os.P_PID, process.pid, os.WEXITED | os.WNOHANG | os.WNOWAIT):
            return True
        time.sleep(0.02)
    return False


def _timed(*command: str) -> tuple[float, int]:
    """Seconds and peak memory in bytes of a call; of it alone, and not of its children."""
    began = time.perf_counter()
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    assert process.returncode in (0, 1), (command, process.returncode)
    return time.perf_counter() - began, usage.ru_maxrss * 1024


def _on_engine(place: Path, pool: float, cores: int) -> Iterator[tuple[str, float, float]]:
    address = "tcp://127.0.0.1:18786"
    dask = str(Path(sys.executable).parent / "dask")
    # Workers as docs/fleet.md says that they are started.
    env = {**os.environ, "DASK_DISTRIBUTED__WORKER__PROFILE__ENABLED": "False"}
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "env": env}
    with subprocess.Popen(
        [dask, "scheduler", "--host", "127.0.0.1", "--port", "18786", "--no-dashboard"], **quiet
    ) as scheduler:
        workers = [
            subprocess.Popen([dask, "worker", address, "--nthreads", "1", "--no-dashboard", "--no-nanny"], **quiet)
            for _ in range(2)
        ]
        try:
            time.sleep(5)
            engine, _ = _timed(PROGRAM, "keep", str(place), "--index", "--on", address)
        finally:
            for one in (*workers, scheduler):
                one.kill()
    # The machine of a minute ago may have been another one: the pool once more, and the mean of the two.
    again, _ = _timed(PROGRAM, "keep", str(place), "--index")
    print(f"the same on a Dask cluster of 2 workers: {engine:.1f} s; in the pool again: {again:.1f} s")
    yield "diagnosis on 2 Dask workers / in the pool", engine / statistics.mean((pool, again)) * min(cores, 2) / 2, 1.3

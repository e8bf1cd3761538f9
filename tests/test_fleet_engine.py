"""Work on a Dask cluster, for real: scheduler and workers as processes, lost in the middle, without memory, or not there."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from hollow_chain.fleet.index import Index
from hollow_chain.fleet.keeping import keep_round
from hollow_chain.fleet.spread import spreader
from hollow_chain.sources.readings import open_store
from tests.conftest import PROGRAM
from tests.made_fleet import READ_AT, made_fleet

pytestmark = pytest.mark.alone
DASK = str(Path(sys.executable).parent / "dask")
HOSTS = 400


class Cluster:
    """A scheduler and its workers."""

    def __init__(self) -> None:
        with contextlib.closing(socket.socket()) as one:
            one.bind(("127.0.0.1", 0))
            self.port = one.getsockname()[1]
        self.address = f"tcp://127.0.0.1:{self.port}"
        self.scheduler = self._begun("scheduler", "--host", "127.0.0.1", "--port", str(self.port))
        self.workers: list[subprocess.Popen[bytes]] = []

    @staticmethod
    def _begun(*words: str) -> subprocess.Popen[bytes]:
        return subprocess.Popen([DASK, *words, "--no-dashboard"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def work(self, many: int, *words: str) -> None:
        """Start so many workers, and wait until the scheduler knows them."""
        for _ in range(many):
            self.workers.append(self._begun("worker", self.address, "--nthreads", "1", "--no-nanny", *words))
        from distributed import Client

        with Client(self.address, timeout="60s", set_as_default=False) as client:
            # One that has stopped for want of memory is there, and does not count as one that works.
            for _ in range(600):
                if len(client.scheduler_info(n_workers=-1)["workers"]) >= len(self.workers):
                    return
                time.sleep(0.1)
        raise AssertionError("no worker came")

    def end(self) -> None:
        """End all of it."""
        for one in (*self.workers, self.scheduler):
            one.kill()
            one.wait()


@pytest.fixture()
def cluster() -> Iterator[Cluster]:
    made = Cluster()
    yield made
    made.end()


@pytest.fixture(scope="module")
def store(tmp_path_factory: pytest.TempPathFactory) -> Path:
    place = tmp_path_factory.mktemp("readings") / "st"
    found = made_fleet(HOSTS)[0]
    keep_round(open_store(str(place), make=True), found.snapshot, found.groups, READ_AT, spreader(), lambda *_: None)
    return place


def contents(store: Path) -> dict[str, bytes]:
    return {path.name: path.read_bytes() for path in sorted((store / "index").rglob("*.parquet"))}


def indexed(store: Path, address: str) -> subprocess.Popen[str]:
    call = [*PROGRAM, "keep", str(store), "--index", "--on", address]
    return subprocess.Popen(call, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def wait_for_work(address: str, process: subprocess.Popen[str]) -> None:
    """Until pieces are under way on the cluster."""
    from distributed import Client

    with Client(address, timeout="60s", set_as_default=False) as client:
        for _ in range(600):
            if any(client.processing().values()) or process.poll() is not None:
                return
            time.sleep(0.02)
    raise AssertionError("no work came")


def test_a_cluster_gives_the_same_bytes_and_a_lost_worker_costs_only_time(cluster: Cluster, store: Path) -> None:
    before = contents(store)
    cluster.work(3)
    whole = indexed(store, cluster.address)
    _, err = whole.communicate(timeout=120)
    assert whole.returncode == 0 and not err.strip().startswith("hollow-chain: warning"), err
    assert contents(store) == before
    again = indexed(store, cluster.address)
    wait_for_work(cluster.address, again)
    cluster.workers[0].kill()
    _, err = again.communicate(timeout=120)
    assert again.returncode == 0, err
    assert contents(store) == before


def test_a_scheduler_that_is_lost_is_one_line_and_costs_nothing(cluster: Cluster, store: Path) -> None:
    before = contents(store)
    cluster.work(1)
    process = indexed(store, cluster.address)
    wait_for_work(cluster.address, process)
    cluster.scheduler.kill()
    _, err = process.communicate(timeout=120)
    lines = [line for line in err.splitlines() if "pieces diagnosed" not in line]
    assert process.returncode == 3 and len(lines) == 1 and "the scheduler was lost" in lines[0], err
    assert contents(store) == before and not Index(open_store(str(store))).troubles
    restarted = Cluster()
    try:
        restarted.work(2)
        process = indexed(store, restarted.address)
        assert process.communicate(timeout=120) and process.returncode == 0 and contents(store) == before
    finally:
        restarted.end()


def test_a_worker_without_memory_is_one_line(cluster: Cluster, store: Path) -> None:
    before = contents(store)
    cluster.work(1, "--memory-limit", "60MB")
    process = indexed(store, cluster.address)
    _, err = process.communicate(timeout=120)
    lines = [line for line in err.splitlines() if "pieces diagnosed" not in line]
    # Whether there is room for a piece at a time is a matter of its allocator: then all is well, and the same.
    assert process.returncode == 0 or (process.returncode == 3 and len(lines) == 1 and "memory" in lines[0]), err
    assert contents(store) == before


def test_nobody_there_is_one_line(cluster: Cluster, store: Path) -> None:
    before = contents(store)
    process = indexed(store, cluster.address)
    _, err = process.communicate(timeout=120)
    assert process.returncode == 3 and err.count("\n") == 1 and "its scheduler has no worker; start one" in err
    cluster.end()
    process = indexed(store, cluster.address)
    _, err = process.communicate(timeout=120)
    assert process.returncode == 3 and err.count("\n") == 1 and "no scheduler answers there" in err
    assert contents(store) == before

"""Pieces of work on a Dask cluster (distributed.dask.org): its scheduler hands them to workers on any machines, tries anew what a lost
worker had, and gives back what comes. Workers need this program installed, with the extra ``fleet``, and the store at the same place."""

from __future__ import annotations

import importlib
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from itertools import islice
from typing import Any

from hollow_chain.fleet.work import Done, HostWork, Spreader, done
from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA
from hollow_chain.trouble import Trouble

_CONNECTING = "10s"
"""How long the scheduler is waited for."""
_RETRIES = 3
"""Times that a piece is tried anew whose worker was lost."""
_LOOK = 5.0
"""Seconds without a result after which it is looked whether any worker is there that could bring one."""
_AHEAD = 4
"""Pieces that are handed on for each thread of the cluster: nobody is idle, and the scheduler holds no more than that."""


def on_engine(address: str) -> Spreader:
    """What does the work on the cluster whose scheduler is at *address*."""
    with needs(EXTRA, "--on"):
        import distributed  # noqa: F401

    def spread(work: Sequence[HostWork], told: Callable[[int], None]) -> Iterator[Done]:
        client = _client(address)
        try:
            yield from _of(client, address, work, told)
        finally:
            client.close(timeout=2)

    return spread


def _client(address: str) -> Any:
    import logging

    distributed: Any = importlib.import_module("distributed")
    # What it has to say of a connection that does not come about, or is lost, is said below, in one line.
    logging.disable(logging.CRITICAL)
    try:
        return distributed.Client(address, timeout=_CONNECTING, set_as_default=False)
    except (OSError, ValueError, TimeoutError) as error:
        said = str(error).splitlines()[0] if str(error) else type(error).__name__
        raise Trouble(f"--on {address}: no scheduler answers there ({said[:160]})") from None


def _of(client: Any, address: str, work: Sequence[HostWork], told: Callable[[int], None]) -> Iterator[Done]:
    distributed: Any = importlib.import_module("distributed")
    threads = sum(client.nthreads().values())
    if not threads:
        raise Trouble(f"--on {address}: its scheduler has no worker; start one: dask worker {address}")
    waiting: deque[Any] = deque()
    number = 0
    ahead = iter(work)
    try:
        while True:
            for one in islice(ahead, threads * _AHEAD - len(waiting)):
                waiting.append(client.submit(done, one, pure=False, retries=_RETRIES))
            if not waiting:
                return
            yield _result(client, address, waiting.popleft())
            number += 1
            told(number)
    except distributed.scheduler.KilledWorker:
        raise Trouble(
            f"--on {address}: a piece of the work took one worker after the other with it (is there enough memory?); nothing is lost:"
            " try again without --on"
        ) from None
    except (distributed.client.FutureCancelledError, distributed.comm.core.CommClosedError, OSError) as error:
        raise Trouble(
            f"--on {address}: the scheduler was lost ({type(error).__name__}); nothing is lost: try again"
        ) from None


def _result(client: Any, address: str, future: Any) -> Done:
    """What comes of a piece that is under way. Its workers may have gone, or may wait for memory that they never get."""
    distributed: Any = importlib.import_module("distributed")
    while True:
        try:
            found: Done = future.result(timeout=_LOOK)
            return found
        except (distributed.TimeoutError, TimeoutError):
            stands = [one["status"] for one in client.scheduler_info(n_workers=-1)["workers"].values()]
            if not stands:
                raise Trouble(f"--on {address}: no worker is left; nothing is lost: start one, and try again") from None
            if all(status == "paused" for status in stands):
                raise Trouble(
                    f"--on {address}: all workers have stopped for want of memory; nothing is lost: give them more, or leave out --on"
                ) from None

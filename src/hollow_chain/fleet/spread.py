"""Pieces of work over the cores of this machine, or over those of others: what comes back is in the order of the pieces, and the same
whoever did it."""

from __future__ import annotations

import multiprocessing
import os
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool

from hollow_chain.fleet.work import Done, HostWork, Spreader, done
from hollow_chain.trouble import Trouble

_AHEAD = 2
"""Pieces that wait behind each one under way: nobody is idle, and no more than that is held."""
_FEW = 2
"""Pieces up to which a pool is not worth its start."""


def spreader(engine: str = "") -> Spreader:
    """What does the work: this machine, or the *engine* at that address (``tcp://host:port``)."""
    if not engine:
        return _here
    from hollow_chain.fleet.engine import on_engine

    return on_engine(engine)


def _here(work: Sequence[HostWork], told: Callable[[int], None]) -> Iterator[Done]:
    cores = workers()
    if len(work) <= _FEW or cores < 2:
        for number, one in enumerate(work):
            yield done(one)
            told(number + 1)
        return
    yield from _pooled(work, told, min(cores, len(work)))


def workers() -> int:
    """As many as this process has cores."""
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


def _pooled(work: Sequence[HostWork], told: Callable[[int], None], many: int) -> Iterator[Done]:
    """In a pool of processes. Of one that breaks, as where the system has killed a worker for its memory, nobody knows by which piece: the
    next one is then tried alone, and given up only if it breaks that pool as well."""
    number, broke = 0, False
    while number < len(work):
        ahead = work[number : number + 1] if broke else work[number:]
        try:
            for found in _of_pool(ahead, min(many, len(ahead))):
                yield found
                number += 1
                told(number)
            broke = False
        except BrokenProcessPool:
            if broke:
                yield _given_up(work[number])
                number += 1
            broke = not broke


def _of_pool(work: Sequence[HostWork], many: int) -> Iterator[Done]:
    waiting: deque[Future[Done]] = deque()
    # Neither threads nor open connections of this process go into a child that is started afresh.
    pool = ProcessPoolExecutor(many, mp_context=multiprocessing.get_context("spawn"), initializer=_begin)
    try:
        for one in work:
            waiting.append(pool.submit(done, one))
            if len(waiting) >= many * _AHEAD:
                yield waiting.popleft().result()
        while waiting:
            yield waiting.popleft().result()
    finally:
        pool.shutdown(wait=True, cancel_futures=True)


def _begin() -> None:
    """A worker leaves Ctrl-C to whoever waits for it, and never looks through what it was started with for garbage."""
    import gc
    import signal

    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gc.freeze()


def _given_up(work: HostWork) -> Done:
    from hollow_chain.fleet.rows import Rows
    from hollow_chain.fleet.work import of_rows

    names = ", ".join([piece.host for part in work.parts for piece in part][:3])
    many = sum(len(part) for part in work.parts)
    more = f" and {many - 3} more" if many > 3 else ""
    why = f"{names}{more}: not diagnosed, the process that did it was killed twice (is there enough memory?)"
    return of_rows(Rows([], [], {}), [why])


def check(engine: str) -> None:
    """Raise :class:`~hollow_chain.trouble.Trouble` (2) where *engine* is no address of one."""
    if engine and not engine.startswith(("tcp://", "tls://")):
        raise Trouble(f"--on takes the address of a scheduler, tcp://host:port, and not {engine!r}", 2)

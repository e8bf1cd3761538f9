"""Many hosts read at once: each in a thread of its own, bounded, and none of them holds up or spoils the others."""

from __future__ import annotations

import queue
import threading
import time
from collections.abc import Callable, Sequence
from typing import Generic, NamedTuple, TypeVar

T = TypeVar("T")
AT_ONCE = 8
"""Hosts that are read at once where nobody says: what a small machine keeps up with."""
SECONDS = 60.0
"""For one host, where nobody says."""
_LOOK = 0.2
"""Seconds between two words on how far it is."""


class Came(NamedTuple, Generic[T]):
    """What a piece of work came to."""

    found: T | None
    error: BaseException | None
    seconds: float


Told = Callable[[int, int, Sequence[str]], None]
"""Is told how many came to something, how many to nothing, and the names of those that are under way."""


class Interrupted(Exception):
    """Whoever waited did not want to wait any longer."""


def at_once(work: Sequence[tuple[str, Callable[[], T]]], most: int, seconds: float, told: Told) -> list[Came[T]]:
    """What each piece of *work*, which has a name, came to: *most* of them under way at a time, each for *seconds* at the most.

    Ctrl-C ends the waiting: what is not done by then came to :class:`Interrupted`.
    """
    waiting = queue.SimpleQueue[int]()
    for number in range(len(work)):
        waiting.put(number)
    done: queue.SimpleQueue[tuple[int, Came[T]]] = queue.SimpleQueue()
    begun: dict[int, float] = {}

    def worker() -> None:
        while True:
            try:
                number = waiting.get_nowait()
            except queue.Empty:
                return
            start = begun[number] = time.monotonic()
            try:
                came = Came(work[number][1](), None, time.monotonic() - start)
            except BaseException as error:
                came = Came(None, error, time.monotonic() - start)
            done.put((number, came))

    # Not a pool of the standard library: at its end it would wait for a host that never answers.
    for _ in range(min(most, len(work))):
        threading.Thread(target=worker, daemon=True).start()
    return _collected(work, done, begun, seconds, told, worker)


def _collected(
    work: Sequence[tuple[str, Callable[[], T]]],
    done: queue.SimpleQueue[tuple[int, Came[T]]],
    begun: dict[int, float],
    seconds: float,
    told: Told,
    worker: Callable[[], None],
) -> list[Came[T]]:
    found: dict[int, Came[T]] = {}
    try:
        while len(found) < len(work):
            try:
                number, came = done.get(timeout=_LOOK)
                found.setdefault(number, came)
            except queue.Empty:
                pass
            now = time.monotonic()
            for number, start in list(begun.items()):
                if number not in found and now - start > seconds:
                    found[number] = Came(None, TimeoutError(f"not read within {seconds:.0f} s"), now - start)
                    threading.Thread(target=worker, daemon=True).start()  # in the place of the one that is stuck
            well = sum(came.error is None for came in found.values())
            told(well, len(found) - well, [work[number][0] for number in begun if number not in found])
    except KeyboardInterrupt:
        for number in range(len(work)):
            found.setdefault(number, Came(None, Interrupted("it was not waited for any longer"), 0.0))
    return [found[number] for number in range(len(work))]

"""Pieces of work side by side, each of which waits for a far host in turn: what they ask goes out together.

Each piece runs in a greenlet of its own: it is put aside where it waits, and goes on where it was when its answer is there. Only one
runs at any time, and it is put aside nowhere else, so that readers need no locks.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future
from functools import partial
from queue import SimpleQueue
from typing import Any, Generic, TypeVar

from hollow_chain.lacking import needs

with needs("remote", "a host over SSH"):
    import greenlet

T = TypeVar("T")
One = TypeVar("One")
_MOST = 400
"""Pieces that are begun at once: each takes a little memory, and a file or two that it has open on the other side."""


class SideBySide:
    """Runs pieces of work; *send* sends the questions of all that wait for answers to some."""

    def __init__(self, send: Callable[[Sequence[Any]], Future[None]]) -> None:
        self._send = send
        self._here = threading.local()
        self.waits = 0
        """How often the work stood still for an answer."""

    @property
    def _running(self) -> _Round | None:
        """The round whose piece is at work in this thread."""
        found: _Round | None = getattr(self._here, "round", None)
        return found

    def each(self, work: Callable[[One], T], items: Iterable[One]) -> list[T]:
        """What *work* gives for each of *items*, in their order. What the first of them raises that raises anything is raised here, when
        all have come to an end."""
        given = list(items)
        if len(given) < 2:
            return [work(item) for item in given]
        found: list[T] = []
        for at in range(0, len(given), _MOST):
            found += self._together(work, given[at : at + _MOST])
        return found

    def _together(self, work: Callable[[One], T], items: list[One]) -> list[T]:
        pieces = _Pieces(work, items)
        if self._running is not None:
            self._running.nest(pieces)
        else:
            self._here.round = current = _Round(self._send)
            try:
                current.run(pieces)
            finally:
                self._here.round = None
                self.waits += current.waits
        return pieces.results()

    def wait(self, future: Future[T]) -> T:
        """What *future* comes to."""
        if self._running is not None:
            self._running.put_aside(future)
        else:
            self.waits += 1
        return future.result()

    def wait_for_answers(self, questions: Sequence[Any]) -> None:
        """Have *questions* asked, together with those of others that wait."""
        if self._running is not None:
            self._running.put_aside_for_answers(questions)
        else:
            self.waits += 1
            self._send(questions).result()


class _Pieces(Generic[One, T]):
    """Pieces of work that belong together, and what they came to."""

    def __init__(self, work: Callable[[One], T], items: list[One]) -> None:
        self._work, self._items = work, items
        self._came_to: dict[int, T] = {}
        self._raised: dict[int, Exception] = {}
        self.when_done: Callable[[], None] = lambda: None

    def begun(self, center: Any) -> list[Any]:
        """A greenlet for each; all of them go back to *center* at their end."""
        return [greenlet.greenlet(partial(self._do, at, item), center) for at, item in enumerate(self._items)]

    def _do(self, at: int, item: One) -> None:
        try:
            self._came_to[at] = self._work(item)
        except Exception as error:
            self._raised[at] = error
        if len(self._came_to) + len(self._raised) == len(self._items):
            self.when_done()

    def results(self) -> list[T]:
        """What they gave, in their order; the first of them that raised something raises it here."""
        if self._raised:
            raise self._raised[min(self._raised)]
        return [self._came_to[at] for at in range(len(self._items))]


class _Round:
    """One round of pieces: those that may go on, and those that wait."""

    def __init__(self, send: Callable[[Sequence[Any]], Future[None]]) -> None:
        self._send = send
        self._center = greenlet.getcurrent()
        self._ready: deque[Any] = deque()
        self._answered: SimpleQueue[list[Any]] = SimpleQueue()
        self._questions: dict[Any, None] = {}
        self._asking: list[Any] = []
        self._asked: list[Any] = []
        """Those that wait for the answers that are under way, and those that wait for the next ones."""
        self._waiting = self.waits = 0

    def nest(self, pieces: _Pieces[Any, Any]) -> None:
        """Called by a piece that goes on when all of *pieces* are done."""
        above = greenlet.getcurrent()
        pieces.when_done = lambda: self._ready.append(above)
        self._ready.extend(pieces.begun(self._center))
        self._center.switch()

    def run(self, pieces: _Pieces[Any, Any]) -> None:
        """Until all are done."""
        self._ready.extend(pieces.begun(self._center))
        while self._ready or self._waiting or self._asking:
            while self._ready:
                self._ready.popleft().switch()
            if self._asking and not self._asked:
                # One at a time: what is asked meanwhile goes out together when its answer is there.
                self._asked, self._asking = self._asking, []
                questions, self._questions = list(self._questions), {}
                self._await(self._send(questions), self._asked)
            if self._waiting:
                self.waits += 1
                self._take(self._answered.get())
                while not self._answered.empty():
                    self._take(self._answered.get())

    def _await(self, future: Future[Any], pieces: list[Any]) -> None:
        self._waiting += 1
        future.add_done_callback(lambda _: self._answered.put(pieces))

    def _take(self, pieces: list[Any]) -> None:
        self._waiting -= 1
        if pieces is self._asked:
            self._asked = []
        self._ready.extend(pieces)

    def put_aside(self, future: Future[Any]) -> None:
        """Called by a piece that waits for *future*."""
        if not future.done():
            self._await(future, [greenlet.getcurrent()])
            self._center.switch()

    def put_aside_for_answers(self, questions: Sequence[Any]) -> None:
        """Called by a piece that waits for the answers to *questions*."""
        self._questions |= dict.fromkeys(questions)
        self._asking.append(greenlet.getcurrent())
        self._center.switch()

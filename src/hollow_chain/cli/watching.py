"""``survey --every``: one round after the other, and only what has changed."""

from __future__ import annotations

import signal
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from hollow_chain.cli import common
from hollow_chain.trouble import CALL_IS_WRONG, Trouble

if TYPE_CHECKING:
    from hollow_chain.fleet.surveying import Survey

Surveyed = Callable[[], "tuple[Survey, int]"]
"""A survey, and the exit status that it would end with."""


def watch(surveyed: Surveyed, every: float, rounds: int) -> int:
    """Survey each *every* seconds, *rounds* times (0: until somebody ends it), and write what has changed as lines of JSON; the status
    of the last round.

    A round that takes longer than that is not overtaken by the next one: the rounds that are left out for it are told.
    """
    leave = threading.Event()
    # Whoever ends it means it well: the round that is under way is given up, and the status is that of the last one.
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: _stop(leave))
    begun = time.monotonic()
    turn, done, status = 0, 0, 0
    before: Survey | None = None
    while not leave.is_set():
        try:
            before, status = _round(surveyed, before)
        except _Left:
            break
        done += 1
        if rounds and done >= rounds:
            break
        late = int((time.monotonic() - begun) / every) - turn
        if late > 0:
            _write({"event": "rounds missed", "rounds": late, "why": f"the last one took longer than {every:g} s"})
        turn += late + 1
        try:
            leave.wait(max(0.0, begun + turn * every - time.monotonic()))
        except _Left:
            break
    return status


class _Left(BaseException):
    """Somebody has ended it."""


def _stop(leave: threading.Event) -> None:
    leave.set()
    raise _Left


def _round(surveyed: Surveyed, before: Survey | None) -> tuple[Survey | None, int]:
    from hollow_chain.fleet.watching import changed, with_last_known

    try:
        now, status = surveyed()
    except Trouble as trouble:
        if trouble.status == CALL_IS_WRONG:
            raise
        _write({"event": "round failed", "says": str(trouble)})
        return before, trouble.status
    if before is None:
        from hollow_chain.show.survey import lead

        _write({"event": "begun", "says": lead(now)})
        return now, status
    for one in changed(before, now):
        _write({name: value for name, value in one._asdict().items() if value})
    return with_last_known(before, now), status


def _write(event: dict[str, Any]) -> None:
    from hollow_chain.show.documents import to_json_line

    moment = datetime.now(UTC).isoformat(timespec="seconds").replace("+00:00", "Z")
    common.put(to_json_line({"at": moment, **event}))
    import sys

    sys.stdout.flush()

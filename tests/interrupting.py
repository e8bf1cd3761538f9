"""Run the program, and interrupt it (SIGINT, as Ctrl-C does) when its rehearsal has told so many times how far it is.

Call: ``NUMBER CALL...``. What it waits for is an event of the program itself: no clock is part of it.
"""

from __future__ import annotations

import os
import signal
import sys

from hollow_chain import cli
from hollow_chain.cli.common import Telling


def main() -> None:
    left, original = int(sys.argv[1]), Telling.__call__

    def counted(telling: Telling, done: int, runs: int) -> None:
        nonlocal left
        original(telling, done, runs)
        left -= 1
        if left == 0:
            os.kill(os.getpid(), signal.SIGINT)

    Telling.__call__ = counted  # type: ignore[method-assign]
    signal.signal(signal.SIGINT, signal.default_int_handler)
    sys.exit(cli.run(sys.argv[2:]))

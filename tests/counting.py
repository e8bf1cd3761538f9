"""Run the program and count its calls: a measure of work that no other load on the machine can change.

Call: ``FILE CALL...``; the number of calls of Python functions is written to FILE.
"""

from __future__ import annotations

import sys
from pathlib import Path
from types import FrameType

from hollow_chain import cli


def main() -> None:
    calls = 0

    def count(_: FrameType, event: str, __: object) -> None:
        nonlocal calls
        if event == "call":
            calls += 1

    sys.setprofile(count)
    status = cli.run(sys.argv[2:])
    sys.setprofile(None)
    Path(sys.argv[1]).write_text(str(calls))
    sys.exit(status)

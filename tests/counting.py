"""Run the program and count its calls: a measure of work that no other load on the machine can change.

Call: ``FILE CALL...``; the number of calls of Python functions is written to FILE.
"""

from __future__ import annotations

import cProfile
import sys
from pathlib import Path

from hollow_chain import cli


def main() -> None:
    profile = cProfile.Profile(builtins=False)
    status = profile.runcall(cli.run, sys.argv[2:])
    # What the profiler calls "recalls" are calls within a call of the same function.
    Path(sys.argv[1]).write_text(str(sum(entry.callcount for entry in profile.getstats())))
    sys.exit(status)

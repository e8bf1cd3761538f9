"""Whether a piece of work gets by with so much memory: tried in a child process, which nobody misses if it does not."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

_STATM = Path("/proc/self/statm")


def fits(work: Callable[[], object], more: int) -> bool:
    """Whether *work* needs at most *more* bytes beyond what this process has now.

    By the limit of the kernel on the address space of a forked copy (setrlimit(2), ``RLIMIT_AS``): not here, since not every
    library survives that it is given no memory. Where no process can be forked, nothing is tried, and it is taken to fit.
    """
    if not hasattr(os, "fork") or not _STATM.exists():
        return True
    child = os.fork()
    if child == 0:
        os._exit(_tried(work, more))
    return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0


def _tried(work: Callable[[], object], more: int) -> int:
    import resource

    try:
        bound = int(_STATM.read_text().split()[0]) * resource.getpagesize() + more
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        resource.setrlimit(resource.RLIMIT_AS, (bound, bound))
        work()
    except MemoryError:
        return 1
    except Exception:  # whatever else is wrong, the caller will meet it again
        return 0
    return 0

"""A bound on the memory that this process may take for one piece of work."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

_STATM = Path("/proc/self/statm")


@contextmanager
def at_most(more: int) -> Iterator[None]:
    """Let this process take up to *more* bytes beyond what it has now; a demand beyond that is a :class:`MemoryError`.

    By the limit of the kernel on the address space (setrlimit(2), ``RLIMIT_AS``). Where there is none, nothing is bound.
    """
    try:
        import resource

        pages = int(_STATM.read_text().split()[0])
        soft, hard = resource.getrlimit(resource.RLIMIT_AS)
        bound = pages * resource.getpagesize() + more
    except (ImportError, OSError, ValueError):
        yield
        return
    if soft != resource.RLIM_INFINITY and soft <= bound:
        yield
        return
    resource.setrlimit(resource.RLIMIT_AS, (bound, hard))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_AS, (soft, hard))

"""Where facts come from, as ``--from`` names it: resolved here and nowhere else."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from hollow_chain.lazy import pattern
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
    from hollow_chain.facts.host import Snapshot
    from hollow_chain.sources.asked import Asked

_SCHEME = pattern(r"^([A-Za-z][A-Za-z0-9+.\-]{1,30})://")
"""How an address of something that is no file begins (RFC 3986, 3.1); one letter alone is a drive."""
FORMS = "a snapshot file, or a folder of them"


def is_live(named: str | None) -> bool:
    """Whether a host is read now, which takes its time."""
    return named is None


def facts_from(named: str | None, asked: Asked, written_by: str) -> Snapshot:
    """The facts that *named* means; of this machine, now, where nothing is named.

    Raises :class:`~hollow_chain.trouble.Trouble`: 2 where it is none of the forms, 3 where it cannot be read.
    """
    if named is None:
        from hollow_chain.reach.here import here
        from hollow_chain.sources.readers import readers_of
        from hollow_chain.sources.reading import read

        reached = here()
        return read(reached, readers_of(reached.family), asked, written_by)
    scheme = _SCHEME.match(named)
    if scheme is not None:
        raise wrong_call(f"--from takes no {scheme[1]}:// address; it takes {FORMS}")
    from hollow_chain.sources import files

    return files.read(Path(named))

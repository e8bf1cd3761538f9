"""How often which cause was confirmed: all that ``why`` needs, without the weight of the store."""

from __future__ import annotations

import contextlib
import os

from hollow_chain.experience.place import COUNTS, path_of, url_of


def confirmed(given: str = "") -> dict[str, int]:
    """How many confirmed cases there are of each cause; none where there is no store yet.

    Raises :class:`~hollow_chain.trouble.Trouble` where a store that is named cannot be read.
    """
    url = url_of(given)
    path = path_of(url)
    if path is None:
        from hollow_chain.experience.store import Store

        return Store(url).confirmed()
    if not os.access(path, os.R_OK):
        return {}
    import sqlite3

    with (
        contextlib.suppress(sqlite3.Error),
        contextlib.closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=1)) as found,
    ):
        return {str(cause): int(many) for cause, many in found.execute(COUNTS)}
    return {}

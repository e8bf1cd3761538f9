"""Where the cases are kept, and how often which cause was confirmed: all that ``why`` needs, without the weight of the store."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

SQLITE = "sqlite"
VARIABLE = "HOLLOW_CHAIN_CASES"
COUNTS = "SELECT true_cause, COUNT(*) FROM hollow_chain_cases WHERE true_cause IS NOT NULL AND true_cause <> '' GROUP BY true_cause"


def url_of(given: str = "") -> str:
    """The URL of the store: as given, else of the environment, else a file of the user's own."""
    named = given or os.environ.get(VARIABLE, "")
    if not named:
        import platformdirs

        named = str(Path(platformdirs.user_data_dir("hollow-chain", appauthor=False)) / "cases.db")
    return named if "://" in named else f"{SQLITE}:///{Path(named).absolute()}"


def path_of(url: str) -> Path | None:
    """The file of a store that is one."""
    return Path(url.removeprefix(f"{SQLITE}:///")) if url.startswith(f"{SQLITE}:///") else None


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

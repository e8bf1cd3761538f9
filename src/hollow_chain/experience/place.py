"""Where the cases are kept."""

from __future__ import annotations

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

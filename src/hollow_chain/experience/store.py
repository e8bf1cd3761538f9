"""The store of cases: a file of SQLite by default, or a database of a team's, by URL. ``docs/mend.md`` documents it."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from hollow_chain.experience.case import CaseDatabase, CaseWish, KeptCase
from hollow_chain.experience.place import SQLITE, path_of
from hollow_chain.lacking import needs
from hollow_chain.trouble import wrong_call

MOST_LISTED = 200
"""Cases that are listed: as many as can be gone through by eye; the store holds all."""


class Store:
    """A store of cases. Every method raises :class:`Trouble` where the database does not do as it is told."""

    def __init__(self, url: str) -> None:
        self.url = url
        self._database = _database(url)

    def keep(self, verdict: dict[str, Any], plan: dict[str, Any] | None = None, mend: str = "", outcome: str = "",
             took_seconds: float | None = None) -> int:  # fmt: skip
        """Keep a case; its number. *verdict* and *plan* are documents as ``--json`` prints them."""
        first = verdict["causes"][0] if verdict["causes"] else {}
        return self._database.insert(
            {
                "kept_at": datetime.now(UTC),
                "host": verdict["target"]["host"][:255],
                "target": verdict["target"]["service"][:255],
                "summary": verdict["summary"],
                "cause": first.get("cause", ""),
                "place": first.get("service", "")[:255],
                "confidence": first.get("confidence"),
                "verdict": verdict,
                "plan": plan,
                "mend": mend,
                "outcome": outcome,
                "took_seconds": took_seconds,
                "note": "",
            }
        )

    def list(self, cause: str = "", host: str = "", standing: str = "") -> list[KeptCase]:
        """Cases, the latest first."""
        return self._database.cases(CaseWish(cause=cause, host=host, standing=standing), MOST_LISTED)

    def case(self, number: int) -> KeptCase:
        """The case of that number."""
        found = self._database.cases(CaseWish(number=number), 1) if 0 < number < _LARGEST else []
        if not found:
            where = self._database.said_url
            raise wrong_call(f"no case {number} in the store ({where}); 'hollow-chain case list' lists them")
        return found[0]

    def judge(self, number: int, cause: str, place: str, note: str = "") -> KeptCase:
        """Say what it really was; said again, the latest word holds."""
        self.case(number)
        values = {"true_cause": cause, "true_place": place[:255], "judged_at": datetime.now(UTC), "note": note[:4000]}
        self._database.update(CaseWish(number=number), values)
        return self.case(number)

    def confirmed(self) -> dict[str, int]:
        """How many judged cases there are of each cause."""
        return self._database.counts()

    def undone(self, mend: str, host: str) -> None:
        """A mend was taken back: its case says so."""
        self._database.update(CaseWish(mend=mend, host=host), {"outcome": "undone"})


_LARGEST = 1 << 31
"""Numbers of cases are below that in every database (``INTEGER``)."""


def _database(url: str) -> CaseDatabase:
    path = path_of(url)
    if path is not None or url == f"{SQLITE}://":
        from hollow_chain.experience.local import LocalCases

        return LocalCases(path)
    with needs("team", "a store of cases that is a database"):
        from hollow_chain.experience.team import TeamCases

        return TeamCases(url)


def is_there(url: str) -> bool:
    """Whether the file of a store in a file is there; of any other store nothing is made by looking."""
    path = path_of(url)
    return path is None or path.exists()

"""A case as it is kept, and what a database of cases has to be able to do."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal, Protocol

Values = Mapping[str, Any]
Standing = Literal["", "open", "judged"]


@dataclass(frozen=True)
class KeptCase:
    """One case."""

    id: int
    kept_at: datetime
    host: str
    target: str
    summary: str
    cause: str
    """What the verdict named first; empty where it named nothing."""
    place: str
    confidence: float | None
    verdict: dict[str, Any]
    plan: dict[str, Any] | None
    mend: str
    """Name of the mend that was carried out."""
    outcome: str
    """``held``, ``not held``, ``undone``; empty where nothing was carried out."""
    took_seconds: float | None
    true_cause: str | None
    """Confirmed or corrected by a person; None: nobody has looked yet."""
    true_place: str | None
    judged_at: datetime | None
    note: str

    @property
    def standing(self) -> str:
        """``open``, ``confirmed`` or ``corrected``."""
        if self.true_cause is None:
            return "open"
        return "confirmed" if self.true_cause == self.cause else "corrected"


@dataclass(frozen=True)
class CaseWish:
    """Which cases are asked for; what is empty is not asked about."""

    number: int = 0
    cause: str = ""
    """That the verdict named or a person did."""
    host: str = ""
    standing: str = ""
    """``open``, or anything else for those that somebody has judged."""
    mend: str = ""


class CaseDatabase(Protocol):
    """Where cases lie: one table. All raise :class:`~hollow_chain.trouble.Trouble` where it does not do as it is told."""

    said_url: str
    """Where it is, without a password."""

    def insert(self, values: Values) -> int:
        """Keep a case; its number."""

    def cases(self, wish: CaseWish, most: int) -> list[KeptCase]:
        """Up to *most* cases that fit, the latest first."""

    def update(self, wish: CaseWish, values: Values) -> None:
        """Change those that fit."""

    def counts(self) -> dict[str, int]:
        """How many judged cases there are of each true cause."""

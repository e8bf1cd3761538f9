"""The store of cases: a file of SQLite by default, or any database that SQLAlchemy reaches, by URL.

One table, made where it is not there. ``docs/cases.md`` documents it.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import sqlalchemy as sql
from sqlalchemy.engine import Connection, Engine

from hollow_chain.experience.place import COUNTS, SQLITE
from hollow_chain.trouble import Trouble, wrong_call

MOST_LISTED = 200
"""Cases that are listed: as many as can be gone through by eye; the store holds all."""
_METADATA = sql.MetaData()
CASES = sql.Table(
    "hollow_chain_cases",
    _METADATA,
    sql.Column("id", sql.Integer, primary_key=True, autoincrement=True),
    sql.Column("kept_at", sql.DateTime(timezone=True), nullable=False),
    sql.Column("host", sql.String(255), nullable=False),
    sql.Column("target", sql.String(255), nullable=False),
    sql.Column("summary", sql.Text, nullable=False),
    sql.Column(
        "cause", sql.String(64), nullable=False, comment="what the verdict named first; empty where it named nothing"
    ),
    sql.Column("place", sql.String(255), nullable=False),
    sql.Column("confidence", sql.Float),
    sql.Column("verdict", sql.JSON, nullable=False),
    sql.Column("plan", sql.JSON),
    sql.Column("mend", sql.String(64), nullable=False, comment="name of the mend that was carried out"),
    sql.Column(
        "outcome", sql.String(32), nullable=False, comment="held, not held, undone; empty where nothing was carried out"
    ),
    sql.Column("took_seconds", sql.Float),
    sql.Column("true_cause", sql.String(64), comment="confirmed or corrected by a person; null: nobody has looked yet"),
    sql.Column("true_place", sql.String(255)),
    sql.Column("judged_at", sql.DateTime(timezone=True)),
    sql.Column("note", sql.Text, nullable=False),
)


@dataclass(frozen=True)
class KeptCase:
    """One case."""

    id: int
    kept_at: datetime
    host: str
    target: str
    summary: str
    cause: str
    place: str
    confidence: float | None
    verdict: dict[str, Any]
    plan: dict[str, Any] | None
    mend: str
    outcome: str
    took_seconds: float | None
    true_cause: str | None
    true_place: str | None
    judged_at: datetime | None
    note: str

    @property
    def standing(self) -> str:
        """``open``, ``confirmed`` or ``corrected``."""
        if self.true_cause is None:
            return "open"
        return "confirmed" if self.true_cause == self.cause else "corrected"


class Store:
    """A store of cases. Every method raises :class:`Trouble` where the database does not do as it is told."""

    def __init__(self, url: str) -> None:
        self.url = url
        self._engine = _engine(url)
        with self._reached():
            _METADATA.create_all(self._engine)

    @contextlib.contextmanager
    def _reached(self) -> Iterator[None]:
        try:
            yield
        except sql.exc.SQLAlchemyError as error:
            reason = " ".join(str(getattr(error, "orig", None) or error).split())[:300]
            raise Trouble(f"the store of cases ({self.said_url}) cannot be used: {reason}") from None

    @property
    def said_url(self) -> str:
        """Where it is, without a password."""
        return self._engine.url.render_as_string(hide_password=True)

    @contextlib.contextmanager
    def _begun(self) -> Iterator[Connection]:
        with self._reached(), self._engine.begin() as connection:
            yield connection

    def keep(self, verdict: dict[str, Any], plan: dict[str, Any] | None = None, mend: str = "", outcome: str = "",
             took_seconds: float | None = None) -> int:  # fmt: skip
        """Keep a case; its number. *verdict* and *plan* are documents as ``--json`` prints them."""
        first = verdict["causes"][0] if verdict["causes"] else {}
        values = {
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
        with self._begun() as connection:
            key = connection.execute(sql.insert(CASES).values(values)).inserted_primary_key
        return int(key[0]) if key is not None else 0

    def list(self, cause: str = "", host: str = "", standing: str = "") -> list[KeptCase]:
        """Cases, the latest first."""
        query = sql.select(CASES).order_by(CASES.c.id.desc()).limit(MOST_LISTED)
        if cause:
            query = query.where(sql.or_(CASES.c.cause == cause, CASES.c.true_cause == cause))
        if host:
            query = query.where(CASES.c.host == host)
        if standing == "open":
            query = query.where(CASES.c.true_cause.is_(None))
        elif standing:
            query = query.where(CASES.c.true_cause.is_not(None))
        with self._begun() as connection:
            return [_case(row) for row in connection.execute(query)]

    def case(self, number: int) -> KeptCase:
        """The case of that number."""
        with self._begun() as connection:
            row = connection.execute(sql.select(CASES).where(CASES.c.id == number)).first()
        if row is None:
            raise wrong_call(f"no case {number} in the store ({self.said_url}); 'hollow-chain case list' lists them")
        return _case(row)

    def judge(self, number: int, cause: str, place: str, note: str = "") -> KeptCase:
        """Say what it really was; said again, the latest word holds."""
        self.case(number)
        values = {"true_cause": cause, "true_place": place[:255], "judged_at": datetime.now(UTC), "note": note[:4000]}
        with self._begun() as connection:
            connection.execute(sql.update(CASES).where(CASES.c.id == number).values(values))
        return self.case(number)

    def confirmed(self) -> dict[str, int]:
        """How many judged cases there are of each cause."""
        with self._begun() as connection:
            return {str(cause): int(many) for cause, many in connection.execute(sql.text(COUNTS))}

    def undone(self, mend: str, host: str) -> None:
        """A mend was taken back: its case says so."""
        with self._begun() as connection:
            where = sql.and_(CASES.c.mend == mend, CASES.c.host == host)
            connection.execute(sql.update(CASES).where(where).values(outcome="undone"))


def _engine(url: str) -> Engine:
    try:
        parsed = sql.engine.make_url(url)
        if parsed.drivername == "postgresql":
            parsed = parsed.set(drivername="postgresql+psycopg")
        if parsed.drivername == SQLITE and parsed.database:
            _own_folder(Path(parsed.database))
        if parsed.drivername == SQLITE:
            # Between two uses the file is not held open: not every system lets go of one that is.
            pool = sql.NullPool if parsed.database else None
            return sql.create_engine(parsed, connect_args={"timeout": 10}, poolclass=pool)
        return sql.create_engine(parsed, connect_args={"connect_timeout": 10})
    except (sql.exc.ArgumentError, sql.exc.NoSuchModuleError) as error:
        raise wrong_call(f"{url!r} is no URL of a store: {' '.join(str(error).split())[:200]}") from None
    except ModuleNotFoundError as error:
        raise wrong_call(
            f"the store needs the Python package {error.name}; pip install 'hollow-chain[postgresql]'"
        ) from None


def is_there(url: str) -> bool:
    """Whether the file of a store in a file is there; of any other store nothing is made by looking."""
    try:
        parts = sql.engine.make_url(url)
    except sql.exc.ArgumentError:
        return True
    is_file = parts.get_backend_name() == "sqlite" and bool(parts.database)
    return not is_file or Path(str(parts.database)).exists()


def _own_folder(path: Path) -> None:
    """The folder of a store file, and the file, readable by its owner only: cases quote the logs of hosts."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        path.touch(mode=0o600, exist_ok=True)
    except OSError as error:
        raise Trouble(f"cannot make {path}: {(error.strerror or str(error)).lower()}") from None


def _case(row: Any) -> KeptCase:
    fields = dict(row._mapping)
    for name in ("kept_at", "judged_at"):
        if fields[name] is not None and fields[name].tzinfo is None:  # SQLite keeps no zone: all are written in UTC
            fields[name] = fields[name].replace(tzinfo=UTC)
    return KeptCase(**fields)

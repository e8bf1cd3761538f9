"""Cases in a database that a team shares: any that SQLAlchemy reaches, by URL (extra ``team``)."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from datetime import UTC
from typing import Any

import sqlalchemy as sql
from sqlalchemy.engine import Connection, Engine

from hollow_chain.experience.case import CaseWish, KeptCase, Values
from hollow_chain.experience.place import COUNTS
from hollow_chain.trouble import Trouble, wrong_call

_METADATA = sql.MetaData()
_CASES = sql.Table(
    "hollow_chain_cases",
    _METADATA,
    sql.Column("id", sql.Integer, primary_key=True, autoincrement=True),
    sql.Column("kept_at", sql.DateTime(timezone=True), nullable=False),
    sql.Column("host", sql.String(255), nullable=False),
    sql.Column("target", sql.String(255), nullable=False),
    sql.Column("summary", sql.Text, nullable=False),
    sql.Column("cause", sql.String(64), nullable=False),
    sql.Column("place", sql.String(255), nullable=False),
    sql.Column("confidence", sql.Float),
    sql.Column("verdict", sql.JSON, nullable=False),
    sql.Column("plan", sql.JSON),
    sql.Column("mend", sql.String(64), nullable=False),
    sql.Column("outcome", sql.String(32), nullable=False),
    sql.Column("took_seconds", sql.Float),
    sql.Column("true_cause", sql.String(64)),
    sql.Column("true_place", sql.String(255)),
    sql.Column("judged_at", sql.DateTime(timezone=True)),
    sql.Column("note", sql.Text, nullable=False),
)


class TeamCases:
    """A table of cases, made where it is not there."""

    def __init__(self, url: str) -> None:
        self._engine = _engine(url)
        self.said_url = self._engine.url.render_as_string(hide_password=True)
        with self._reached():
            _METADATA.create_all(self._engine)

    @contextlib.contextmanager
    def _reached(self) -> Iterator[None]:
        try:
            yield
        except sql.exc.SQLAlchemyError as error:
            reason = " ".join(str(getattr(error, "orig", None) or error).split())[:300]
            raise Trouble(f"the store of cases ({self.said_url}) cannot be used: {reason}") from None

    @contextlib.contextmanager
    def _begun(self) -> Iterator[Connection]:
        with self._reached(), self._engine.begin() as connection:
            yield connection

    def insert(self, values: Values) -> int:
        """See :class:`~hollow_chain.experience.case.CaseDatabase`."""
        with self._begun() as connection:
            key = connection.execute(sql.insert(_CASES).values(dict(values))).inserted_primary_key
        return int(key[0]) if key is not None else 0

    def cases(self, wish: CaseWish, most: int) -> list[KeptCase]:
        """See :class:`~hollow_chain.experience.case.CaseDatabase`."""
        query = sql.select(_CASES).where(*_where(wish)).order_by(_CASES.c.id.desc()).limit(most)
        with self._begun() as connection:
            return [_case(row) for row in connection.execute(query)]

    def update(self, wish: CaseWish, values: Values) -> None:
        """See :class:`~hollow_chain.experience.case.CaseDatabase`."""
        with self._begun() as connection:
            connection.execute(sql.update(_CASES).where(*_where(wish)).values(dict(values)))

    def counts(self) -> dict[str, int]:
        """See :class:`~hollow_chain.experience.case.CaseDatabase`."""
        with self._begun() as connection:
            return {str(cause): int(many) for cause, many in connection.execute(sql.text(COUNTS))}


def _where(wish: CaseWish) -> list[sql.ColumnElement[bool]]:
    terms: list[sql.ColumnElement[bool]] = []
    for column, value in ((_CASES.c.id, wish.number), (_CASES.c.host, wish.host), (_CASES.c.mend, wish.mend)):
        if value:
            terms.append(column == value)
    if wish.cause:
        terms.append(sql.or_(_CASES.c.cause == wish.cause, _CASES.c.true_cause == wish.cause))
    if wish.standing:
        open_ones = _CASES.c.true_cause.is_(None)
        terms.append(open_ones if wish.standing == "open" else sql.not_(open_ones))
    return terms


def _engine(url: str) -> Engine:
    try:
        parsed = sql.engine.make_url(url)
        if parsed.drivername == "postgresql":
            parsed = parsed.set(drivername="postgresql+psycopg")
        return sql.create_engine(parsed, connect_args={"connect_timeout": 10})
    except (sql.exc.ArgumentError, sql.exc.NoSuchModuleError) as error:
        raise wrong_call(f"{url!r} is no URL of a store: {' '.join(str(error).split())[:200]}") from None


def _case(row: Any) -> KeptCase:
    fields = dict(row._mapping)
    for name in ("kept_at", "judged_at"):
        if (
            fields[name] is not None and fields[name].tzinfo is None
        ):  # not every database keeps a zone: all are written in UTC
            fields[name] = fields[name].replace(tzinfo=UTC)
    return KeptCase(**fields)

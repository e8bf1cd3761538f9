"""Cases in a file of SQLite, by the standard library alone."""

from __future__ import annotations

import contextlib
import json
import sqlite3
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from hollow_chain.experience.case import CaseWish, KeptCase, Values
from hollow_chain.experience.place import COUNTS, SQLITE
from hollow_chain.trouble import Trouble

_TABLE = "hollow_chain_cases"
_MAKE = f"""
CREATE TABLE IF NOT EXISTS {_TABLE} (
    id INTEGER PRIMARY KEY, kept_at DATETIME NOT NULL, host VARCHAR(255) NOT NULL, target VARCHAR(255) NOT NULL, summary TEXT NOT NULL,
    cause VARCHAR(64) NOT NULL, place VARCHAR(255) NOT NULL, confidence FLOAT, verdict JSON NOT NULL, plan JSON, mend VARCHAR(64) NOT NULL,
    outcome VARCHAR(32) NOT NULL, took_seconds FLOAT, true_cause VARCHAR(64), true_place VARCHAR(255), judged_at DATETIME,
    note TEXT NOT NULL
)"""
_COLUMNS = tuple(KeptCase.__dataclass_fields__)
_MOMENTS, _DOCUMENTS = ("kept_at", "judged_at"), ("verdict", "plan")
_WAIT = 10.0
"""Seconds to wait for somebody else who writes at the moment."""


class LocalCases:
    """A file of cases, made where it is not there; or, without one, an empty store that is gone with the call."""

    def __init__(self, path: Path | None) -> None:
        self.said_url = f"{SQLITE}:///{path}" if path is not None else f"{SQLITE}://"
        self._file = str(path) if path is not None else ":memory:"
        if path is not None:
            _own(path)
        self._kept = None if path is not None else sqlite3.connect(self._file)
        with self._begun() as connection:
            connection.execute(_MAKE)

    @contextlib.contextmanager
    def _begun(self) -> Iterator[sqlite3.Connection]:
        """A transaction. Between two uses the file is not held open: not every system lets go of one that is."""
        try:
            connection = self._kept or sqlite3.connect(self._file, timeout=_WAIT)
            try:
                connection.row_factory = sqlite3.Row
                with connection:
                    yield connection
            finally:
                if self._kept is None:
                    connection.close()
        except sqlite3.Error as error:
            raise Trouble(f"the store of cases ({self.said_url}) cannot be used: {error}") from None

    def insert(self, values: Values) -> int:
        """See :class:`~hollow_chain.experience.case.CaseDatabase`."""
        names, places = ", ".join(values), ", ".join("?" for _ in values)
        with self._begun() as connection:
            done = connection.execute(f"INSERT INTO {_TABLE} ({names}) VALUES ({places})", _written(values))
            return done.lastrowid or 0

    def cases(self, wish: CaseWish, most: int) -> list[KeptCase]:
        """See :class:`~hollow_chain.experience.case.CaseDatabase`."""
        where, given = _where(wish)
        query = f"SELECT {', '.join(_COLUMNS)} FROM {_TABLE}{where} ORDER BY id DESC LIMIT ?"
        with self._begun() as connection:
            return [_case(row) for row in connection.execute(query, [*given, most])]

    def update(self, wish: CaseWish, values: Values) -> None:
        """See :class:`~hollow_chain.experience.case.CaseDatabase`."""
        where, given = _where(wish)
        sets = ", ".join(f"{name} = ?" for name in values)
        with self._begun() as connection:
            connection.execute(f"UPDATE {_TABLE} SET {sets}{where}", [*_written(values), *given])

    def counts(self) -> dict[str, int]:
        """See :class:`~hollow_chain.experience.case.CaseDatabase`."""
        with self._begun() as connection:
            return {str(cause): int(many) for cause, many in connection.execute(COUNTS)}


def _where(wish: CaseWish) -> tuple[str, list[Any]]:
    terms, given = [], []
    for column, value in (("id", wish.number), ("host", wish.host), ("mend", wish.mend)):
        if value:
            terms.append(f"{column} = ?")
            given.append(value)
    if wish.cause:
        terms.append("(cause = ? OR true_cause = ?)")
        given += [wish.cause, wish.cause]
    if wish.standing:
        terms.append(f"true_cause IS {'' if wish.standing == 'open' else 'NOT '}NULL")
    return (f" WHERE {' AND '.join(terms)}" if terms else ""), given


def _written(values: Values) -> list[Any]:
    """Values as SQLite has them: moments in UTC without a zone, documents as text."""
    found = []
    for name, value in values.items():
        if name in _MOMENTS and value is not None:
            value = value.astimezone(UTC).replace(tzinfo=None).isoformat(" ", "microseconds")
        elif name in _DOCUMENTS and value is not None:
            value = json.dumps(value)
        found.append(value)
    return found


def _case(row: sqlite3.Row) -> KeptCase:
    fields = dict(row)
    try:
        for name in _MOMENTS:
            fields[name] = datetime.fromisoformat(fields[name]).replace(tzinfo=UTC) if fields[name] else None
        for name in _DOCUMENTS:
            fields[name] = json.loads(fields[name]) if fields[name] else None
    except (TypeError, ValueError) as error:
        raise Trouble(f"case {fields.get('id')} in the store cannot be read: {error}") from None
    return KeptCase(**fields)


def _own(path: Path) -> None:
    """The folder of a store file, and the file, readable by its owner only: cases quote the logs of hosts."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        path.touch(mode=0o600, exist_ok=True)
    except OSError as error:
        raise Trouble(f"cannot make {path}: {(error.strerror or str(error)).lower()}") from None

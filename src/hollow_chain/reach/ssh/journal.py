"""The journal of a host over SSH: asked with journalctl(1), for many services at once where the questions are known before."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

from hollow_chain.reach.interfaces import Entry, Match
from hollow_chain.reach.ssh.attendant import Attendant
from hollow_chain.reach.ssh.journal_export import Fields, records

MAX_FIELD = 4000
"""Bytes of a field that are kept."""
_MOST_AT_ONCE = 4000
"""Records that one question about many services brings: those of a bad day of a large host."""
_MOST_WORDS = 2000
"""Conditions in one question: what fits on a command line (execve(2), "Limits on size of arguments")."""


class FarJournal:
    """The journal of a host. Use as a context manager."""

    def __init__(self, attendant: Attendant) -> None:
        self._attendant = attendant
        self._brought: list[Fields] = []
        self._covered: list[Match] = []
        self._whole = True

    def __enter__(self) -> FarJournal:
        return self

    def __exit__(self, *_: object) -> None:
        """Nothing is held open."""

    def expect(self, fits: Sequence[Match]) -> None:
        """Ask for the newest records that fit one of *fits*, of which will be asked one by one."""
        words = _words(fits)
        if fits and len(words) <= _MOST_WORDS:
            self._brought = self._asked(words, _MOST_AT_ONCE)
            self._whole = len(self._brought) < _MOST_AT_ONCE
            self._covered = list(fits)

    def entries(self, fits: Sequence[Match], fields: Sequence[str], most: int, from_head: bool = False) -> list[Entry]:
        """See :meth:`hollow_chain.reach.interfaces.Records.entries`."""
        found = None
        if all(match in self._covered for match in fits):
            found = [one for one in self._brought if any(_fits(one, match) for match in fits)]
            if not self._whole and (from_head or len(found) < most):
                found = None
        if found is None:
            found = self._asked(_words(fits), 0 if from_head else most)
        return [_entry(one, fields) for one in (found[:most] if from_head else found[-most:])]

    def _asked(self, words: list[str], most: int) -> list[Fields]:
        given = [f"--lines={most}"] if most else []
        return list(records(self._attendant.ask("journal", [*given, *words]), MAX_FIELD))


def _words(fits: Sequence[Match]) -> list[str]:
    """Conditions as journalctl(1) takes them: those on one field are alternatives, ``+`` stands between whole ones."""
    words: list[str] = []
    for match in fits:
        words += ["+"] if words else []
        words += [f"{field}={value}" for field, values in match.items() for value in values]
    return words


def _fits(one: Fields, match: Match) -> bool:
    return all(any(value in values for value in one.get(field, ())) for field, values in match.items())


def _entry(one: Fields, fields: Sequence[str]) -> Entry:
    stamp = one.get("__REALTIME_TIMESTAMP", ["0"])[0]
    at = datetime.fromtimestamp(int(stamp) / 1e6 if stamp.isdigit() else 0, UTC)
    return Entry(at, {name: (one.get(name) or [""])[0] for name in fields})

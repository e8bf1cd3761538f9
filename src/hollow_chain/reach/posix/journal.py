"""The journal of this machine, through sd-journal(3).

``libsystemd`` is part of every systemd host; it is called in this process, so that no second program is started and nothing has to
be compiled at installation.
"""

from __future__ import annotations

import ctypes
import ctypes.util
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from hollow_chain.reach.interfaces import Entry, Match, NotThere

MAX_FIELD = 4000
"""Bytes of a field that are read: four times the characters that a record is cut to, as UTF-8 needs no more."""
_LOCAL_ONLY = 1
"""``SD_JOURNAL_LOCAL_ONLY``: not what other machines have sent here."""


class OpenJournal:
    """An open journal; use as a context manager. Raises :class:`NotThere`."""

    def __init__(self) -> None:
        try:
            self._lib: Any = ctypes.CDLL("libsystemd.so.0")
        except OSError:
            raise NotThere("libsystemd is not there") from None
        self._handle = ctypes.c_void_p()
        code = self._lib.sd_journal_open(ctypes.byref(self._handle), _LOCAL_ONLY)
        if code < 0:
            raise NotThere(f"error {-code}")

    def __enter__(self) -> OpenJournal:
        return self

    def __exit__(self, *_: object) -> None:
        self._lib.sd_journal_close(self._handle)

    def expect(self, fits: Sequence[Match]) -> None:
        """Nothing is asked for beforehand: an answer comes at once."""

    def entries(self, fits: Sequence[Match], fields: Sequence[str], most: int, from_head: bool = False) -> list[Entry]:
        """See :meth:`hollow_chain.reach.interfaces.Records.entries`."""
        self._lib.sd_journal_flush_matches(self._handle)
        for number, match in enumerate(fits):
            if number:
                self._lib.sd_journal_add_disjunction(self._handle)
            for field, values in match.items():
                for value in values:  # matches on one field are alternatives, on different fields conditions
                    self._match(field, value)
        if from_head:
            self._lib.sd_journal_seek_head(self._handle)
        else:
            self._lib.sd_journal_seek_tail(self._handle)
        step = self._lib.sd_journal_next if from_head else self._lib.sd_journal_previous
        found: list[Entry] = []
        stamp = ctypes.c_uint64()
        while len(found) < most and step(self._handle) > 0:
            if self._lib.sd_journal_get_realtime_usec(self._handle, ctypes.byref(stamp)) >= 0:
                at = datetime.fromtimestamp(stamp.value / 1e6, UTC)
                found.append(Entry(at, {name: self._field(name) for name in fields}))
        return found if from_head else found[::-1]

    def _match(self, field: str, value: str) -> None:
        data = f"{field}={value}".encode()
        self._lib.sd_journal_add_match(self._handle, data, ctypes.c_size_t(len(data)))

    def _field(self, field: str) -> str:
        data, size = ctypes.c_void_p(), ctypes.c_size_t()
        code = self._lib.sd_journal_get_data(self._handle, field.encode(), ctypes.byref(data), ctypes.byref(size))
        if code < 0 or not data.value:
            return ""
        raw = ctypes.string_at(data.value, min(size.value, MAX_FIELD))
        return raw[len(field) + 1 :].decode("utf-8", "replace")

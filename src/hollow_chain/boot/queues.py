"""Many priority queues side by side: one for each row, with a slot for each column, in NumPy arrays.

Each row is a tree of minima of a fixed width: a change of one slot touches one group a level, so it costs the same
whatever is in the queue. Called with arrays of rows, each call serves all of them in a handful of array operations.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Index = NDArray[np.int64]
Floats = NDArray[np.float64]
_TWO_LEVELS = 1024
"""Up to so many columns two levels are the quickest."""


class Queues:
    """*rows* queues of *columns* slots; an empty slot holds infinity."""

    def __init__(self, rows: int, columns: int) -> None:
        levels = 2 if columns <= _TWO_LEVELS else 3
        self.width = max(2, int(np.ceil(columns ** (1.0 / levels))))
        self._sizes: list[int] = []
        size = columns
        for _ in range(levels):
            groups = -(-size // self.width)
            self._sizes.append(groups * self.width)
            size = groups
        self._levels: list[NDArray[Any]] = [np.full((rows * padded,), np.inf) for padded in self._sizes]
        self.first: Floats = np.full(rows, np.inf)
        """The least value of each row."""

    def put(self, rows: Index, columns: Index, values: Floats) -> None:
        """Fill slots with values that are no greater than what was there (an empty slot holds infinity)."""
        at = columns
        for level, size in zip(self._levels, self._sizes, strict=True):
            np.minimum.at(level, rows * size + at, values)
            at = at // self.width
        np.minimum.at(self.first, rows, values)

    def drop(self, rows: Index, columns: Index) -> None:
        """Empty slots."""
        at = columns
        values: Any = np.inf
        for level, size in zip(self._levels, self._sizes, strict=True):
            level[rows * size + at] = values
            at = at // self.width
            values = _least(level.reshape(-1, self.width).take(rows * (size // self.width) + at, axis=0))
        # The topmost level may have more than one group where rounding left a few over.
        self.first[rows] = values if self._sizes[-1] == self.width else _least(self._tops(rows))

    def pop(self, rows: Index) -> Index:
        """Empty the slot of the least value of each of *rows* (told apart), and return its column."""
        group = self._tops(rows)
        within = group.argmin(axis=1)
        place = within
        way = [(group, within, place)]
        for level, size in zip(self._levels[-2::-1], self._sizes[-2::-1], strict=True):
            group = level.reshape(-1, self.width).take(rows * (size // self.width) + place, axis=0)
            within = group.argmin(axis=1)
            place = place * self.width + within
            way.append((group, within, place))
        # The same way back up, on the groups that are at hand: as :meth:`drop` does, without gathering each a second time.
        values: Any = np.inf
        for level, size, (group, within, at) in zip(self._levels, self._sizes, way[::-1], strict=True):
            level[rows * size + at] = values
            group.ravel()[np.arange(0, group.size, group.shape[1]) + within] = values
            values = _least(group)
        self.first[rows] = values
        return np.asarray(place)

    def _tops(self, rows: Index) -> Floats:
        return np.asarray(self._levels[-1].reshape(-1, self._sizes[-1]).take(rows, axis=0))


def _least(groups: NDArray[Any]) -> Floats:
    """The least of each row. Down the columns of a turned copy many rows are compared by one instruction."""
    return np.asarray(np.ascontiguousarray(groups.T).min(axis=0))

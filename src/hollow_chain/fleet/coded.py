"""Columns as codes into a list of words: what is compared millions of times is numbers."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

with needs(EXTRA, "a table"):
    import pyarrow as pa
    import pyarrow.compute as pc

Codes = npt.NDArray[np.int64]


class CodedColumn(NamedTuple):
    """A column: for each row the place of its word; -1 where it has none."""

    codes: Codes
    words: list[Any]


def coded(column: Any) -> CodedColumn:
    """A column of a table in that form."""
    whole = column.unify_dictionaries() if isinstance(column, pa.ChunkedArray) else column
    if not pa.types.is_dictionary(whole.type):
        whole = pc.dictionary_encode(whole)
    if isinstance(whole, pa.ChunkedArray):
        if not whole.num_chunks:
            return CodedColumn(np.zeros(0, dtype=np.int64), [])
        whole = whole.unify_dictionaries()
        words = whole.chunk(0).dictionary.to_pylist()
        pieces = [_numbers(chunk.indices) for chunk in whole.chunks]
        return CodedColumn(np.concatenate(pieces), words)
    return CodedColumn(_numbers(whole.indices), whole.dictionary.to_pylist())


def _numbers(indices: Any) -> Codes:
    return np.asarray(pc.fill_null(indices, -1).to_numpy(zero_copy_only=False), dtype=np.int64)

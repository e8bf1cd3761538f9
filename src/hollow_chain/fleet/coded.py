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
    words: Any
    """The words, as an array of Arrow: there may be as many as rows."""

    def word(self, code: int) -> Any:
        """The word of a code."""
        return self.words[int(code)].as_py()


def coded(column: Any, is_unified: bool = False) -> CodedColumn:
    """A column of a table in that form. *is_unified*: all of its chunks have one list of words, which takes its time to find out."""
    whole = column if isinstance(column, pa.ChunkedArray) else pa.chunked_array([column])
    if not pa.types.is_dictionary(whole.type):
        whole, is_unified = pc.dictionary_encode(whole), True
    if not whole.num_chunks:
        return CodedColumn(np.zeros(0, dtype=np.int64), pa.array([], pa.string()))
    if not is_unified:
        whole = whole.unify_dictionaries()
    return CodedColumn(np.concatenate([_numbers(chunk.indices) for chunk in whole.chunks]), whole.chunk(0).dictionary)


def _numbers(indices: Any) -> Codes:
    filled = pc.fill_null(indices, -1) if indices.null_count else indices
    return np.asarray(filled.to_numpy(zero_copy_only=False), dtype=np.int64)

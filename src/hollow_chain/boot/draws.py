"""Random numbers that belong to a name, a run and a use, not to the order in which they are asked for.

Each is a hash of (seed, name, use, run): so two plans that differ in one service meet the same chances everywhere
else, runs can be split into portions, and nothing has to be drawn that is not needed (common random numbers; see Law,
"Simulation Modeling and Analysis", chapter on variance reduction). The mixing function is that of SplitMix64 (Steele,
Lea and Flood, "Fast splittable pseudorandom number generators", 2014).
"""

from __future__ import annotations

import hashlib
from typing import Any

import numpy as np
from numpy.typing import NDArray

from hollow_chain.boot.normal import inverse

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)
_FIRST, _SECOND = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
FAULT, EVENT, CUT = 1000, 1001, 1002
"""Uses of a number beside the duration of a try, which is numbered from 0."""


def streams(names: list[str], seed: int) -> NDArray[np.uint64]:
    """One number for each name (and the seed) to start from."""
    keys = (hashlib.blake2b(f"{seed}\0{name}".encode("utf-8", "replace"), digest_size=8).digest() for name in names)
    return np.frombuffer(b"".join(keys), dtype="<u8").astype(np.uint64)


def uniform(stream: NDArray[np.uint64], run: NDArray[Any], use: NDArray[Any] | int) -> NDArray[np.float64]:
    """Numbers between 0 and 1, neither of them reached, for each triple."""
    with np.errstate(over="ignore"):
        state = stream + _GOLDEN * (np.asarray(run, np.uint64) * np.uint64(4096) + np.asarray(use, np.uint64))
        state = (state ^ (state >> np.uint64(30))) * _FIRST
        state = (state ^ (state >> np.uint64(27))) * _SECOND
        state ^= state >> np.uint64(31)
    return np.asarray(((state >> np.uint64(11)).astype(np.float64) + 0.5) * 2.0**-53)


def normal(stream: NDArray[np.uint64], run: NDArray[Any], use: NDArray[Any] | int) -> NDArray[np.float64]:
    """Standard normal numbers for each triple."""
    return inverse(uniform(stream, run, use))

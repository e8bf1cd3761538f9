"""Hosts that hang together: those whose services need something of each other are diagnosed together, all others each by itself."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple


class Hanging(NamedTuple):
    """A host, and the others that it needs something of."""

    host: str
    hangs_on: Sequence[str]


def parts_of(hosts: Sequence[Hanging]) -> list[list[int]]:
    """The parts of the graph over *hosts*, each as places in it: in the order of their first hosts. Two readings of one host are of one
    part.

    Union-find with path halving (Tarjan and van Leeuwen, Journal of the ACM 31, 1984). Names are taken for the same where the graph
    might take them so, which joins too much at worst.
    """
    place_of: dict[str, int] = {}
    for place, one in enumerate(hosts):
        for name in _forms(one.host):
            place_of.setdefault(name, place)
    above = list(range(len(hosts)))

    def root(place: int) -> int:
        while above[place] != place:
            above[place] = place = above[above[place]]
        return place

    for place, one in enumerate(hosts):
        wanted = [one.host.casefold(), *(name for other in one.hangs_on for name in _forms(other))]
        for other in (place_of[name] for name in wanted if name in place_of):
            low, high = sorted((root(place), root(other)))
            above[high] = low
    found: dict[int, list[int]] = {}
    for place in range(len(hosts)):
        found.setdefault(root(place), []).append(place)
    return list(found.values())


def _forms(name: str) -> Iterable[str]:
    whole = name.casefold()
    return (whole, whole.partition(".")[0])


def batches(parts: Sequence[Sequence[int]], most: int) -> list[list[list[int]]]:
    """*parts* in rows of about *most* hosts: what is handed to a worker at once."""
    found: list[list[list[int]]] = []
    held = most
    for part in parts:
        if held >= most:
            found.append([])
            held = 0
        found[-1].append(list(part))
        held += len(part)
    return found

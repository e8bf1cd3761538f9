"""What hosts may have in common: their system, packages, settings and definitions of services, the order of their boot, their groups.

A factor is a column of facts by kind, never a list of names: what is a column of the index is one here. What happened to a service (its
state, its result, what it listens on) is none, since it follows from the fault and does not lead to it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from hollow_chain.fleet.coded import Codes, coded
from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

with needs(EXTRA, "a survey"):
    import pyarrow as pa

Mask = npt.NDArray[np.bool_]
KINDS = (
    "setting", "package", "configuration", "definition", "program", "system", "clock", "reboot", "order", "place",
)  # fmt: skip
"""Kinds of factors. Of several that the very same hosts have, the first of these is told first: whoever set something or installed
something did that, and the rest came with it."""
OFF = 1.0
"""Seconds by which a clock is off that is told: logins and tickets bear some more, leases some less."""
_MOST_VALUES = 200
"""Values of one column that are looked at, the commonest: a setting that differs on every host is nothing that they share."""
_EARLY = 900.0
"""Seconds after the boot within which a start is one of the boot."""
_AT_ONCE = 512
"""Factors that are counted at once: so many rows of a large fleet fit into a cache."""


class Factor(NamedTuple):
    """Something that a host may have."""

    kind: str
    of: str
    """The service or package, or what of the host."""
    what: str = ""
    """Which setting of it."""
    value: str = ""


class Bank(NamedTuple):
    """Factors, and who has each: hosts fall into classes that have the same of them."""

    factors: list[Factor]
    having: Mask
    """A row a factor, a column a class."""
    class_of: Codes
    """The class of each host; -1: none, so that it has no factor of these."""

    def counts(self, hosts: Mask) -> npt.NDArray[np.int64]:
        """How many hosts of each row of *hosts* have each factor: a row a factor."""
        classes = self.having.shape[1]
        within = np.zeros((classes + 1, hosts.shape[0]), dtype=np.float32)
        # Hosts without a class go into one more, which nothing has.
        for column, chosen in enumerate(hosts):
            within[:, column] = np.bincount(
                np.where(self.class_of[chosen] < 0, classes, self.class_of[chosen]), minlength=classes + 1
            )
        found = [
            self.having[at : at + _AT_ONCE].astype(np.float32) @ within[:classes]
            for at in range(0, len(self.factors), _AT_ONCE)
        ]
        whole = np.vstack(found) if found else np.zeros((0, hosts.shape[0]), dtype=np.float32)
        return np.rint(whole).astype(np.int64)

    def hosts(self, place: int) -> Mask:
        """The hosts that have the factor at *place*."""
        having = np.append(self.having[place], False)
        return having[self.class_of]


def _bank(held: Sequence[tuple[Factor, Mask]], size: int) -> Bank:
    """A bank in which every host is a class by itself."""
    having = np.array([mask for _, mask in held], dtype=bool).reshape(len(held), size)
    return Bank([factor for factor, _ in held], having, np.arange(size))


class _HostColumn(NamedTuple):
    name: str
    kind: str
    what: str


_OF_HOST = (
    _HostColumn("system", "system", "system"),
    _HostColumn("architecture", "system", "architecture"),
    _HostColumn("default_target", "setting", "start-up target"),
    _HostColumn("cores", "system", "cores"),
    _HostColumn("container", "system", "in a container"),
)
HOST_COLUMNS = (*(column.name for column in _OF_HOST), "reboot_due", "clock_offset", "groups", "packages")
"""Columns of hosts that factors are made of."""
SETTINGS = {
    "startup": ("setting", "startup type"),
    "account": ("setting", "account"),
    "start_limit": ("setting", "start limit"),
    "stop_limit": ("setting", "stop limit"),
    "memory_limit": ("setting", "memory limit"),
    "restart": ("setting", "restart"),
    "configuration": ("configuration", "configuration"),
    "definition": ("definition", "definition"),
    "program": ("program", "program"),
    "program_size": ("program", "size of the program"),
    "program_changed_at": ("program", "date of the program"),
}
"""Columns of a service that somebody sets, each with the kind of factor that it is."""


def of_hosts(hosts: pa.Table) -> Bank:
    """What holds for whole hosts, a row each in *hosts*."""
    size = hosts.num_rows
    held: list[tuple[Factor, Mask]] = []
    for column in _OF_HOST:
        values = coded(hosts[column.name])
        held += [
            (Factor(column.kind, "host", column.what, word), mask) for word, mask in _values(values.codes, values.words)
        ]
    due = np.array([bool(one) for one in hosts["reboot_due"].to_pylist()], dtype=bool)
    held.append((Factor("reboot", "host", "a reboot is due"), due))
    offset = np.array([one if one is not None else 0.0 for one in hosts["clock_offset"].to_pylist()], dtype=float)
    held.append((Factor("clock", "host", f"clock off by more than {OFF:g} s"), np.abs(offset) > OFF))
    return _bank([*held, *_groups(hosts, size)], size)


def _groups(hosts: pa.Table, size: int) -> Iterator[tuple[Factor, Mask]]:
    members: dict[str, list[int]] = {}
    for place, groups in enumerate(hosts["groups"].to_pylist()):
        for name in groups or ():
            members.setdefault(name, []).append(place)
    for name, places in sorted(members.items()):
        mask = np.zeros(size, dtype=bool)
        mask[places] = True
        yield Factor("place", name, "group"), mask


def of_packages(hosts: pa.Table, packages: Mapping[str, Sequence[str]]) -> Bank:
    """Packages by version, and those that some hosts lack: hosts of one set of packages are a class."""
    names = hosts["packages"].to_pylist()
    sets = sorted({name for name in names if name in packages})
    number = {name: at for at, name in enumerate(sets)}
    class_of = np.array([number.get(name, -1) for name in names], dtype=np.int64)
    within: dict[Factor, list[int]] = {}
    named: dict[str, set[int]] = {}
    for at, name in enumerate(sets):
        for package in packages[name]:
            of, _, version = package.partition(" ")
            within.setdefault(Factor("package", of, "version", version), []).append(at)
            named.setdefault(of, set()).add(at)
    for of, having in named.items():
        within[Factor("package", of, "not installed")] = [at for at in range(len(sets)) if at not in having]
    differing = {factor: places for factor, places in within.items() if 0 < len(places) < len(sets)}
    mask = np.zeros((len(differing), len(sets)), dtype=bool)
    for row, places in enumerate(differing.values()):
        mask[row, places] = True
    return Bank(list(differing), mask, class_of)


class ServiceRows:
    """The rows of services, by service."""

    def __init__(self, services: pa.Table, row_of: Mapping[str, int]) -> None:
        self._hosts = len(row_of)
        self._table = services
        names, hosts = coded(services["service"]), coded(services["host"])
        self.names = names.words
        self._number = {name: code for code, name in enumerate(names.words)}
        place = np.array([row_of.get(name, -1) for name in hosts.words], dtype=np.int64)
        self._place: Codes = place[hosts.codes] if len(hosts.codes) else np.zeros(0, dtype=np.int64)
        kept = np.flatnonzero(self._place >= 0)
        self._order: Codes = kept[np.argsort(names.codes[kept], kind="stable")]
        self._starts = np.searchsorted(names.codes[self._order], np.arange(len(self.names) + 1))
        self._columns: dict[str, tuple[Codes, list[Any]]] = {}
        self._banks: dict[str, Bank] = {}
        self._up: npt.NDArray[np.float32] | None = None
        self._causes = services["causes"].combine_chunks()

    def rows(self, name: str) -> Codes:
        """The rows of a service."""
        code = self._number.get(name)
        return self._order[self._starts[code] : self._starts[code + 1]] if code is not None else self._order[:0]

    def well_with(self, name: str) -> Mask:
        """The hosts that have the service, and have it well."""
        found = np.zeros(self._hosts, dtype=bool)
        rows = self.rows(name)
        codes, words = self._column("standing")
        bad = [at for at, word in enumerate(words) if word in ("down", "unstable")]
        well = ~np.isin(codes[rows], bad) & (self._sick()[rows] == 0)
        found[self._place[rows[well]]] = True
        return found

    def _sick(self) -> Codes:
        if "causes" not in self._columns:
            lengths = pa.compute.fill_null(pa.compute.list_value_length(self._table["causes"]), 0)
            self._columns["causes"] = np.asarray(lengths.to_numpy(), dtype=np.int64), []
        return self._columns["causes"][0]

    def _column(self, name: str) -> tuple[Codes, list[Any]]:
        if name not in self._columns:
            found = coded(self._table[name])
            self._columns[name] = found.codes, found.words
        return self._columns[name]

    def around(self, name: str) -> list[str]:
        """The service and what it needs, on the hosts that have it; what most of them need, first."""
        key = f"\0needs {name}"
        if key not in self._columns:
            needed = pa.compute.list_flatten(self._table["needs"].take(pa.array(self.rows(name))))
            counted = pa.compute.value_counts(
                needed.combine_chunks() if isinstance(needed, pa.ChunkedArray) else needed
            )
            ranked = sorted(counted.to_pylist(), key=lambda one: (-one["counts"], one["values"]))[:_MOST_NEEDS]
            self._columns[key] = np.zeros(0, dtype=np.int64), [one["values"] for one in ranked]
        return [name, *self._columns[key][1]]

    def bank(self, name: str) -> Bank:
        """What is set of a service."""
        if name not in self._banks:
            self._banks[name] = _bank(list(self._settings(name)), self._hosts)
        return self._banks[name]

    def _settings(self, name: str) -> Iterator[tuple[Factor, Mask]]:
        rows = self.rows(name)
        places = self._place[rows]
        for column, (kind, what) in SETTINGS.items():
            codes, words = self._column(column)
            mine = codes[rows]
            if len(mine) and (mine == mine[0]).all():
                continue
            for word, having in _values(mine, words):
                mask = np.zeros(self._hosts, dtype=bool)
                mask[places[having]] = True
                yield Factor(kind, name, what, word), mask

    def orders(self, name: str) -> Bank:
        """Before which others it was begun at the boot."""
        rows = self.rows(name)
        begun = np.full(self._hosts, np.nan, dtype=np.float32)
        begun[self._place[rows]] = self._floats("begun_after")[rows]
        begun[begun >= _EARLY] = np.nan
        up = self._ups()
        with np.errstate(invalid="ignore"):
            before = begun[None, :] < up
        both = ~np.isnan(begun)[None, :] & ~np.isnan(up)
        many, of = before.sum(axis=1), both.sum(axis=1)
        chosen = np.flatnonzero((many > 0) & (many < of) & (np.array(self.names) != name))
        factors = [Factor("order", name, "begun before", self.names[at]) for at in chosen]
        return Bank(factors, before[chosen], np.arange(self._hosts))

    def _ups(self) -> npt.NDArray[np.float32]:
        """When each service was up on each host, in seconds after its boot: a row a service."""
        if self._up is None:
            self._up = np.full((len(self.names), self._hosts), np.nan, dtype=np.float32)
            codes, _ = self._column("service")
            self._up[codes[self._order], self._place[self._order]] = self._floats("up_after")[self._order]
            self._up[self._up >= _EARLY] = np.nan
        return self._up

    def _floats(self, column: str) -> npt.NDArray[np.float32]:
        found = self._table[column].to_numpy()
        return np.asarray(found, dtype=np.float32)


_MOST_NEEDS = 12
"""Services that one needs and that are looked at with it, those that it needs on most hosts."""


def _values(codes: Codes, words: Sequence[Any]) -> Iterator[tuple[str, Mask]]:
    """The values in *codes*, each with the places that have it; not what is unknown."""
    known = codes[codes >= 0]
    counts = np.bincount(known, minlength=len(words)) if len(known) else np.zeros(len(words), dtype=np.int64)
    present = np.flatnonzero(counts)
    if len(present) > _MOST_VALUES:
        present = np.sort(present[np.argsort(-counts[present], kind="stable")[:_MOST_VALUES]])
    for at in present:
        if words[at] not in ("", None):
            yield _said(words[at]), codes == at


def _said(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return "none" if value == -1 else f"{value:g}"
    return str(value)

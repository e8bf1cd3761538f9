"""What hosts may have in common: their system, packages, settings and definitions of services, the order of their boot, their groups.

A factor is a column of facts by kind, never a list of names: what is a column of the index is one here. What happened to a service (its
state, its result, what it listens on) is none, since it follows from the fault and does not lead to it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, NamedTuple, Protocol

import numpy as np
import numpy.typing as npt

from hollow_chain.fleet.coded import CodedColumn, Codes, coded
from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

with needs(EXTRA, "a survey"):
    import pyarrow as pa
    import pyarrow.compute as pc

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


class Factor(NamedTuple):
    """Something that a host may have."""

    kind: str
    of: str
    """The service or package, or what of the host."""
    what: str = ""
    """Which setting of it."""
    value: str = ""


class Group(NamedTuple):
    """The hosts of one cause, and those that are well."""

    key: tuple[str, str]
    """The cause, and the service that it is on."""
    sick: Codes
    """Places of the hosts."""
    well: Codes
    other: Codes
    """Hosts that are neither: they lack the service, or something else is wrong with it."""

    def counts(self, of: Callable[[Codes], Codes], whole: Codes) -> tuple[Codes, Codes]:
        """What *of* counts among the sick and among the well, where *whole* is what it counts among all: the fewer hosts are gone
        through."""
        sick = of(self.sick)
        return sick, whole - sick - of(self.other) if len(self.other) < len(self.well) else of(self.well)


class Bank(Protocol):
    """Factors, who has each, and of whom that is known: whoever was not asked is neither with nor without."""

    factors: Sequence[Factor]

    def counts(self, group: Group) -> Codes:
        """A row a factor: the sick hosts of *group* that have it, of so many that are known, and the well ones likewise."""

    def hosts(self, place: int) -> Mask:
        """The hosts that have the factor at *place*."""

    def known(self, place: int) -> Mask:
        """The hosts of which it is known whether they have it."""


def _rows(having: tuple[Codes, Codes], known: tuple[Codes, Codes]) -> Codes:
    """Counts of those that have each factor, and of those that are known, side by side."""
    return np.stack(np.broadcast_arrays(having[0], known[0], having[1], known[1]), axis=-1).astype(np.int64)


class _ColumnBank:
    """The values of one column: each host has one of them, or none, or nobody knows."""

    def __init__(self, factors: Sequence[Factor], codes: Codes, known: Mask) -> None:
        """*codes*: the place of its factor for each host; as many as there are factors: none of them."""
        self.factors = factors
        self._codes, self._known = codes, known
        self._whole, self._many = self._count(np.arange(len(codes))), np.asarray(np.count_nonzero(known))

    def _count(self, hosts: Codes) -> Codes:
        return np.bincount(self._codes[hosts], minlength=len(self.factors) + 1)[:-1]

    def counts(self, group: Group) -> Codes:
        known = group.counts(lambda hosts: np.asarray(np.count_nonzero(self._known[hosts])), self._many)
        return _rows(group.counts(self._count, self._whole), known)

    def hosts(self, place: int) -> Mask:
        return np.asarray(self._codes == place)

    def known(self, place: int) -> Mask:
        return self._known


class _MaskBank:
    """Factors of which a host may have any, a row each."""

    def __init__(self, factors: Sequence[Factor], having: Mask, known: Mask) -> None:
        self.factors = factors
        self._having, self._known = having, known
        self._whole, self._many = having.sum(axis=1), known.sum(axis=1)

    def counts(self, group: Group) -> Codes:
        having = group.counts(lambda hosts: self._having[:, hosts].sum(axis=1), self._whole)
        return _rows(having, group.counts(lambda hosts: self._known[:, hosts].sum(axis=1), self._many))

    def hosts(self, place: int) -> Mask:
        return np.asarray(self._having[place])

    def known(self, place: int) -> Mask:
        return np.asarray(self._known[place])


class _ClassBank:
    """Factors of classes of hosts: those of a class have the same of them."""

    def __init__(self, factors: Sequence[Factor], having: Mask, class_of: Codes) -> None:
        """*having*: a row a factor, a column a class; *class_of*: the class of each host, as many as there are classes: not known."""
        self.factors = factors
        self._having, self._class_of = having.astype(np.float32), class_of
        self._known = class_of < having.shape[1]
        every = np.arange(len(class_of))
        self._whole, self._many = self._count(every), np.asarray(np.count_nonzero(self._known))

    def _count(self, hosts: Codes) -> Codes:
        classes = self._having.shape[1]
        within = np.bincount(self._class_of[hosts], minlength=classes + 1)[:classes]
        return np.rint(self._having @ within.astype(np.float32)).astype(np.int64)

    def counts(self, group: Group) -> Codes:
        known = group.counts(lambda hosts: np.asarray(np.count_nonzero(self._known[hosts])), self._many)
        return _rows(group.counts(self._count, self._whole), known)

    def hosts(self, place: int) -> Mask:
        return np.asarray(np.append(self._having[place] > 0, False)[self._class_of])

    def known(self, place: int) -> Mask:
        return np.asarray(self._known)


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


def of_hosts(hosts: pa.Table) -> Iterator[Bank]:
    """What holds for whole hosts, a row each in *hosts*."""
    for column in _OF_HOST:
        values = coded(hosts[column.name])
        yield from _column(values.codes, values, lambda word, of=column: Factor(of.kind, "host", of.what, word))  # type: ignore[misc]
    size = hosts.num_rows
    due = np.array([bool(one) for one in hosts["reboot_due"].to_pylist()], dtype=bool)
    offset = np.array([np.nan if one is None else one for one in hosts["clock_offset"].to_pylist()], dtype=float)
    every = np.ones(size, dtype=bool)
    held = [
        (Factor("reboot", "host", "a reboot is due"), due, every),
        (Factor("clock", "host", f"clock off by more than {OFF:g} s"), np.abs(offset) > OFF, ~np.isnan(offset)),
        *((factor, having, every) for factor, having in _groups(hosts, size)),
    ]
    having, known = (np.array([one[at] for one in held], dtype=bool) for at in (1, 2))
    yield _MaskBank([factor for factor, _, _ in held], having, known)


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
    class_of = np.array([number.get(name, len(sets)) for name in names], dtype=np.int64)
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
    return _ClassBank(list(differing), mask, class_of)


class ServiceRows:
    """The rows of services, by service."""

    def __init__(self, services: pa.Table, row_of: Mapping[str, int]) -> None:
        self._hosts = len(row_of)
        self._table = services
        names, hosts = self._coded("service"), self._coded("host")
        self.names: list[str] = names.words.to_pylist()
        self._number = {name: code for code, name in enumerate(self.names)}
        place = np.array([row_of.get(name, -1) for name in hosts.words.to_pylist()], dtype=np.int64)
        places = place[hosts.codes] if len(hosts.codes) else np.zeros(0, dtype=np.int64)
        kept = np.flatnonzero(places >= 0)
        self._order: Codes = kept[np.argsort(_small(names.codes[kept]), kind="stable")]
        """The rows by service, and of each by host as they come."""
        self._place: Codes = places[self._order]
        self._starts = np.searchsorted(names.codes[self._order], np.arange(len(self.names) + 1))
        self._service: Codes = names.codes[self._order]
        self._columns: dict[str, CodedColumn] = {}
        self._banks: dict[str, list[Bank]] = {}

    def _coded(self, column: str) -> CodedColumn:
        return coded(self._table[column], is_unified=True)

    def _span(self, name: str) -> slice:
        """The rows of a service, as they are ordered."""
        code = self._number.get(name)
        return slice(int(self._starts[code]), int(self._starts[code + 1])) if code is not None else slice(0, 0)

    def _column(self, name: str) -> CodedColumn:
        if name not in self._columns:
            found = self._coded(name)
            self._columns[name] = CodedColumn(found.codes[self._order], found.words)
        return self._columns[name]

    def well_with(self, name: str) -> Codes:
        """The hosts that have the service, and have it well."""
        span = self._span(name)
        return self._place[span][self._is_well[span]]

    @cached_property
    def _is_well(self) -> Mask:
        standing = self._column("standing")
        bad = [at for at, word in enumerate(standing.words.to_pylist()) if word in ("down", "unstable")]
        lengths = pc.fill_null(pc.list_value_length(self._table["causes"]), 0).to_numpy()
        return np.asarray(~np.isin(standing.codes, bad) & (np.asarray(lengths)[self._order] == 0))

    def around(self, name: str) -> list[str]:
        """The service and what it needs: what most of them need, first."""
        code = self._number.get(name)
        words, most = self._needs
        return [name, *(words[int(need)].as_py() for need in most.get(code, ()))] if code is not None else [name]

    @cached_property
    def _needs(self) -> tuple[Any, dict[int, list[int]]]:
        """What each service needs on most of its hosts, by their codes, with the words of these."""
        lists = self._table["needs"].combine_chunks()
        needed, parents = coded(pc.list_flatten(lists)), pc.list_parent_indices(lists).to_numpy()
        if not len(needed.codes):
            return needed.words, {}
        services = self._coded("service").codes[parents]
        pairs, counts = np.unique(services * len(needed.words) + needed.codes, return_counts=True)
        found: dict[int, list[int]] = {}
        for at in np.lexsort((pairs, -counts)):
            of = found.setdefault(int(pairs[at]) // len(needed.words), [])
            if len(of) < _MOST_NEEDS:
                of.append(int(pairs[at]) % len(needed.words))
        return needed.words, found

    def banks(self, name: str) -> list[Bank]:
        """What is set of a service."""
        if name not in self._banks:
            self._banks[name] = list(self._settings(name))
        return self._banks[name]

    def _settings(self, name: str) -> Iterator[Bank]:
        span = self._span(name)
        places = self._place[span]
        for column, (kind, what) in SETTINGS.items():
            values = self._column(column)
            mine = values.codes[span]
            if not len(mine) or (mine == mine[0]).all():
                continue
            codes = np.full(self._hosts, -1, dtype=np.int64)
            codes[places] = mine
            yield from _column(codes, values, lambda word, k=kind, w=what: Factor(k, name, w, word))  # type: ignore[misc]

    def orders(self, name: str) -> Bank:
        """Before which others it was begun at the boot."""
        span = self._span(name)
        begun = np.full(self._hosts, np.nan, dtype=np.float32)
        begun[self._place[span]] = self._begun[span]
        known = ~np.isnan(begun)
        if not known.any():
            return _MaskBank([], *(np.zeros((0, self._hosts), dtype=bool) for _ in range(2)))
        with np.errstate(invalid="ignore"):
            before: Mask = begun[None, :] < self._up
        both: Mask = known[None, :] & self._is_up
        many, of = np.count_nonzero(before, axis=1), np.count_nonzero(both, axis=1)
        chosen = [int(at) for at in np.flatnonzero((many > 0) & (many < of)) if self.names[at] != name]
        factors = [Factor("order", name, "begun before", self.names[at]) for at in chosen]
        return _MaskBank(factors, before[chosen], both[chosen])

    @cached_property
    def _is_up(self) -> Mask:
        """Whether it is known when each service was up on each host."""
        return ~np.isnan(self._up)

    @cached_property
    def _begun(self) -> npt.NDArray[np.float32]:
        return _of_boot(np.asarray(self._table["begun_after"].to_numpy(), dtype=np.float32)[self._order])

    @cached_property
    def _up(self) -> npt.NDArray[np.float32]:
        """When each service was up on each host, in seconds after its boot: a row a service."""
        found = np.full((len(self.names), self._hosts), np.nan, dtype=np.float32)
        up = np.asarray(self._table["up_after"].to_numpy(), dtype=np.float32)[self._order]
        found[self._service, self._place] = _of_boot(up)
        return found


def _small(codes: Codes) -> npt.NDArray[Any]:
    """Codes in as few bytes as they take: these are sorted by their digits."""
    return codes.astype(np.uint16) if len(codes) and codes.max() < 1 << 16 else codes


def _of_boot(seconds: npt.NDArray[np.float32]) -> npt.NDArray[np.float32]:
    return np.where(seconds < _EARLY, seconds, np.float32(np.nan))


_MOST_NEEDS = 12
"""Services that one needs and that are looked at with it, those that it needs on most hosts."""


def _column(codes: Codes, values: CodedColumn, factor: Callable[[str], Factor]) -> Iterator[Bank]:
    """The bank of a column that has two values at least: *codes* of each host, -1 for nothing."""
    present, counts = np.unique(codes[codes >= 0], return_counts=True)
    if len(present) > _MOST_VALUES:
        present = present[np.sort(np.argsort(-counts, kind="stable")[:_MOST_VALUES])]
    words = [values.word(code) for code in present]
    told = [at for at, word in enumerate(words) if word not in _UNKNOWN]
    untold = present[[at for at, word in enumerate(words) if word in _UNKNOWN]]
    known = (codes >= 0) & ~np.isin(codes, untold)
    if not told or (len(told) == 1 and len(present) == 1):
        return
    factors = [factor(_said(words[at])) for at in told]
    wanted = present[told]
    places = np.searchsorted(wanted, codes)
    places[places >= len(wanted)] = 0
    yield _ColumnBank(factors, np.where(wanted[places] == codes, places, len(factors)), known)


_UNKNOWN = ("", "unknown", None)
"""Values of which nobody knows what they are."""


def _said(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return "none" if value == -1 else f"{value:g}"
    return str(value)

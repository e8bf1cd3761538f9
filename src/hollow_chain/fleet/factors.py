"""What hosts may have in common: their system, packages, settings and definitions of services, the order of their boot, their groups.

A factor is a column of facts by kind, never a list of names: what is a column of the index is one here. What happened to a service (its
state, its result, what it listens on) is none, since it follows from the fault and does not lead to it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from hollow_chain.lacking import needs
from hollow_chain.sources.shelves import EXTRA

with needs(EXTRA, "a survey"):
    import pyarrow as pa
    import pyarrow.compute as pc

Mask = npt.NDArray[np.bool_]
Codes = npt.NDArray[np.int64]
KINDS = (
    "setting", "package", "configuration", "definition", "program", "system", "clock", "reboot", "order", "place",
)  # fmt: skip
"""Kinds of factors. Of several that the very same hosts have, the first of these is told first: whoever set something or installed
something did that, and the rest came with it."""
OFF = 1.0
"""Seconds by which a clock is off that is told: logins and tickets bear some more, leases some less."""
_MOST_ORDERS = 400
"""Services whose place in the order of boot is compared with that of another one."""


class Factor(NamedTuple):
    """Something that a host may have."""

    kind: str
    of: str
    """The service or package, or what of the host."""
    what: str = ""
    """Which setting of it."""
    value: str = ""


class Held(NamedTuple):
    """A factor, and which hosts of a population have it."""

    factor: Factor
    hosts: Mask


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


class Population:
    """Hosts that are compared, a row of the table of readings each."""

    def __init__(self, hosts: pa.Table, packages: dict[str, list[str]]) -> None:
        self.hosts = hosts
        self.size = hosts.num_rows
        self._packages = packages

    def of_hosts(self) -> Iterator[Held]:
        """What holds for whole hosts."""
        for column in _OF_HOST:
            for value, having in _values(self.hosts[column.name]):
                yield Held(Factor(column.kind, "host", column.what, value), having)
        due = np.array([bool(one) for one in self.hosts["reboot_due"].to_pylist()], dtype=bool)
        yield Held(Factor("reboot", "host", "a reboot is due"), due)
        offset = np.array(
            [one if one is not None else 0.0 for one in self.hosts["clock_offset"].to_pylist()], dtype=float
        )
        yield Held(Factor("clock", "host", f"clock off by more than {OFF:g} s"), np.abs(offset) > OFF)
        yield from self._groups()

    def _groups(self) -> Iterator[Held]:
        members: dict[str, list[int]] = {}
        for place, groups in enumerate(self.hosts["groups"].to_pylist()):
            for name in groups or ():
                members.setdefault(name, []).append(place)
        for name, places in sorted(members.items()):
            yield Held(Factor("place", name, "group"), self._at(places))

    def _at(self, places: Sequence[int]) -> Mask:
        found = np.zeros(self.size, dtype=bool)
        found[list(places)] = True
        return found

    def packages(self) -> Iterator[Held]:
        """Packages by version, and those that some hosts lack. Hosts of one set of packages are taken together."""
        names = self.hosts["packages"].to_pylist()
        sets = sorted({name for name in names if name in self._packages})
        if not sets:
            return
        number = {name: at for at, name in enumerate(sets)}
        member = np.array([number.get(name, -1) for name in names], dtype=np.int64)
        having: dict[str, list[int]] = {}
        named: dict[str, set[int]] = {}
        for at, name in enumerate(sets):
            for package in self._packages[name]:
                having.setdefault(package, []).append(at)
                named.setdefault(package.partition(" ")[0], set()).add(at)
        for package, within in having.items():
            if len(within) < len(sets):
                name, _, version = package.partition(" ")
                yield Held(Factor("package", name, "version", version), np.isin(member, within))
        for name, of in named.items():
            if len(of) < len(sets):
                lacking = [at for at in range(len(sets)) if at not in of]
                yield Held(Factor("package", name, "not installed"), np.isin(member, lacking))

    def of_service(self, name: str, rows: pa.Table, places: Codes, apart: Sequence[str] = ()) -> Iterator[Held]:
        """What is set of the service *name*: of its *rows*, each of the host at that one of *places*; columns in *apart* left out."""
        for column, (kind, what) in SETTINGS.items():
            if column in apart:
                continue
            for value, having in _values(rows[column]):
                yield Held(Factor(kind, name, what, value), self._at([int(one) for one in places[having]]))


def _values(column: Any) -> Iterator[tuple[str, Mask]]:
    """The values of a column, each with the rows that have it; none where there is but one, and not for what is unknown."""
    whole = column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column
    coded = whole if pa.types.is_dictionary(whole.type) else pc.dictionary_encode(whole)
    if isinstance(coded, pa.ChunkedArray):
        coded = coded.combine_chunks()
    codes = np.asarray(pc.fill_null(coded.indices, -1).to_numpy(zero_copy_only=False), dtype=np.int64)
    words = coded.dictionary.to_pylist()
    counts = np.bincount(codes[codes >= 0], minlength=len(words))
    if np.count_nonzero(counts) < 2 and not (codes < 0).any():
        return
    for at in np.flatnonzero(counts):
        word = words[at]
        if word not in ("", None):
            yield _said(word), codes == at


def _said(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return "none" if value == -1 else f"{value:g}"
    return str(value)

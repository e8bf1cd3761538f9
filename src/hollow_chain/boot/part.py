"""The part of a boot that a question is about, so that only that much of it has to be simulated.

Whether a unit comes up follows from what it needs and holds; *when* it does, follows from the whole host, for all share its cores and
disks. So a part gives the same answer as the whole exactly where moments do not decide: no start is near its limit, nobody races for
anything, and no loop is cut. Where they do, there is no part, and the whole is simulated.
"""

from __future__ import annotations

import math
from collections.abc import Iterable

from msgspec.structs import replace

from hollow_chain.boot.durations import AT_ONCE
from hollow_chain.boot.plan import FOREVER, BootPlan, Unit

_FAR = 5.0
"""Standard deviations on the side of long durations that are taken to be met: one start in three million lies beyond."""


def part_of(plan: BootPlan, names: Iterable[str]) -> BootPlan:
    """The part of *plan* that decides whether the units of these *names* come up; the whole where moments decide it too."""
    if plan.cuts or not is_calm(plan):
        return plan
    found = _below(plan, [at for name in names if (at := plan.index(name)) is not None])
    if any(_is_timed(plan, at) for at in found):
        return plan
    return _only(plan, found)


def started_part(plan: BootPlan) -> BootPlan:
    """*plan* without the units that it does not start and that nobody in it looks at: the whole answer, always."""
    kept = {at for at, unit in enumerate(plan.units) if unit.starts or unit.why_not}
    for at in list(kept):
        kept.update(_looked_at(plan.units[at]))
    return _only(plan, kept) if kept else plan


def touched(before: BootPlan, after: BootPlan) -> set[str]:
    """The names of the units that may fare otherwise in *after* than in *before*: what differs, and all that stands on it."""
    one, other = _described(before), _described(after)
    changed = {name for name in one.keys() | other.keys() if one.get(name) != other.get(name)}
    return _above(before, changed) | _above(after, changed)


def is_calm(plan: BootPlan) -> bool:
    """Whether no start comes near its limit, in whatever company it is."""
    wait, spread = 0.0, 0.0
    for unit in plan.units:
        work = unit.work
        if not unit.starts or not work.seconds:
            continue
        tries = 1 + (min(unit.retry.most, 10) if unit.fault and unit.retry else 0)
        load = (work.disk / plan.disks + work.cpu / plan.cores) * tries
        mean = work.seconds * math.exp(work.spread**2 / 2)
        wait += load * mean
        spread += (load * mean) ** 2 * math.expm1(work.spread**2)
    wait += _FAR * math.sqrt(spread)
    return all(
        unit.limit > unit.work.seconds * math.exp(_FAR * unit.work.spread) + wait
        for unit in plan.units
        if unit.starts and unit.limit < FOREVER and unit.kind not in AT_ONCE
    )


def _looked_at(unit: Unit) -> tuple[int, ...]:
    """The units that decide whether this one comes up."""
    blamed = (unit.blame,) if unit.blame >= 0 else ()
    return (*unit.needs, *unit.bound, *unit.up_first, *unit.uses, *blamed)


def _takers(plan: BootPlan) -> list[list[int]]:
    takers: list[list[int]] = [[] for _ in plan.held]
    for at, unit in enumerate(plan.units):
        for thing in unit.takes if unit.starts else ():
            takers[thing].append(at)
    return takers


def _below(plan: BootPlan, roots: list[int]) -> set[int]:
    """*roots* and all that decides whether they come up."""
    takers = _takers(plan)
    found, stack = set(roots), list(roots)
    while stack:
        unit = plan.units[stack.pop()]
        near = {*_looked_at(unit), *(at for thing in unit.takes for at in takers[thing])}
        new = near - found
        found |= new
        stack += new
    return found


def _above(plan: BootPlan, names: set[str]) -> set[str]:
    """*names* and all that they decide about."""
    takers = _takers(plan)
    deciding: list[set[int]] = [set() for _ in plan.units]
    for at, unit in enumerate(plan.units):
        for other in (*_looked_at(unit), *(one for thing in unit.takes for one in takers[thing])):
            deciding[other].add(at)
    stack = [at for at, unit in enumerate(plan.units) if unit.name in names]
    found = set(stack)
    while stack:
        new = deciding[stack.pop()] - found
        found |= new
        stack += new
    return names | {plan.units[at].name for at in found}


def _described(plan: BootPlan) -> dict[str, object]:
    """Each unit in terms that do not depend on its place in the plan, and without when it runs now."""

    def named(many: tuple[int, ...]) -> frozenset[str]:
        return frozenset(plan.units[at].name for at in many)

    return {
        unit.name: (
            replace(unit, waits=(), needs=(), up_first=(), uses=(), bound=(), takes=(), blame=-1, now_up=None),
            *(named(many) for many in (unit.waits, unit.needs, unit.up_first, unit.uses, unit.bound)),
            frozenset((plan.held[thing].name, plan.held[thing].amount) for thing in unit.takes),
        )
        for unit in plan.units
    }


def _is_timed(plan: BootPlan, at: int) -> bool:
    """Whether the moment of anything decides if the unit comes up."""
    units, unit = plan.units, plan.units[at]
    if not unit.starts:
        return False
    if any(units[one].starts and units[one].kind != "remote" for one in (*unit.up_first, *unit.uses)):
        return True
    for thing in set(unit.takes):
        wanted = sum(one.takes.count(thing) for one in units if one.starts)
        if 0 < plan.held[thing].amount < wanted:
            return True
    # What it needs and does not wait for may fail before it has begun, or after.
    loose = [one for one in (*unit.needs, *unit.bound) if one not in unit.waits]
    return any(_can_fail(plan, one) for one in loose)


def _can_fail(plan: BootPlan, at: int) -> bool:
    found, stack = {at}, [at]
    while stack:
        unit = plan.units[stack.pop()]
        if not unit.starts or unit.fault is not None or unit.takes or unit.passed_over or unit.up_first or unit.uses:
            return True
        new = {*unit.needs, *unit.bound} - found
        found |= new
        stack += new
    return False


def _only(plan: BootPlan, kept: set[int]) -> BootPlan:
    """*plan* with these units alone."""
    order = sorted(kept)
    place = {at: new for new, at in enumerate(order)}

    def moved(many: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(place[at] for at in many if at in place)

    units = [
        replace(
            unit,
            waits=moved(unit.waits),
            needs=moved(unit.needs),
            up_first=moved(unit.up_first),
            uses=moved(unit.uses),
            bound=moved(unit.bound),
            blame=place.get(unit.blame, -1),
        )
        for unit in (plan.units[at] for at in order)
    ]
    return BootPlan(plan.host, units, plan.held, plan.cores, plan.disks, taken=plan.taken)

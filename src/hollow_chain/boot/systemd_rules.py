"""How systemd boots: from the facts of a host to a plan.

Written from systemd.unit(5), systemd.service(5), systemd.timer(5), systemd.socket(5), bootup(7), and for what they leave
open from the behavior of the transaction code (``src/core/transaction.c``, ``src/core/job.c``):

* The default target is started, and with it all that is pulled in (``Requires=``, ``BindsTo=``, ``Wants=``, ``Upholds=``).
  What cannot be started (masked, refused, not there) is left out. At boot those that require it are started all the same,
  as long as they are themselves only wanted: the transaction notes that it "cannot add a dependency job", and keeps what it
  has (``transaction_add_job_and_dependencies``). By hand the same start is refused.
* Need and order are two things: only ``After=`` makes one wait, and it waits for the end of the other's start, whatever
  came of it. A failed requirement fails those that have not begun (systemd.unit(5), "Requires=").
* A condition that does not hold passes the unit over, which is no failure; a failed assertion is one ("Conditions and
  Asserts"). What is bound to a unit that was passed over does not start ("BindsTo=").
* What *up* means: ``simple`` once the program is forked, ``exec`` once it runs, ``forking`` once its first process has
  ended, ``notify`` and ``dbus`` once it says so, ``oneshot`` once it has ended (systemd.service(5), "Type=").
* A service that fails is restarted as ``Restart=`` says, until ``StartLimitBurst=`` within ``StartLimitIntervalSec=`` is
  spent; those that required it have failed by then, and are not started again.
* Of two that conflict, the one that declares it is started and the other is left out, unless the boot depends on that
  other ("Conflicts=").
* A loop of order is cut by leaving out one of its members that the boot does not depend on. Which one, depends on the order
  in which the manager comes across them, which is another one at each boot: each way has its chance.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable, Iterable, Iterator

from msgspec.structs import replace

from hollow_chain.boot.making import UP, Draft, Expected
from hollow_chain.boot.plan import FOREVER, BootPlan, Fault, Retry, Unit, Work
from hollow_chain.causes import named
from hollow_chain.chain import Graph, Node, knots
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Condition, Service
from hollow_chain.families.times import start_limit

DEVICE_SECONDS = 90.0
"""For so long a device is waited for (systemd.device(5), ``DefaultDeviceTimeoutSec=`` of systemd-system.conf(5))."""
SAMPLES_OF_CUTS = 48
"""Draws of where the manager cuts a loop, which depends on the order of its tables: with 48 of them a way that is taken in one of
twenty boots is seen with a chance of 91 %."""
_DEFAULTS = ("default.target", "graphical.target", "multi-user.target")
_UNUSABLE = {"masked": named.DISABLED, "refused": named.BAD_DEFINITION, "missing": named.NOT_REGISTERED}
_RETRIES: dict[str, tuple[bool, bool]] = {
    "always": (True, True),
    "on-failure": (True, True),
    "on-abnormal": (True, False),
    "on-watchdog": (False, False),
}
"""Whether a start is tried again after its limit, and after an exit with an error (systemd.service(5), "Restart=")."""


def plan_of(graph: Graph, host: Host, expected: Expected) -> BootPlan:
    """The next boot of *host*."""
    draft = _Boot(graph, host, expected)
    draft.transaction()
    plan = draft.made(draft.unit, draft.links)
    return draft.with_loops_cut(plan)


def plan_of_start(graph: Graph, host: Host, expected: Expected, service: Service) -> BootPlan:
    """A start of one unit on the running host, with all that it pulls in; what is up already stays as it is."""
    draft = _Boot(graph, host, expected)
    draft.running = frozenset(one.name for one in host.services if one.state in UP)
    draft.by_hand(service)
    return draft.with_loops_cut(draft.made(draft.unit, draft.links))


class _Boot(Draft):
    anchor = ""

    def by_hand(self, service: Service) -> None:
        """A start of one unit: unlike at boot it is refused where something that it requires cannot be started."""
        self.anchor = service.name
        self._add(service.name, 0.0)
        self._drop_requirers(by_hand=True)
        self._clashes()

    def transaction(self) -> None:
        """Which units the boot starts."""
        self.anchor = self._default_target()
        roots = [self.anchor] if self.anchor else []
        for name in roots:
            self._add(name, 0.0)
        for service in self.host.services:
            if service.startup in ("automatic", "delayed") and service.name not in self.jobs and self._wanted(service):
                self._add(service.name, 0.0)
        self._timers()
        self._clashes()

    def _default_target(self) -> str:
        names = (self.host.default_target, *_DEFAULTS)
        return next((self.known(name) for name in names if name and self.find(name)), "")

    def _wanted(self, service: Service) -> bool:
        """Whether the boot comes across a service that is set to start: its target is reached, or is not recorded."""
        known = [target for target in service.wanted_by if self.find(target) is not None]
        return not known or any(self.known(target) in self.jobs for target in known)

    def _add(self, name: str, at: float) -> None:
        """Put a unit and all that it pulls in into the transaction, as far as that is possible.

        With an explicit stack: chains are as long as facts make them.
        """
        stack, seen = [self.known(name)], set(self.jobs)
        while stack:
            one = stack.pop()
            if one in seen or one in self.refused or one in self.running:
                continue
            seen.add(one)
            service = self.find(one)
            cause = self._unusable(service)
            if service is None or cause:
                self.refused[one] = cause, one
                continue
            self.jobs[one] = at
            stack += [self.known(link.to) for link in service.links if self._pulls(link.kind, link.pulls, link.host)]

    def _pulls(self, kind: str, pulls: bool, host: str) -> bool:
        return kind in ("hard", "soft") and pulls and host in ("", self.host.name)

    def _unusable(self, service: Service | None) -> str:
        if service is None:
            return named.NOT_REGISTERED
        load = service.definition.load if service.definition else "loaded"
        if service.startup == "disabled":
            return named.DISABLED
        # A mount or socket that no file defines but that is there (a device, a mount by hand) needs no definition.
        if load == "missing" and service.state in UP:
            return ""
        return _UNUSABLE.get(load, "")

    def _required(self, service: Service) -> Iterator[str]:
        for link in service.links:
            if link.kind == "hard" and link.pulls and link.host in ("", self.host.name):
                yield self.known(link.to)

    def _drop_requirers(self, by_hand: bool = False) -> None:
        """Take out of the transaction what requires something that was taken out of it, or *by_hand* never came into it."""
        dropped = {name for name, (_, culprit) in self.refused.items() if culprit != name or by_hand}
        while dropped:
            lost = [
                (one, need)
                for one in self.jobs
                if (service := self.find(one)) is not None
                for need in self._required(service)
                if need in dropped
            ]
            for one, need in lost:
                self._drop(one, *self.refused[need])
            dropped = {one for one, _ in lost}

    def _drop(self, name: str, cause: str, culprit: str) -> None:
        self.jobs.pop(name, None)
        self.refused[name] = cause, culprit

    def _timers(self) -> None:
        """Timers that go off some time after boot start what they are for (systemd.timer(5), "OnBootSec=")."""
        for service in self.host.services:
            own = [t.after_boot for t in service.triggers if t.after_boot is not None and t.name != service.name]
            if own and service.name not in self.jobs:
                self._add(service.name, max(min(own), 1e-3))
            for trigger in service.triggers:
                timer = self.find(trigger.name) if trigger.kind == "timer" else None
                if timer is None or timer.name not in self.jobs or service.name in self.jobs:
                    continue
                moments = [t.after_boot for t in timer.triggers if t.after_boot is not None]
                if moments:
                    self._add(service.name, max(min(moments), 1e-3))

    def _clashes(self) -> None:
        vital = self._vital()
        for name in sorted(self.jobs):
            service = self.find(name)
            if service is None or name not in self.jobs:
                continue
            for link in service.links:
                other = self.known(link.to)
                if link.kind != "clash" or other not in self.jobs or name not in self.jobs or other == name:
                    continue
                loser, winner = (other, name) if other not in vital or name in vital else (name, other)
                self._drop(loser, named.STOPPED_BY_CONFLICT, winner)
                self._drop_requirers()

    def _vital(self) -> set[str]:
        """What the default target requires, directly or not."""
        found: set[str] = set()
        stack = [self.anchor] if self.anchor in self.jobs else []
        while stack:
            one = stack.pop()
            service = self.find(one)
            if one not in found and service is not None:
                found.add(one)
                stack += self._required(service)
        return found

    def unit(self, service: Service) -> Unit:
        """One unit, without its links."""
        cause, _ = self.refused.get(service.name, ("", ""))
        limit = start_limit(service, self.host)
        unit = Unit(
            service.name,
            starts=service.name in self.jobs,
            at=self.jobs.get(service.name, 0.0),
            spread=self._spread(service),
            apart=self.jobs.get(service.name, 0.0) > 0,
            limit=limit.seconds if limit is not None else FOREVER,
            retry=_retry(service),
            why_not=cause or _unasked(service),
        )
        if service.kind == "device":
            return _device(unit, service)
        return _conditioned(unit, service)

    def _spread(self, service: Service) -> float:
        if not self.jobs.get(service.name):
            return 0.0
        timers = [self.find(t.name) for t in service.triggers if t.kind == "timer"]
        return max((t.spread for timer in timers if timer for t in timer.triggers), default=0.0)

    def links(self, service: Service) -> dict[str, list[str]]:
        """The links of one unit: the field of :class:`Unit` and the names."""
        found: dict[str, list[str]] = {"waits": [], "needs": [], "bound": [], "up_first": []}
        if service.name not in self.jobs:
            return found
        for link in service.links:
            if link.host not in ("", self.host.name):
                continue
            other = self.known(link.to)
            if other == service.name:
                continue
            if link.kind == "order" and other in self.jobs:
                found["waits"].append(other)
            elif link.kind == "hard" and not link.pulls and other not in self.running:
                found["up_first"].append(other)
            elif link.kind == "hard" and other in self.jobs:
                found["bound" if link.word == "BindsTo" else "needs"].append(other)
        return found

    def with_loops_cut(self, plan: BootPlan) -> BootPlan:
        """The plan with the ways in which its loops of order may be cut, and the chance of each."""
        knots_found = [part for part in knots(self._nodes(plan), self._after(plan)) if len(part) > 1]
        tangled = {plan.index(node.name) for part in knots_found for node in part}
        if not tangled:
            return plan
        members = sorted(at for at in tangled if at is not None)
        vital = {at for at, unit in enumerate(plan.units) if unit.name in self._vital()}
        rng = random.Random(7)  # the chances of the ways, not a way: any seed does
        ways = Counter(_one_cut(plan, members, vital, rng) for _ in range(SAMPLES_OF_CUTS))
        plan.cuts = [(many / SAMPLES_OF_CUTS, way) for way, many in sorted(ways.items(), key=lambda w: -w[1]) if way]
        names = ", ".join(plan.units[at].name for at in members[:6])
        plan.notes.append(
            f"{len(members)} units stand in loops of order ({names}); the manager cuts such a loop by leaving one out"
        )
        return plan

    def _nodes(self, plan: BootPlan) -> list[Node]:
        return [Node("", unit.name, None) for unit in plan.units if unit.starts]

    def _after(self, plan: BootPlan) -> Callable[[Node], Iterable[Node]]:
        ahead = {
            unit.name: [Node("", plan.units[at].name, None) for at in unit.waits if plan.units[at].starts]
            for unit in plan.units
        }
        return lambda node: ahead.get(node.name, ())


def _one_cut(plan: BootPlan, members: list[int], vital: set[int], rng: random.Random) -> frozenset[int]:
    """One way in which the manager cuts the loops among *members*: what is left out.

    It walks from unit to unit along the order; where the walk comes back to itself, the last member on the way back that
    the boot does not depend on is left out, with all that requires it, and the walk begins anew (``transaction.c``,
    "transaction_verify_order_one").
    """
    inside = set(members)
    later: dict[int, list[int]] = {at: [] for at in members}
    for at in members:
        for other in plan.units[at].waits:
            if other in inside:
                later[other].append(at)
    gone: set[int] = set()
    requirers = _requirers(plan)
    for _ in range(len(members)):
        loop = _loop_met(members, later, gone, rng)
        victim = next((at for at in loop if at not in vital), None)
        if victim is None:
            return frozenset(gone)
        gone |= _with_requirers(requirers, victim)
    return frozenset(gone)


def _loop_met(members: list[int], later: dict[int, list[int]], gone: set[int], rng: random.Random) -> list[int]:
    """The first loop that a walk in random order comes across, from its end backward; empty where there is none."""
    starts = [at for at in members if at not in gone]
    rng.shuffle(starts)
    done: set[int] = set()
    for start in starts:
        path: list[int] = []
        on_path: set[int] = set()
        stack = [(start, False)]
        while stack:
            at, leave = stack.pop()
            if leave:
                path.pop()
                on_path.discard(at)
                done.add(at)
                continue
            if at in on_path:
                return path[: path.index(at) - 1 if path.index(at) else None : -1]
            if at in done or at in gone:
                continue
            path.append(at)
            on_path.add(at)
            stack.append((at, True))
            ahead = list(later[at])
            rng.shuffle(ahead)
            stack += [(other, False) for other in ahead if other not in gone]
    return []


def _requirers(plan: BootPlan) -> list[list[int]]:
    """For each unit those that need it, as far as they are started."""
    found: list[list[int]] = [[] for _ in plan.units]
    for at, unit in enumerate(plan.units):
        for other in {*unit.needs, *unit.bound} if unit.starts else ():
            found[other].append(at)
    return found


def _with_requirers(requirers: list[list[int]], victim: int) -> set[int]:
    gone, stack = {victim}, [victim]
    while stack:
        more = [at for at in requirers[stack.pop()] if at not in gone]
        gone.update(more)
        stack += more
    return gone


def _retry(service: Service) -> Retry | None:
    limits = service.limits
    if limits is None or limits.restart not in _RETRIES or service.kind != "service":
        return None
    on_timeout, on_failure = _RETRIES[limits.restart]
    burst = 5 if limits.rate_count is None else limits.rate_count
    within = 10.0 if limits.rate_seconds is None else limits.rate_seconds
    bounded = burst > 0 and within > 0
    return Retry(
        after=max(limits.restart_seconds or 0.1, 1e-3),
        most=max(burst - 1, 0) if bounded else 1_000_000,
        within=within if bounded else FOREVER,
        on_timeout=on_timeout,
        on_failure=on_failure,
    )


def _device(unit: Unit, service: Service) -> Unit:
    """A device is up when the kernel shows it; one that is not there now is waited for in vain."""
    if service.state in (*UP, "unknown") or not unit.starts:
        return unit
    wait = DEVICE_SECONDS if unit.limit == FOREVER else unit.limit
    return replace(unit, work=Work(wait, 0.0, 0.0, 0.0), limit=FOREVER, fault=Fault(named.DEVICE_MISSING))


def _conditioned(unit: Unit, service: Service) -> Unit:
    if _holds(c for c in service.conditions if not c.kind.startswith("Assert")):
        failed = not _holds(c for c in service.conditions if c.kind.startswith("Assert"))
        return replace(unit, fault=Fault(named.CONDITION_UNMET), retry=None) if failed else unit
    return replace(unit, passed_over=True, why_not=named.CONDITION_UNMET)


def _holds(conditions: Iterable[Condition]) -> bool:
    """All of the plain ones, and one of the optional ones, if there are any (systemd.unit(5))."""
    either: list[bool] = []
    for condition in conditions:
        holds = condition.outcome != "unmet"
        if condition.optional:
            either.append(holds)
        elif not holds:
            return False
    return any(either) or not either


def _unasked(service: Service) -> str:
    """Why a unit that the boot does not start is not started: nothing asks for it."""
    if service.startup == "event":
        return named.EVENT_PENDING
    return named.MANUAL_NOT_STARTED if service.startup in ("manual", "on-need") else ""

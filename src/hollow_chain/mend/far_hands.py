"""Steps on hosts over the network: each by the hands of its host, over one connection, and none on a machine that is not the one
that the plan was made for.

On each host a mark says that a mend is under way there, from where, and which: as long as it stands, no other mend begins.
"""

from __future__ import annotations

import contextlib
import shlex
import time
from collections.abc import Callable, Collection, Sequence
from functools import partial
from pathlib import Path
from typing import Any, Protocol

from hollow_chain.facts.host import File, Snapshot
from hollow_chain.mend.hands import Hands, NotDone
from hollow_chain.mend.plan import Step
from hollow_chain.reach.address import SSH
from hollow_chain.reach.far import FarWay, KeptOpen
from hollow_chain.reach.unreached import Unreached
from hollow_chain.sources.places import AS_IT_IS
from hollow_chain.trouble import FACTS_UNREADABLE, Trouble

_READINGS = 2
"""So often is read what a mend has to do with before it counts as lost: a host may be busy with the very start that was asked of it."""


class MarkingHands(Hands, Protocol):
    """Hands for a host that bears a mark while a mend is under way there."""

    def mark(self, mend: str) -> None:
        """Leave a mark that the *mend* is under way. Raises :class:`NotDone` where another one is."""

    def unmark(self, mend: str) -> None:
        """Take the mark of the *mend* away."""


class FarHands:
    """Hands for all hosts that are reached over the network; *read* reads the facts of all places anew."""

    def __init__(
        self,
        ways: dict[str, FarWay],
        read: Callable[[bool, bool, str], Snapshot],
        first: Snapshot,
        named: Sequence[str],
        kept: KeptOpen,
    ) -> None:
        """*read* gives the facts: with claims, with packages, and of one host alone where that is named, beside what is known of the others.
        *first* are the facts that the plan is made from; *named* what ``--from`` named."""
        self._ways, self._read, self._kept = ways, read, kept
        self._known = {host.name: host.machine for host in first.hosts}
        self._hands: dict[str, MarkingHands] = {}
        self.host = ""
        self.machine = "from another chair"
        self.named = "".join(f" --from {shlex.quote(one)}" for one in named)
        self.place = chair_place()

    @property
    def reaches(self) -> frozenset[str]:
        """The hosts that there are hands for."""
        return frozenset(self._ways)

    def at(self, host: str) -> MarkingHands:
        """The hands of one host."""
        known = self._hands.get(host)
        if known is None:
            try:
                known = self._hands[host] = self._made(host)
            except Trouble as problem:
                raise NotDone(f"{host} is not reached: {problem}") from None
        wanted = self._known.get(host, "")
        if not known.machine or (wanted and known.machine != wanted):
            raise NotDone(f"what answers as {host} is not the machine that the facts are of; nothing is done there")
        return known

    def _made(self, host: str) -> MarkingHands:
        machine, read = partial(self._machine, host), partial(self._surely_read, False, False, host)
        if self._ways[host].address.scheme == SSH:
            from hollow_chain.mend.far_systemd_hands import FarSystemdHands

            return FarSystemdHands(host, machine, read)
        from hollow_chain.mend.far_control_hands import FarControlHands

        return FarControlHands(host, machine, read)

    def _machine(self, host: str) -> Any:
        try:
            return self._kept.machine(self._ways[host])
        except Unreached as problem:
            raise NotDone(f"{host} is not reached: {problem}") from None

    def machines(self, hosts: Collection[str]) -> dict[str, str]:
        """What tells the machines of *hosts* from all others."""
        return {host: self.at(host).machine for host in hosts}

    def begun(self, mend: str, hosts: Collection[str]) -> None:
        """Leave a mark on each of *hosts*; where one has another's, none is left anywhere."""
        marked: list[MarkingHands] = []
        try:
            for host in hosts:
                hands = self.at(host)
                hands.mark(mend)
                marked.append(hands)
        except NotDone:
            for one in marked:
                one.unmark(mend)
            raise

    def ended(self, mend: str) -> None:
        """Take the marks away; a host that is not reached any more keeps its own, and says so to the next mend."""
        for hands in self._hands.values():
            with contextlib.suppress(NotDone, Unreached):
                hands.unmark(mend)

    def lacks(self, steps: list[Step]) -> list[str]:
        """Rights that are not there, each host's own."""
        hosts = list(dict.fromkeys(step.host for step in steps if step.act is not None))
        found = []
        for host in hosts:
            try:
                found += self.at(host).lacks([step for step in steps if step.host == host])
            except NotDone as problem:
                found.append(str(problem))
        return found

    def facts(self, with_claims: bool = False, with_packages: bool = False) -> Snapshot:
        """All hosts, read now. Raises :class:`~hollow_chain.trouble.Trouble` where one that steps are for cannot be read."""
        return self._surely_read(with_claims, with_packages, "")

    def _surely_read(self, with_claims: bool, with_packages: bool, only: str) -> Snapshot:
        lost: Trouble | None = None
        for _ in range(_READINGS):
            try:
                found = self._read(with_claims, with_packages, only)
            except Trouble as problem:
                if problem.status != FACTS_UNREADABLE:
                    raise
                lost = problem
                continue
            lost = self._lost(found)
            if lost is None:
                return found
        assert lost is not None
        raise lost

    def _lost(self, found: Snapshot) -> Trouble | None:
        """What is to be said of the first host that the mend has to do with and that *found* does not tell of as it is now."""
        now = {host.name: host for host in found.hosts}
        whys = {one.name: one.why for one in found.unreached}
        for name in sorted({self.host, *self._hands} - {""}):
            if name not in now:
                return Trouble(f"cannot read {name}: {whys.get(name) or 'nothing is told of it any more'}")
            instead = next((one.why for one in now[name].unread if one.what == AS_IT_IS), "")
            if instead:
                return Trouble(f"cannot read {name}: {instead}")
        return None

    def look(self, path: str) -> File | None:
        """What is at a path of the target's host."""
        return self.at(self.host).look(path)

    def own_test(self, service: str) -> str:
        """The own test of a service of the target's host."""
        return self.at(self.host).own_test(service)

    def keep(self, step: Step, mend: str, number: str) -> dict[str, Any]:
        """What the step is going to change, on its host."""
        return self.at(step.host).keep(step, mend, number)

    def do(self, step: Step, kept: dict[str, Any]) -> None:
        """Carry out a step on its host."""
        self.at(step.host).do(step, kept)

    def settle(self, step: Step, kept: dict[str, Any]) -> None:
        """The mend has held."""
        self.at(step.host).settle(step, kept)

    def take_back(self, step: Step, kept: dict[str, Any]) -> None:
        """Restore what was kept, on its host."""
        self.at(step.host).take_back(step, kept)

    def let_pass(self, seconds: float) -> None:
        """Time passes by itself."""
        time.sleep(seconds)


def chair_place() -> Path:
    """The folder of journals about other hosts, of the user who mends them."""
    import platformdirs

    return Path(platformdirs.user_state_dir("hollow-chain", appauthor=False)) / "mends"

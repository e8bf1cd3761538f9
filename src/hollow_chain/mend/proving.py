"""The proof of a try: its steps are carried out on a copy of the facts, and the copy is rehearsed.

*Sufficient*: all that the target stands on is up now, and after a reboot. *Minimal*: with any one step left out it is not.
*Harmless*: nothing that runs now ends, and nothing that comes up with a boot comes up less surely. The boots before and after
have the same random numbers, so what the steps do not touch does not differ at all, and is not simulated either
(:mod:`hollow_chain.boot.part`). How far all this is a proof, and of what, :mod:`hollow_chain.mend.kinds` says.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field

from hollow_chain.boot.compare import compare
from hollow_chain.boot.making import UP
from hollow_chain.boot.part import part_of, touched
from hollow_chain.boot.plan import BootPlan
from hollow_chain.causes import Facts, Standing, named, rule_of
from hollow_chain.chain import Node, starves, stop_takes
from hollow_chain.mend.kinds import kinds_of
from hollow_chain.mend.plan import Proof, Step
from hollow_chain.mend.supposing import Copy, Expectations, Runs, assume_done, carry_out
from hollow_chain.verdict import Cause

ENOUGH = 0.9
"""The chance to be up from which on steps count as sufficient."""
_TO_COMPARE = 400
"""Rehearsals of boots before and after, where moments decide: one in a hundred that gets worse is told from none."""
BOOTS_ITSELF = ("automatic", "delayed", "manual")
STARTABLE = ("service", "socket", "mount", "timer", "path", "target", "swap", "automount")


@dataclass
class Trial:
    """What a try has to bring about, and how it is judged."""

    facts: Facts
    known: Expectations
    target: Node
    causes: list[Cause]
    """What is taken to be wrong."""
    goals: list[Node]
    """What has to be up: the target, and all on the chains down to the causes."""
    dependents: list[Node] = field(default_factory=list)
    """What went down with it, and has to be back."""
    restored: list[Node] = field(default_factory=list)
    """What runs now, is ended by a step, and does not come back by itself: it has to be up again now."""
    now_only: bool = False
    given_up: frozenset[str] = frozenset()
    contested: bool = False
    """Whether the causes are only supposed: then nothing else is taken to be wrong with their places."""
    runs: Runs = field(default_factory=Runs)

    def copy(self) -> Copy:
        """A fresh copy of the facts, with what the try supposes."""
        the = Copy(self.known)
        for cause in self.causes if self.contested else ():
            for host in the.now:
                names = {node.name for node in cause.chain if node.host == host}
                for name in names:
                    if name == cause.finding.service:
                        fault = the.now[host].faults.get(name)
                        the.suppose_only(host, name, cause.finding.cause, fault.after if fault else None)
        return the

    def carried(self, steps: list[Step], whole: list[Step]) -> tuple[Copy, float, list[str]]:
        """A copy on which *steps* (of the *whole* plan) were carried out, the chance of that, and what is not answered."""
        the, chance = self.copy(), 1.0
        left = Counter(answer for step in whole for answer in step.answers)
        findings = {(c.finding.cause, c.finding.host, c.finding.service): c for c in self.causes}
        for step in steps:
            for answer in step.answers:
                left[answer] -= 1
                cause = findings.get(answer)
                if cause is not None and not left[answer]:
                    if not step.acts:
                        assume_done(the, cause)
                    for host in the.now:
                        names = [n.name for n in cause.chain if n.host == host]
                        the.forget(host, names, answer[0], answer[2], with_rivals=not step.acts)
            own = carry_out(the, step, self.runs.first, self.runs.seed)
            # A boot starts everything anew: how the starts before it came out no longer matters.
            chance = own if any(act.verb == "reboot" for act in step.acts) else chance * own
        open_ones = [a for a in findings if left[a] > 0 or a not in left]
        return (
            the,
            chance,
            [f"{name} on {host}: {cause}" for cause, host, name in open_ones if not self._shows(cause, host, name)],
        )

    def _shows(self, cause: str, host: str, name: str) -> bool:
        """Whether the copy shows by itself that a cause is still there: what runs and yet does not serve looks well in it."""
        rule = rule_of(cause)
        runs = self.facts.standing(self.facts.graph.node(host, name)) is Standing.UP
        return rule.is_simulated and not (runs and rule.lacks_only_a_start and not rule.of_the_next_boot)

    def goals_now(self, the: Copy) -> list[Node]:
        """What has to be up at once: not what waits for an event of its own."""
        found = []
        for node in (*self.goals, *self.dependents, *self.restored):
            service = the.service(node.host, node.name)
            waits = service is not None and service.startup == "event" and self.facts.standing(node).well
            if service is None or (not waits and (service.kind in STARTABLE or node.key == self.target.key)):
                found.append(node)
        return found

    def down(self, the: Copy) -> list[str]:
        """What has to be up and is not."""
        return [
            f"{node.name} on {node.host}" + (f" ({reason})" if (reason := the.reasons.get(node.key)) else "")
            for node in self.goals_now(the)
            if (service := the.service(node.host, node.name)) is None or service.state not in UP
        ]

    def after_reboot(self, the: Copy) -> tuple[float | None, list[str]]:
        """The chance that all that has to be up is up after a reboot of its host, and what is not."""
        if self.now_only:
            return None, []
        chance, lacking, any_goal = 1.0, [], False
        for host in self.known.hosts:
            names = list(dict.fromkeys(n.name for n in self._boot_goals(the) if n.host == host))
            if not names:
                continue
            any_goal = True
            together, each, _ = self.known.together(the.boot_plan(host), names, ENOUGH, self.runs)
            lacking += [f"{name} on {host}" for name, own in each.items() if own < ENOUGH]
            chance *= together
        return (chance, lacking) if any_goal else (None, [])

    def target_after_reboot(self, the: Copy) -> tuple[float | None, int]:
        """The chance that the target itself is up after a reboot of its host, and in how many rehearsals that was seen."""
        service = the.service(self.target.host, self.target.name)
        if self.target.host not in self.known.hosts or service is None or service.startup not in BOOTS_ITSELF:
            return None, 0
        share, _, many = self.known.together(the.boot_plan(self.target.host), [service.name], ENOUGH, self.runs)
        return share, many

    def _boot_goals(self, the: Copy) -> list[Node]:
        found = []
        for node in (*self.goals, *self.dependents):
            service = the.service(node.host, node.name)
            if service is not None and service.kind in STARTABLE and service.startup in BOOTS_ITSELF:
                found.append(node)
        return found

    def suffices(self, steps: list[Step], whole: list[Step]) -> bool:
        """Whether *steps* bring up what has to be up, now and after a reboot."""
        the, chance, open_ones = self.carried(steps, whole)
        if open_ones or chance < ENOUGH or self.down(the):
            return False
        after, _ = self.after_reboot(the)
        return after is None or after >= ENOUGH

    def prove(self, steps: list[Step], whole: list[Step] | None = None) -> Proof:
        """Judge *steps*; *whole* are those that were thought of, where some were left out as needless."""
        whole = whole or steps
        the, chance, open_ones = self.carried(steps, whole)
        down = self.down(the)
        after, lacking = self.after_reboot(the)
        before, many = (None, 0) if self.now_only else self.target_after_reboot(self.copy())
        lacks = [f"not answered: {one}" for one in open_ones]
        lacks += [f"{one} is not up after the steps" for one in down]
        lacks += [f"{one} is not up after a reboot" for one in lacking]
        if chance < ENOUGH and not down:
            lacks.append(f"a start comes out well in {chance:.0%} only")
        if after is not None and after < ENOUGH and not lacking:
            lacks.append(f"all are up after a reboot in {after:.0%} only")
        excused = self._excused(steps)
        harms = self._harms(the, steps, excused)
        down_by_now = {(h.name, s.name) for h in the.graph.hosts.values() for s in h.services if s.state not in UP}
        unserved = {
            one.key for key in excused & down_by_now for one in starves(self.facts.graph, self.facts.graph.node(*key))
        }
        up_before = {node.key for node in self.facts.graph.nodes() if node.service and node.service.state in UP}
        needless = tuple(
            at for at in range(len(steps)) if not lacks and self.suffices([*steps[:at], *steps[at + 1 :]], whole)
        )
        kinds = kinds_of(self.facts, steps, self.causes)
        return Proof(
            sufficient=not lacks,
            minimal=not needless,
            harmless=not harms,
            up_now=0.0 if down or open_ones else chance,
            up_after_reboot=after,
            lacks=tuple(lacks),
            harms=tuple(harms),
            needless=needless,
            assumed=tuple(step.does for step in steps if step.by_person),
            gives_way=tuple(
                f"{name} on {host}" for host, name in sorted(excused & up_before & (down_by_now | unserved))
            ),
            runs=max(many, self.runs.first),
            seed=self.runs.seed,
            kinds=kinds.of_steps,
            assumptions=kinds.assumptions,
            unknown=kinds.unknown,
            up_after_reboot_before=before,
        )

    def _harms(self, the: Copy, steps: list[Step], excused: set[tuple[str, str]]) -> list[str]:
        """What was well and no longer is: by now, and with the next boot."""
        harms: list[str] = []
        for host in self.known.hosts:
            before = {service.name for service in self.facts.graph.hosts[host].services if service.state in UP}
            for service in the.graph.hosts[host].services:
                well = self.facts.standing(self.facts.graph.node(host, service.name)).well
                if service.name in before and well and service.state not in UP and (host, service.name) not in excused:
                    harms.append(f"{service.name} on {host} runs now and would be {service.state}")
                if service.name in before and service.state not in UP:
                    harms += self._unserved(host, service.name, excused)
        for host in self.known.hosts if any(step.acts for step in steps) else ():
            harms += self._worse(the, host, excused)
        return harms

    def _unserved(self, host: str, name: str, excused: set[tuple[str, str]]) -> Iterable[str]:
        """What runs on another host and needs a service that ends."""
        for node in starves(self.facts.graph, self.facts.graph.node(host, name)):
            runs = node.service is not None and node.service.state in UP
            if runs and node.key not in excused:
                yield f"{node.name} on {node.host} runs now and needs {name} on {host}, which would not be up"

    def _worse(self, the: Copy, host: str, excused: set[tuple[str, str]]) -> Iterable[str]:
        before, after = self.copy().boot_plan(host), the.boot_plan(host)
        names = touched(before, after)
        if not names:
            return
        parts, many = (part_of(before, names), part_of(after, names)), self.runs.first
        if parts[0] is before or parts[1] is after:  # moments decide in one of them: then both have to be whole
            parts, many = (before, after), self.runs.exactly or _TO_COMPARE
        one, other = (self.known.simulate(plan, many, self.runs.seed) for plan in parts)
        unasked = self._unasked(after, the, host)
        for shift in compare(one, other).shifts:
            if shift.verdict == "worse" and (host, shift.service) not in excused and shift.service not in unasked:
                yield (
                    f"{shift.service} on {host} would be up after a reboot in {shift.up_after:.0%} of cases, "
                    f"not in {shift.up_before:.0%} as now"
                )

    def _unasked(self, after: BootPlan, the: Copy, host: str) -> set[str]:
        """What comes up with a boot only where something wants it, and nothing that is left does."""
        found = set()
        for unit in after.units:
            service = the.service(host, unit.name)
            asked = service is not None and service.startup in ("automatic", "delayed", "event")
            if not unit.starts and not asked and unit.why_not in ("", named.MANUAL_NOT_STARTED):
                found.add(unit.name)
        return found

    def _excused(self, steps: list[Step]) -> set[tuple[str, str]]:
        """What somebody has agreed, or will be asked to agree, to do without; and what ends with it."""
        agreed = {(step.host, step.choice) for step in steps if step.choice}
        agreed |= {(step.host, act.service) for step in steps if step.choice for act in step.acts if act.verb == "stop"}
        agreed |= {(host, name) for host in self.known.hosts for name in self.given_up}
        found = set(agreed)
        for host, name in agreed:
            node = self.facts.graph.node(host, name)
            found |= {one.key for one in (*stop_takes(self.facts.graph, node), *starves(self.facts.graph, node))}
        return found

"""From a verdict to a plan: deepest first, the least disruptive of equal ones first; where causes are rivals, a sequence of tries.

Tries are ordered by what each costs over how likely it is to be the right one, which makes the expected cost of the whole
sequence least (Heckerman, Breese and Rommelse, "Decision-theoretic troubleshooting", 1995).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from hollow_chain.boot.engine import Progress
from hollow_chain.boot.making import UP
from hollow_chain.causes import Facts, Finding, Mend, Standing, rule_of
from hollow_chain.causes import acts as say
from hollow_chain.causes.acts import Act
from hollow_chain.causes.nature import Boot
from hollow_chain.chain import Node, starves
from hollow_chain.families import family_of
from hollow_chain.mend.plan import AFTER_REBOOT, Answer, Plan, Step, Try
from hollow_chain.mend.proving import STARTABLE, Trial
from hollow_chain.mend.supposing import Copy, Expectations, Runs
from hollow_chain.mend.verbs import BY_PERSON, INTERRUPTED, VERBS, view_of
from hollow_chain.mend.ways import Way, by_place, choices, of_way, ways_of
from hollow_chain.verdict import Cause, Verdict
from hollow_chain.verdict.below import way_of

LIKELY = 0.5
"""From this chance on a cause is worth a plan of its own: it is then likelier than all others together."""
SURE = 0.85
"""So sure has to be what only describes an end, to be taken for its reason."""
MOST_TRIES = 5
MOST_DEPENDENTS = 20
MOST_STARTUPS = 20
"""Rivals that are tried, services above the target that are set right along with it, and startup types that are changed: beyond that
a plan is no plan that a person would read."""
A_REBOOT = "a reboot"


class Planner:
    """Plans for one target."""

    def __init__(
        self,
        facts: Facts,
        now_only: bool = False,
        given_up: tuple[str, ...] = (),
        may_reboot: bool = False,
        runs: int | None = None,
        seed: int = 1,
        progress: Progress | None = None,
    ) -> None:
        self.facts, self.now_only, self.given_up, self.may_reboot = facts, now_only, given_up, may_reboot
        self.runs, self.progress = Runs(exactly=runs, seed=seed), progress

    def plan(self, verdict: Verdict) -> Plan:
        """The plan for what *verdict* names, with the proof of each try."""
        plan = Plan(verdict.target, verdict.read_at, now_only=self.now_only, given_up=self.given_up)
        ways = list(self._ways(verdict))
        if not ways:
            return plan
        known = Expectations(self.facts, [*_hosts(verdict, ways), *self._served_from_afar(ways)], self.progress)
        for causes, probability, contested in ways:
            plan.tries.append(self._try(verdict, causes, probability, contested, known))
        plan.tries = _merged(plan.tries)
        plan.tries.sort(key=lambda one: one.cost / max(one.probability, 0.01))
        return plan

    def _served_from_afar(self, ways: list[tuple[list[Cause], float, bool]]) -> Iterator[str]:
        """The hosts on which something is no longer served, where what a mend would stop is stopped."""
        for causes, _, _ in ways:
            for cause in causes:
                for act in (act for mend in cause.finding.mends for act in (*mend.acts, *mend.means)):
                    if act.verb in ("stop", "restart"):
                        node = self.facts.graph.node(cause.finding.host, act.service)
                        yield from (one.host for one in starves(self.facts.graph, node))

    def _ways(self, verdict: Verdict) -> Iterator[tuple[list[Cause], float, bool]]:
        """What may be wrong: sets of causes, each with its probability, and whether it has rivals.

        Causes at different places are mended together; rivals are those at one place of which nobody can be sure.
        """
        certain: list[Cause] = list(self._foreseen(verdict))
        rivals: list[list[Cause]] = []
        for causes in by_place(verdict.causes):
            sure = [c for c in causes if c.confidence >= LIKELY and (not c.finding.residual or c.confidence >= SURE)]
            if sure or (len(causes) == 1 and causes[0].confidence >= LIKELY):
                certain += sure or causes
            else:
                rivals.append(causes)
        if certain:  # what is unlikely where all else is explained is left alone
            rivals = [causes for causes in rivals if sum(c.confidence for c in causes) >= LIKELY]
        if rivals:
            first, *others = sorted(rivals, key=lambda causes: -sum(c.confidence for c in causes))
            likeliest = [causes[0] for causes in others]
            for cause in first[:MOST_TRIES]:
                yield [*certain, cause, *likeliest], cause.confidence, True
        elif certain:
            yield certain, min(c.confidence for c in certain), False
        else:
            yield from self._notes(verdict)

    def _foreseen(self, verdict: Verdict) -> Iterator[Cause]:
        """What a start would meet although it has not failed by it yet: so that a plan before the first failure is the one after it."""
        if not verdict.causes:
            return
        for note in verdict.notes:
            if note.note and rule_of(note.cause).boot is Boot.RIVALRY:
                node = self.facts.graph.node(note.host, note.service)
                chain = next((c.chain for c in verdict.causes if node.key in {n.key for n in c.chain}), None)
                at = [n.key for n in chain].index(node.key) if chain else 0
                way = chain[: at + 1] if chain else (verdict.target,)
                if way[-1].key == node.key:
                    yield Cause(note, 1.0, way_of(way))

    def _notes(self, verdict: Verdict) -> Iterator[tuple[list[Cause], float, bool]]:
        """All is well, and something will not come back with the next boot."""
        lasting = [n for n in verdict.notes if rule_of(n.cause).of_the_next_boot and any(mend.acts for mend in n.mends)]
        if lasting and not self.now_only:
            nodes = [self.facts.graph.node(note.host, note.service) for note in lasting]
            chains = [(verdict.target,) if node.key == verdict.target.key else (verdict.target, node) for node in nodes]
            yield [Cause(note, 1.0, way_of(chain)) for note, chain in zip(lasting, chains, strict=True)], 1.0, False

    def _try(
        self, verdict: Verdict, causes: list[Cause], probability: float, contested: bool, known: Expectations
    ) -> Try:
        """The steps for *causes*: of the ways that their rules know the first that holds in rehearsal, else the best one."""
        causes = sorted(causes, key=lambda c: -len(c.chain))
        found: list[Try] = []
        for choice in choices([ways_of(cause) for cause in causes]):
            found.append(self._rehearsed(verdict, causes, probability, contested, known, choice))
            proof = found[-1].proof
            if proof is not None and proof.holds and not self._takes_along(found[-1]):
                return self._with_choice(found)
        # One that takes down what is needed is better than none, and the first of those that hold is the least.
        return next((one for one in found if one.proof is not None and one.proof.holds), found[0])

    def _with_choice(self, found: list[Try]) -> Try:
        """The last of *found*, with what could be chosen instead, and what that would take along."""
        chosen, hints = found[-1], []
        for one in found[:-1]:
            if one.proof is not None and one.proof.holds and self._takes_along(one):
                step = next(step for step in one.steps if step.choice)
                more = ", ".join(name for name in one.stops if name != step.choice)
                hints.append(
                    f"Or choose that {step.choice} stops, and with it {more}: ask again with --may-stop {step.choice}"
                )
        chosen.hints = tuple(dict.fromkeys((*chosen.hints, *hints)))
        return chosen

    def _takes_along(self, one: Try) -> bool:
        """Whether something that runs and is needed has to stop for it, which nobody has agreed to yet."""
        return any(len(step.interrupts) > 1 for step in one.steps if step.choice and step.choice != A_REBOOT)

    def _rehearsed(
        self,
        verdict: Verdict,
        causes: list[Cause],
        probability: float,
        contested: bool,
        known: Expectations,
        choice: list[Way],
    ) -> Try:
        steps, hints = self._steps(causes, choice)
        goals = _unique([node for cause in causes for node in cause.chain[::-1]] + [verdict.target])
        trial = Trial(
            self.facts, known, verdict.target, causes, goals, now_only=self.now_only, given_up=frozenset(self.given_up),
            contested=contested, runs=self.runs,
        )  # fmt: skip
        self._add_dependents(trial, steps)
        if not self.now_only:
            self._add_startups(trial, steps)
        kept = _pruned(trial, steps)
        proof = trial.prove(kept, steps)
        answers = tuple(_answer(cause.finding) for cause in causes)
        return Try(kept, answers, probability, _look(verdict.target, causes), tuple(hints), proof)

    def _steps(self, causes: list[Cause], choice: list[Way]) -> tuple[list[Step], list[str]]:
        """The steps for *causes*, and the starts of all on the way up, deepest first; and what else there is to say."""
        steps: list[Step] = []
        hints: list[str] = []
        at: dict[tuple[str, str], list[Step]] = {}
        for cause, way in zip(causes, choice, strict=True):
            mends, others = of_way(way, ways_of(cause))
            hints += others
            at.setdefault(cause.place.key, []).extend(step for mend in mends for step in self._of_mend(cause, mend))
        for node in _from_the_ground(causes):
            start = self._start_of(node)
            for step in sorted([*at.get(node.key, ()), *([start] if start is not None else [])], key=_disruption):
                if step.act is None or (step.host, step.act) not in [(s.host, s.act) for s in steps]:
                    steps.append(step)
        late = [s.host for s in steps if s.act is not None and s.act.verb == "limit" and s.effect == AFTER_REBOOT]
        return steps + [self._step(host, say.reboot()) for host in dict.fromkeys(late)], hints

    def _of_mend(self, cause: Cause, mend: Mend) -> Iterator[Step]:
        finding = cause.finding
        if not mend.acts:
            yield self._by_hand(finding, mend)
        for act in mend.acts:
            if (
                act.verb == "startup"
                and self.now_only
                and act.value in ("automatic", "delayed")
                and not self._is_off(cause)
            ):
                continue
            yield self._step(finding.host, act, (_answer(finding),), mend.because if act.verb == "limit" else "")

    def _by_hand(self, finding: Finding, mend: Mend) -> Step:
        """A step for a person, with all that what it means takes along."""
        step = Step(
            finding.host, mend.alone, effect=mend.moment, undo="by hand: note what was there before",
            answers=(_answer(finding),), cost=BY_PERSON, means=mend.means, seeks=mend.seeks,
        )  # fmt: skip
        if finding.host not in self.facts.graph.hosts:
            return replace(step, means=())
        known = [self._step(finding.host, act) for act in mend.means if act.verb in VERBS]
        interrupts = tuple(dict.fromkeys(name for one in known for name in one.interrupts))
        touches = dict.fromkeys(name for one in known for name in one.also_touches if name not in interrupts)
        choice = next((one.choice for one in known if one.choice and one.choice != A_REBOOT), "")
        return replace(
            step, interrupts=interrupts, also_touches=tuple(touches), choice=choice,
            cost=BY_PERSON + INTERRUPTED * len(interrupts),
        )  # fmt: skip

    def _is_off(self, cause: Cause) -> bool:
        service = cause.place.service
        return service is not None and service.startup == "disabled"

    def _step(self, host: str, act: Act, answers: tuple[Answer, ...] = (), because: str = "") -> Step:
        view, verb = view_of(self.facts, host), VERBS[act.verb]
        interrupts = tuple(verb.interrupts(view, act))
        gives_way = act.verb == "stop" or (act.verb == "startup" and act.value == "manual" and _runs(view.service(act)))
        asked = [act.service] if gives_way else list(interrupts) if act.verb == "start" else []
        choice = next((name for name in asked if name not in self.given_up), "")
        if act.verb == "reboot":
            choice = "" if self.may_reboot and family_of(view.host).stand_in_reboots else A_REBOOT
        return Step(
            host=host,
            does=verb.does(view, act),
            act=act,
            old=verb.old(view, act),
            new=verb.new(view, act),
            effect=verb.effect(view, act),
            also_touches=tuple(one for one in verb.touches(view, act) if one not in interrupts)[:30],
            interrupts=interrupts,
            undo=verb.undo(view, act),
            answers=answers,
            choice=choice,
            cost=verb.cost + (0.0 if act.verb == "reboot" else INTERRUPTED * len(interrupts)),
            because=because,
        )

    def _start_of(self, node: Node) -> Step | None:
        """The start of a node on the chain; none where it is up, cannot be started, or waits for an event of its own."""
        service = node.service
        standing = self.facts.standing(node)
        if service is None or service.kind not in STARTABLE or service.template:
            return None
        if service.state in UP and standing is not Standing.UNSTABLE:
            return None
        if service.startup == "event" and service.state == "stopped" and service.triggers:
            return None
        act = say.restart(node.name) if service.state == "running" else say.start(node.name)
        return self._step(node.host, act)

    def _add_dependents(self, trial: Trial, steps: list[Step]) -> None:
        """Starts of what went down with the mended ones and would come up again."""
        the, _, open_ones = trial.carried(steps, steps)
        if open_ones:
            return
        booted = {step.host for step in steps if any(act.verb == "reboot" for act in step.acts)}
        for node in self._ended_by_boot(the, booted):
            trial.restored.append(node)
            steps.append(replace(self._step(node.host, say.start(node.name)), old="ended by the boot"))
        for node in _lost(self.facts, trial.goals):
            service = the.service(node.host, node.name)
            if service is None or len(trial.dependents) >= MOST_DEPENDENTS or node.host not in trial.known.hosts:
                continue
            if the.start(node.host, node.name, trial.runs.first, trial.runs.seed) >= LIKELY:
                trial.dependents.append(node)
                if service.state not in UP:
                    steps.append(self._step(node.host, say.start(node.name)))

    def _ended_by_boot(self, the: Copy, hosts: set[str]) -> Iterator[Node]:
        """What runs now on *hosts* that a step boots, and does not come up with a boot by itself: who asks for a boot does not ask to do
        without it."""
        for host in hosts:
            for service in self.facts.graph.hosts[host].services:
                node = self.facts.graph.node(host, service.name)
                after = the.service(host, service.name)
                runs = service.kind == "service" and service.state == "running" and self.facts.standing(node).well
                if runs and after is not None and after.state not in UP:
                    yield node

    def _add_startups(self, trial: Trial, steps: list[Step]) -> None:
        """Set to start at boot what a boot would leave down for no other reason than that nobody asks for it."""
        for _ in range(MOST_STARTUPS):
            the, _, open_ones = trial.carried(steps, steps)
            if open_ones or trial.down(the):
                return
            _, lacking = trial.after_reboot(the)
            unasked = [
                node
                for node in (trial.target, *trial.goals)
                if f"{node.name} on {node.host}" in lacking
                and (service := the.service(node.host, node.name)) is not None
                and service.startup == "manual"
            ]
            if not unasked:
                return
            # The topmost one brings up with it what it needs.
            self._set_automatic(steps, unasked[0])

    def _set_automatic(self, steps: list[Step], node: Node) -> None:
        step = self._step(node.host, say.startup(node.name, "automatic"))
        for at, one in enumerate(steps):
            if (
                one.act is not None
                and one.act.verb == "startup"
                and (one.host, one.act.service) == (node.host, node.name)
            ):
                steps[at] = replace(step, answers=one.answers)
                return
        steps.append(step)


def _merged(tries: list[Try]) -> list[Try]:
    """*tries* without those that do the same for another reason: they are one, and likelier."""
    found: dict[tuple[tuple[str, object], ...], Try] = {}
    for one in tries:
        key = tuple((step.host, step.act or step.does) for step in one.steps)
        known = found.setdefault(key, one)
        if known is not one:
            known.causes = tuple(dict.fromkeys((*known.causes, *one.causes)))
            known.probability = min(round(known.probability + one.probability, 3), 1.0)
    return list(found.values())


def _runs(service: object) -> bool:
    return getattr(service, "state", "") in UP


def _pruned(trial: Trial, steps: list[Step]) -> list[Step]:
    """*steps* without those that can be left out: the dearest are tried first, of equal ones the deepest."""
    kept = list(steps)
    if not trial.suffices(kept, steps):
        return kept
    for step in sorted(steps, key=lambda one: -one.cost):
        fewer = [one for one in kept if one is not step]
        if fewer and trial.suffices(fewer, steps):
            kept = fewer
    return kept


def _disruption(step: Step) -> tuple[int, int]:
    """The order of the steps at one place: what keeps it from coming up goes before what brings it up, and of these what only the
    manager notices goes first; otherwise as the rules have them."""
    if step.act is None:
        return 0, 0
    verb = step.act.verb
    return int(verb in ("start", "restart", "renew")), int(verb != "reload")


def _lost(facts: Facts, goals: list[Node]) -> Iterator[Node]:
    """What hard-needs one of *goals*, should be up, and is down for no reason of its own that shows in its state."""
    seen = {node.key for node in goals}
    level = list(goals)
    while level:
        above: list[Node] = []
        for node in level:
            for edge in facts.graph.needed_by(node, ("hard",)):
                one = edge.tail
                if (
                    one.key in seen
                    or one.service is None
                    or one.service.kind not in STARTABLE
                    or one.service.kind == "target"
                ):
                    continue
                seen.add(one.key)
                above.append(one)
                if facts.standing(one) is Standing.DOWN and one.service.startup in ("automatic", "delayed"):
                    yield one
        level = above


def _hosts(verdict: Verdict, ways: list[tuple[list[Cause], float, bool]]) -> list[str]:
    chains = [node.host for causes, _, _ in ways for cause in causes for node in cause.chain]
    return list(dict.fromkeys([*chains, verdict.target.host]))


def _from_the_ground(causes: list[Cause]) -> list[Node]:
    """All nodes of the chains, those farthest from the target first; nothing comes before what it stands on."""
    depth: dict[tuple[str, str], int] = {}
    nodes: dict[tuple[str, str], Node] = {}
    for cause in causes:
        for distance, node in enumerate(cause.chain):
            depth[node.key] = max(distance, depth.get(node.key, 0))
            nodes[node.key] = node
    return sorted(nodes.values(), key=lambda node: -depth[node.key])


def _unique(nodes: list[Node]) -> list[Node]:
    return list({node.key: node for node in nodes}.values())


def _answer(finding: Finding) -> Answer:
    return finding.cause, finding.host, finding.service


def _look(target: Node, causes: list[Cause]) -> str:
    """What tells, after a try, whether it was the right one."""
    places = _unique([cause.place for cause in causes])
    names = " and ".join(node.name for node in places[:3])
    claims = [c.port for c in target.service.claims if c.counts] if target.service else []
    ports = f", and whether it holds port {claims[0]}" if claims else ""
    return f"Look whether {names} stays up, then whether {target.name} does{ports}; if not, take this back and go on."

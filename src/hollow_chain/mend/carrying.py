"""A plan is carried out, step by step; each is on the journal before it is begun, and looked at after it.

Facts are read anew before each step: where they are no longer those that the plan was made from, it stops. What did not hold
can be taken back, and of a sequence of tries is, before the next one is begun.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.mend.by_hand import not_yet
from hollow_chain.mend.checking import checks_of
from hollow_chain.mend.guarding import OPENS, Guard
from hollow_chain.mend.hands import Hands, HandsOfMany, NotDone, hands_at, reached_by
from hollow_chain.mend.journal import FORMAT, VERSION, MendJournal, Record, begin
from hollow_chain.mend.outcome import Ask, MendOutcome, Stopped, Tell, Waiting, called, nobody, said_once
from hollow_chain.mend.plan import Plan, Step
from hollow_chain.trouble import wrong_call
from hollow_chain.verdict import diagnose

_TAKEN_BACK = ("register", "edit")
"""What is taken back wholly where it did not hold."""
_MOST_CAUSES = 2
"""Causes that are told of what is gone by then: a sentence has to stay one."""
_DEFINES = ("define", "amend", "undefine")
"""Verbs whose service need not be registered; what stands in its place by then, the hands compare byte by byte."""


@dataclass
class Carrier:
    """Carries mends out on one host, and takes them back."""

    hands: Hands
    tell: Tell
    watch: float = 5.0
    """For how many seconds a mended target is watched."""
    ask: Ask = nobody
    """Asks whether a step for a person is done."""

    def apply(self, plan: Plan) -> MendOutcome:
        """Carry out *plan*. Raises :class:`~hollow_chain.trouble.Trouble` before anything is changed where that cannot be."""
        self.check(plan)
        tries = [one.steps for one in plan.tries]
        started = [
            (step.host, step.act.service) for steps in tries for step in steps
            if step.act is not None and not step.answers and step.act.verb == "start" and step.act.service != plan.target.name
        ]  # fmt: skip
        here = self.hands.host
        head = Record(
            what="begun", at=datetime.now(UTC), format=FORMAT, version=VERSION, host=self.hands.host, machine=self.hands.machine,
            target=plan.target.name, does=plan.does, ports=list(plan.ports), now_only=plan.now_only, read_at=plan.read_at, tries=tries,
            dependents=list(dict.fromkeys(name for host, name in started if host == here)),
            dependents_at=list(dict.fromkeys(one for one in started if one[0] != here)),
            causes=[" ".join(answer) for one in plan.tries for answer in one.causes],
        )  # fmt: skip
        hosts = sorted({step.host for steps in tries for step in steps if step.act is not None})
        if isinstance(self.hands, HandsOfMany):
            head.machines = self.hands.machines(hosts)
        journal = begin(self.hands.place, head, self.hands.named)
        if isinstance(self.hands, HandsOfMany):
            try:
                self.hands.begun(journal.id, hosts)
            except NotDone as problem:
                journal.note("closed", how="left")
                raise wrong_call(str(problem)) from None
        return self._go_on(journal, 0)

    def _close(self, journal: MendJournal, how: str) -> None:
        """The last word of a journal; hosts lose their marks."""
        journal.note("closed", how=how)
        if isinstance(self.hands, HandsOfMany):
            self.hands.ended(journal.id)

    def check(self, plan: Plan) -> None:
        """Raise :class:`~hollow_chain.trouble.Trouble` where *plan* cannot be carried out on this host, by this user."""
        if plan.target.host != self.hands.host:
            raise wrong_call(
                f"the plan is for {plan.target.host}, and this is {self.hands.host}: it is not carried out here"
            )
        self._may([one.steps for one in plan.tries])

    def _may(self, tries: list[list[Step]]) -> None:
        """Everything that speaks against it, told before the first step."""
        steps = [step for one in tries for step in one if step.act is not None]
        elsewhere = sorted({step.host for step in steps} - reached_by(self.hands))
        if elsewhere:
            raise wrong_call(f"steps of the plan are for {', '.join(elsewhere)}: they have to be carried out there")
        asked = [step.choice for one in tries for step in one if step.choice]
        if asked:
            how = "--reboot" if asked[0] == "a reboot" else f"--may-stop {asked[0]}"
            raise wrong_call(f"the plan costs {asked[0]}, which somebody has to agree to: add {how}")
        lacking = self.hands.lacks(steps)
        if lacking:
            raise wrong_call(f"not permitted here; it needs {'; '.join(lacking)}")

    def resume(self, journal: MendJournal) -> MendOutcome:
        """Go on with a mend that was interrupted."""
        self._is_here(journal)
        standing = journal.standing
        if standing.closed:
            raise wrong_call(f"the mend {journal.id} is finished ({standing.closed}); there is nothing to go on with")
        self._may(journal.head.tries)
        if standing.undoing:
            return self.undo(journal)
        if standing.begun is not None:
            attempt, number, kept = standing.begun
            step = journal.head.tries[attempt][number]
            self.tell(f"undoing what was begun: {step.does}")
            self._take_back(journal, attempt, number, kept)
        return self._go_on(journal, standing.attempt)

    def done(self, journal: MendJournal, number: int) -> MendOutcome:
        """A person says that step *number* (from 1) is done: look whether it is, and go on. Raises
        :class:`~hollow_chain.trouble.Trouble` where nothing waits for that."""
        self._is_here(journal)
        standing = journal.standing
        if standing.closed or standing.undoing or standing.asked is None:
            raise wrong_call(f"the mend {journal.id} of {journal.head.target} waits for nobody")
        attempt, step = standing.asked
        if number != step + 1:
            raise wrong_call(
                f"the mend {journal.id} of {journal.head.target} waits for step {step + 1}, not for step {number}"
            )
        self._may(journal.head.tries)
        self.ask = said_once(number, self.ask)
        return self._go_on(journal, attempt)

    def undo(self, journal: MendJournal) -> MendOutcome:
        """Take a mend back: what was there before it is there again."""
        self._is_here(journal)
        standing = journal.standing
        if standing.closed == "undone":
            raise wrong_call(f"the mend {journal.id} was undone already")
        lacking = self.hands.lacks([step for one in journal.head.tries for step in one])
        if lacking:
            raise wrong_call(f"not permitted here; it needs {'; '.join(lacking)}")
        journal.note("undoing")
        failed = self._undo_steps(journal)
        if failed:
            summary = f"The mend {journal.id} is undone as far as could be: {'; '.join(failed)}"
            return MendOutcome(journal.id, False, summary, applied=False)
        self._close(journal, "undone")
        return MendOutcome(journal.id, True, f"{called(journal.head, journal.id)} is undone.", applied=False)

    def to_undo(self, journal: MendJournal) -> list[Step]:
        """The steps that an undo takes back, in that order."""
        standing = journal.standing
        steps = [*standing.done, *([standing.begun] if standing.begun is not None else [])]
        return [journal.head.tries[attempt][number] for attempt, number, _ in reversed(steps)]

    def _is_here(self, journal: MendJournal) -> None:
        head = journal.head
        if isinstance(self.hands, HandsOfMany):
            missing = sorted(set(head.machines) - self.hands.reaches)
            if missing or not head.machines:
                where = f"{', '.join(missing)}, which --from does not name" if missing else f"{head.host} itself"
                raise wrong_call(f"the mend {journal.id} was made on {where}")
            self.hands.host = head.host
            now = self.hands.machines(head.machines)
            other = next((host for host, machine in head.machines.items() if now[host] != machine), None)
            if other is not None:
                raise wrong_call(
                    f"the mend {journal.id} was made on another machine than the one that is called {other} now"
                )
        elif head.machine != self.hands.machine or head.host != self.hands.host:
            raise wrong_call(
                f"the mend {journal.id} was made on {head.host} ({head.machine}), and this is another host"
            )

    def _undo_steps(self, journal: MendJournal, verbs: tuple[str, ...] = ()) -> list[str]:
        """Take back what is carried out, the last step first; only steps of *verbs*, where these are given."""
        standing = journal.standing
        steps = [*standing.done, *([standing.begun] if standing.begun is not None else [])]
        failed = []
        for attempt, number, kept in reversed(steps):
            step = journal.head.tries[attempt][number]
            if verbs and (step.act is None or step.act.verb not in verbs):
                continue
            self.tell(f"undoing: {step.does}")
            try:
                self._take_back(journal, attempt, number, kept)
            except NotDone as problem:
                failed.append(str(problem))
        return failed

    def _take_back(self, journal: MendJournal, attempt: int, number: int, kept: dict[str, object]) -> None:
        step = journal.head.tries[attempt][number]
        hands_at(self.hands, step.host).take_back(step, kept)
        journal.note("undone", attempt, number)

    def _go_on(self, journal: MendJournal, first: int) -> MendOutcome:
        tries = journal.head.tries
        outcome = MendOutcome(journal.id, False, "")
        for attempt in range(first, len(tries)):
            if len(tries) > 1:
                self.tell(f"try {attempt + 1} of {len(tries)}")
            try:
                outcome = self._attempt(journal, attempt)
            except Waiting as waiting:
                return self._waits(journal, waiting)
            if outcome.well:
                for number, done, kept in journal.standing.done:
                    hands_at(self.hands, tries[number][done].host).settle(tries[number][done], kept)
                self._close(journal, "held")
                return outcome
            if attempt + 1 < len(tries):
                self.tell(f"{outcome.summary} It is undone before the next try.")
                failed = self._undo_steps(journal)
                if failed:
                    outcome.summary += f" It could not be undone wholly: {'; '.join(failed)}"
                    break
        if journal.head.does in _TAKEN_BACK:
            return self._all_back(journal, outcome)
        failed = self._undo_steps(journal, OPENS)
        if failed:
            outcome.summary += f" What it opened could not be undone: {'; '.join(failed)}"
        self._close(journal, "not held")
        if journal.standing.done or journal.standing.begun:
            outcome.way_back = f"The way back: hollow-chain mend --undo {journal.id}{self.hands.named}"
        return outcome

    def _all_back(self, journal: MendJournal, outcome: MendOutcome) -> MendOutcome:
        """What was registered and does not come up is no service: nothing of it is left, and what was seen of it is told."""
        facts = Facts(Graph(self.hands.facts()))
        verdict = diagnose(facts, facts.graph.node(self.hands.host, journal.head.target))
        said = [f"{cause.finding.cause}: {cause.finding.says}" for cause in verdict.causes[:_MOST_CAUSES]]
        failed = self._undo_steps(journal)
        outcome.summary += f" {' '.join(said)}" if said else ""
        if failed:
            self._close(journal, "not held")
            outcome.summary += f" It could not be undone wholly: {'; '.join(failed)}"
            outcome.way_back = f"The way back: hollow-chain mend --undo {journal.id}{self.hands.named}"
        else:
            self._close(journal, "undone")
            left = ": nothing is left registered" if journal.head.does == "register" else ""
            outcome.summary += f" All of it is undone{left}."
        return outcome

    def _attempt(self, journal: MendJournal, attempt: int) -> MendOutcome:
        steps = journal.head.tries[attempt]
        done = {number for one, number, _ in journal.standing.done if one == attempt}
        done |= {
            r.step for r in journal.records if r.what == "after" and (r.skipped or r.by_hand) and r.attempt == attempt
        }
        try:
            for number, step in enumerate(steps):
                if number in done:
                    continue
                if step.act is None:
                    self._by_person(journal, attempt, number, step)
                else:
                    self._one(journal, attempt, number, step, steps[:number])
        except (Stopped, NotDone) as problem:
            return MendOutcome(journal.id, False, f"{called(journal.head)} did not hold: {problem}.")
        checks = checks_of(self.hands, journal.head, self.watch, self.tell)
        well = all(check.well for check in checks)
        words = "holds" if well else "did not hold"
        return MendOutcome(journal.id, well, f"{called(journal.head)} {words}.", checks)

    def _by_person(self, journal: MendJournal, attempt: int, number: int, step: Step) -> None:
        """One step for a person: ask whether it is done, and look whether it is. Raises :class:`Waiting`."""
        if journal.standing.asked != (attempt, number):
            journal.note("asked", attempt, number)
        why = ""
        while self.ask(number + 1, step):
            facts = Facts(Graph(self.hands.facts(with_claims=True, with_packages=True)))
            missing = not_yet(self.hands, facts, step, journal.head.target, journal.head.read_at)
            if not missing:
                journal.note("before", attempt, number)
                journal.note("after", attempt, number, by_hand=True)
                return
            why = "; ".join(missing[:3])
            self.tell(f"not done yet: {why}")
        raise Waiting(number + 1, step, why)

    def _one(self, journal: MendJournal, attempt: int, number: int, step: Step, before: list[Step]) -> None:
        """One step: is it still to be done, what is there now, do it, did it hold?"""
        if step.act is not None and step.act.verb in _DEFINES:
            # What stands there the hands compare byte by byte, and they say themselves where the manager does not take it.
            self.tell(step.does)
            kept = hands_at(self.hands, step.host).keep(step, journal.id, f"{attempt + 1}-{number + 1}")
            journal.note("before", attempt, number, kept=kept)
            hands_at(self.hands, step.host).do(step, kept)
            journal.note("after", attempt, number)
            return
        guard = Guard(self.hands)
        # Whose a file is counts where a step may open or remove something: no rule may propose that of a package's file.
        facts = Facts(Graph(self.hands.facts(with_packages=step.act is not None and step.act.verb in OPENS)))
        # What was done before, by us or by a person, may have done this too; what changed without that is somebody else's business.
        helped = bool(journal.standing.by_hand or journal.standing.done)
        if guard.is_so_already(facts, step) or (helped and guard.is_needless(facts, step, before, journal.head.target)):
            self.tell(f"already so: {step.does}")
            journal.note("before", attempt, number)
            journal.note("after", attempt, number, skipped=True)
            return
        guard.check(facts, step, before, journal.head.target)
        self.tell(step.does)
        kept = hands_at(self.hands, step.host).keep(step, journal.id, f"{attempt + 1}-{number + 1}")
        journal.note("before", attempt, number, kept=kept)
        hands_at(self.hands, step.host).do(step, kept)
        guard.hold(step)
        journal.note("after", attempt, number)

    def _waits(self, journal: MendJournal, waiting: Waiting) -> MendOutcome:
        """The mend waits for a person; its journal stays open."""
        number, does = waiting.number, waiting.step.does
        why = f" Not done yet: {waiting.why.rstrip('.')}." if waiting.why else ""
        done = "all before it is done; " if number > 1 else ""
        summary = f"The mend of {journal.head.target} waits for a step by hand: {done}step {number} is: {does}{why}"
        named = self.hands.named
        way_back = f"When it is done: hollow-chain mend --done {number}{named}"
        way_back += f". To undo it: hollow-chain mend --undo {journal.id}{named}"
        return MendOutcome(journal.id, False, summary, way_back=way_back, waits_for=(number, does))

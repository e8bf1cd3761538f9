"""Plans, and what became of them, as pages."""

from __future__ import annotations

import getpass
import os
from typing import TYPE_CHECKING

from hollow_chain.causes import Facts
from hollow_chain.mend.plan import NOT_KNOWN, SIMULATED, Plan, Proof, Step, Try
from hollow_chain.mend.shell_lines import shell_lines
from hollow_chain.show.clean import clean
from hollow_chain.show.rehearsal import percent
from hollow_chain.show.sheet import Sheet, SheetLine
from hollow_chain.ticket.verdicts import chain_lines
from hollow_chain.verdict import Verdict

if TYPE_CHECKING:
    from hollow_chain.mend.outcome import MendOutcome


def plan_sheet(facts: Facts, plan: Plan, verdict: Verdict, outcome: MendOutcome | None = None) -> Sheet:
    """The page about a plan; with *outcome*, about what was done."""
    target = f"{plan.target.name} on {plan.target.host}"
    applied = outcome is not None and outcome.applied
    sheet = Sheet(
        title=f"{'What was done' if applied else 'What to do'} for {target}",
        lead=verdict.summary,
        host=plan.target.host,
        read_at=plan.read_at,
    )
    if outcome is not None:
        sheet.about.append(SheetLine(outcome.summary, "outcome"))
        sheet.about.append(SheetLine(who(), "by"))
    if verdict.causes:
        sheet.add("The chain down to the hollow link", chain_lines(facts, verdict), "chain")
        sheet.add(
            "Evidence",
            [SheetLine(one.fact, aside=one.source) for one in verdict.causes[0].finding.evidence],
            folded=True,
        )
    for number, one in enumerate(plan.tries, 1):
        title = "Steps" if len(plan.tries) == 1 else f"Try {number} ({one.probability:.0%} sure that this is it)"
        sheet.add(title, [_step(facts, step, plan, outcome) for step in one.steps], "steps")
        if one.proof is not None:
            sheet.add("The proof", [SheetLine(text) for text in proof_words(one.proof)])
        sheet.add("Besides, or instead", [SheetLine(text) for text in one.hints])
    if not plan.tries:
        sheet.add("Steps", [SheetLine("Nothing to mend: no cause is known why it would not hold.")])
    if outcome is not None:
        checks = [SheetLine(one.says, tone="well" if one.well else "unwell") for one in outcome.checks]
        sheet.add("Looked at afterwards", checks)
    sheet.add("How to undo it", list(_undo(plan, outcome)))
    return sheet


def who() -> str:
    """The account of whoever sits there."""
    try:
        return os.environ.get("SUDO_USER") or getpass.getuser()
    except (KeyError, OSError):
        return "an unknown account"


def _step(facts: Facts, step: Step, plan: Plan, outcome: MendOutcome | None) -> SheetLine:
    parts = []
    if step.old or step.new:
        parts.append(f"Before: {step.old or 'nothing'}; after: {step.new or 'nothing'}.")
    if step.because:
        parts.append(step.because)
    if step.effect != "at once":
        parts.append(f"Takes effect only {step.effect}.")
    if step.interrupts:
        parts.append(f"Interrupts {', '.join(step.interrupts[:8])}.")
    if step.also_touches:
        parts.append(f"Also touches {', '.join(step.also_touches[:8])}.")
    if step.undo:
        parts.append(f"Undo: {step.undo}.")
    lines = shell_lines(step, facts.graph.hosts.get(step.host))
    code = "\n".join(f"{'# ' if one.remark else ''}{clean(one.text, 2000)}" for one in lines)
    where = f", on {step.host}" if step.host != plan.target.host else ""
    by = (
        "by hand"
        if step.act is None
        else "done by Hollow Chain"
        if outcome is not None and outcome.applied
        else "by Hollow Chain"
    )
    return SheetLine(step.does, f"({by}{where})", "\n".join(part.replace("\n", " ") for part in parts), code=code)


def proof_words(proof: Proof) -> list[str]:
    """The proof in plain words."""
    if not proof.holds:
        said = ["It did not hold in rehearsal, so that it is not offered as a mend."]
        return [*said, *proof.lacks[:6], *proof.harms[:6]]
    said = [f"It was tried before on a copy of the facts, in {proof.runs:,} simulated boots."]
    if proof.kind == NOT_KNOWN:
        said.append(
            "All that a simulation sees is right afterwards; whether the program itself then starts, it cannot tell."
        )
    else:
        given = "" if proof.kind == SIMULATED else "If what is assumed below is so: "
        said.append(f"{given}The service came up in {percent(proof.up_now)} of the starts.")
    if proof.up_after_reboot is not None:
        said.append(f"After a reboot it was up in {percent(proof.up_after_reboot)} of the boots.")
    said.append("No step can be left out, and nothing that is well gets worse by it.")
    said += [f"Assumed: {text}" for text in proof.assumptions[:6]]
    said += [f"Not known: {text}" for text in proof.unknown[:6]]
    if proof.gives_way:
        said.append(f"Stopped by agreement: {', '.join(proof.gives_way[:6])}.")
    return said


def _undo(plan: Plan, outcome: MendOutcome | None) -> list[SheetLine]:
    if outcome is not None and outcome.id and outcome.applied and not outcome.way_back:
        return [SheetLine(f"hollow-chain mend --undo {outcome.id}{outcome.named}")]
    if outcome is not None and outcome.way_back:
        return [SheetLine(outcome.way_back)]
    return [SheetLine(step.undo) for one in plan.tries[:1] for step in _undone(one) if step.undo]


def _undone(one: Try) -> list[Step]:
    return one.steps[::-1]

"""A plan, its proof, and what became of it: for a person, and as JSON."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hollow_chain.causes.words import clock
from hollow_chain.mend.plan import ASSUMED, NOT_KNOWN, SIMULATED, Plan, Proof, Step, Try
from hollow_chain.mend.shell_lines import shell_lines
from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document, when
from hollow_chain.show.page import Page, age
from hollow_chain.show.signs import ASIDE, CAUTION, HOLLOW, PENDING, SOLID, WEAK, Sign

if TYPE_CHECKING:
    from collections.abc import Mapping
    from datetime import datetime

    from hollow_chain.facts.host import Host
    from hollow_chain.mend.outcome import MendOutcome


def show_plan(page: Page, plan: Plan, is_carried_out: bool = False, hosts: Mapping[str, Host] | None = None) -> None:
    """Write the whole plan: its steps, what each touches and how it is taken back, and the proof; and what can be done with it,
    where that is not happening at this moment. With *hosts*: under each step the lines to type on such a host."""
    target = f"{clean(plan.target.name, 120)} on {clean(plan.target.host, 80)}"
    if not plan.tries:
        page.line((f"Nothing to mend: no cause is known why {target} would not hold.", "bold"))
        page.line((age(plan.read_at), "dim"))
        return
    page.line((f"A plan for {target}", "bold"), f"{': what to try, in this order' if len(plan.tries) > 1 else ''}")
    page.line((age(plan.read_at), "dim"))
    show_tries(page, plan, hosts)
    if hosts is not None and not any(shell_lines(s, hosts.get(s.host)) for one in plan.tries for s in one.steps):
        page.line(("No line of a shell does any of these steps on such a host.", "dim"), indent=1)
    if not is_carried_out or not plan.offered:
        page.gap()
        _show_end(page, plan)


def show_tries(page: Page, plan: Plan, hosts: Mapping[str, Host] | None = None) -> None:
    """Write the steps, with what each touches and how it is taken back, and the proof."""
    for number, one in enumerate(plan.tries, 1):
        _show_try(page, plan, number, one, hosts or {})


def _show_try(page: Page, plan: Plan, number: int, one: Try, hosts: Mapping[str, Host]) -> None:
    if len(plan.tries) > 1:
        page.heading(f"Try {number}  ({one.probability:.0%} sure that this is it, costs about {_minutes(one.cost)})")
    causes = ", ".join(f"{cause} ({clean(service, 80)})" for cause, _, service in one.causes)
    if causes:
        page.line(("against ", "dim"), clean(causes, 300), indent=1, hang=8)
    if one.stops:
        words = f"It stops what runs: {_listed(one.stops)}."
        other = " There is another way, below." if one.hints else ""
        page.line((words + other, f"bold {CAUTION}"), indent=1, hang=2)
    kinds = one.proof.kinds if one.proof is not None else ()
    for at, step in enumerate(one.steps, 1):
        show_step(page, at, step, plan.target.host, kinds[at - 1] if at <= len(kinds) else "")
        for line in shell_lines(step, hosts.get(step.host)):
            page.line(clean(f"# {line.text}" if line.remark else line.text, 1000), indent=6, hang=2)
    if one.hints:
        page.gap()
        page.line(("Besides, or instead:", "dim"), indent=1)
    for hint in one.hints:
        page.line((f"- {clean(hint, 300)}", "dim"), indent=4, hang=2)
    if one.proof is not None:
        _show_proof(page, one.proof, one, plan.does in ("edit", "unregister"))
    if len(plan.tries) > 1:
        page.line(("afterwards: ", "underline"), clean(one.look, 300), indent=1, hang=4)


def show_step(page: Page, at: int, step: Step, host: str = "", kind: str = "") -> None:
    """Write one step; *host* is the one that needs no name."""
    page.gap()
    where = (f"  on {clean(step.host, 80)}", ASIDE) if host and step.host != host else ("", "")
    who = ("  by hand", f"bold {CAUTION}") if step.act is None else ("", "")
    page.line((f"{at}. {clean(step.does, 400)}", "bold"), where, who, indent=1, hang=3)
    if step.old or step.new:
        page.line(f"{clean(step.old, 100)} -> {clean(step.new, 100)}", indent=4, hang=2)
    if step.because:
        page.line(clean(step.because, 300), indent=4, hang=2)
    effect = "" if step.effect == "at once" else f"Takes effect only {step.effect}. "
    if effect or kind:
        page.line((effect, ASIDE), (f"Proof: {kind}." if kind else "", "dim"), indent=4)
    if step.choice:
        page.line((_choice_words(step), CAUTION), indent=4, hang=2)
    if step.interrupts:
        page.line((f"Interrupts {_listed(step.interrupts)}.", CAUTION), indent=4, hang=2)
    if step.also_touches:
        page.line(f"Also touches {_listed(step.also_touches)}.", indent=4, hang=2)
    page.line((f"Undo: {clean(step.undo, 300)}.", "dim"), indent=4, hang=2)


def _choice_words(step: Step) -> str:
    if step.choice == "a reboot":
        return "Costs a reboot, which somebody has to agree to: --reboot on a stand-in host, by hand on any other."
    return f"{clean(step.choice, 80)} has to be stopped, which somebody has to agree to: --may-stop {clean(step.choice, 80)}."


def _show_proof(page: Page, proof: Proof, one: Try, only_harm: bool = False) -> None:
    """*only_harm*: nothing is to come up by it, so that only what gets worse counts."""
    page.gap()
    sign, words = _verdict(proof)
    page.line(
        (f"{page.sign(sign)} {words}", sign.style or "bold"),
        f" ({proof.runs} rehearsals, seed {proof.seed})",
        indent=1,
        hang=2,
    )
    for text in (*proof.unknown[:_MOST], *proof.assumptions[:_MOST]) if proof.holds else ():
        page.line((f"- {clean(text, 300)}", sign.style), indent=6, hang=2)
    if not only_harm:
        _show_sufficient(page, proof)
    page.line(_mark(page, proof.harmless), _harmless_words(proof), indent=4, hang=2)
    for text in (*proof.lacks[:_MOST], *proof.harms[:_MOST]):
        page.line((f"- {clean(text, 300)}", CAUTION), indent=6, hang=2)
    agreed = [step.choice for step in one.steps if step.choice]
    if agreed:
        text = f"taken to be agreed to: {_listed(tuple(dict.fromkeys(agreed)), 4)}"
        page.line((f"{page.sign(PENDING)} {text}", PENDING.style), indent=4, hang=2)


def _show_sufficient(page: Page, proof: Proof) -> None:
    page.line(_mark(page, proof.sufficient), _sufficient_words(proof), indent=4, hang=2)
    needless = ", ".join(str(at + 1) for at in proof.needless)
    only = "no step can be left out" if proof.minimal else f"step {needless} can be left out"
    page.line(_mark(page, proof.minimal), f"minimal: {only}", indent=4, hang=2)


_MOST = 6
"""Reasons of one kind that are listed: more than that nobody weighs."""


def _verdict(proof: Proof) -> tuple[Sign, str]:
    """What the proof comes to. Only one that is simulated throughout holds as it stands."""
    if not proof.holds:
        return HOLLOW, "The proof does not hold, so this is not offered as a mend"
    if proof.kind == SIMULATED:
        return SOLID, "The proof holds"
    if proof.kind == ASSUMED:
        return PENDING, "It holds if"
    return WEAK, "Not proven; what is missing for that:"


def _sufficient_words(proof: Proof) -> str:
    if not proof.sufficient:
        return "sufficient: no, see below"
    after = "" if proof.up_after_reboot is None else f", after a reboot in {proof.up_after_reboot:.1%} of the boots"
    if proof.kind == NOT_KNOWN:
        return "sufficient for all that a rehearsal sees: nothing else keeps it down, now or after a reboot"
    given = "if so, " if proof.kind == ASSUMED else ""
    return f"sufficient: {given}up now in {proof.up_now:.1%} of the starts{after}"


def _harmless_words(proof: Proof) -> str:
    if not proof.harmless:
        return "harmless: no, see below"
    if proof.gives_way:
        return f"harmless, but for what is stopped ({_listed(proof.gives_way)}): nothing else that is well gets worse"
    return "harmless: nothing that is well gets worse"


def _mark(page: Page, well: bool) -> tuple[str, str]:
    sign = SOLID if well else HOLLOW
    return f"{page.sign(sign)} ", sign.style


def _show_end(page: Page, plan: Plan) -> None:
    if not plan.offered:
        page.line(("No mend is offered.", "bold"), " What is still missing stands above.")
    elif all(one.for_machine for one in plan.tries):
        page.line(("Nothing has been changed.", "bold"), " --apply carries it out, --undo undoes it.")
    elif not any(step.act is None for one in plan.tries for step in one.steps):
        page.line(
            ("Nothing has been changed.", "bold"), " Agree to what it costs, as said above, and --apply carries it out."
        )
    else:
        agree = "Agree to what it costs; " if any(one.stops for one in plan.tries) else ""
        page.line(
            ("Nothing has been changed.", "bold"),
            f" {agree}--apply carries it out, and asks when a step by hand comes.",
        )


def _minutes(cost: float) -> str:
    return f"{cost:.0f} min" if cost >= 1 else "less than a minute"


def _listed(names: tuple[str, ...], most: int = 6) -> str:
    shown = ", ".join(clean(name, 200) for name in names[:most])
    return shown + (f" and {len(names) - most} more" if len(names) > most else "")


def show_outcome(page: Page, outcome: MendOutcome) -> None:
    """Write what became of a plan that was carried out or taken back."""
    page.gap()
    sign = SOLID if outcome.well else PENDING if outcome.waits_for else HOLLOW
    page.line((f"{page.sign(sign)} {clean(outcome.summary, 600)}", sign.style or "bold"), hang=2)
    for check in outcome.checks:
        page.line(_mark(page, check.well), clean(check.says, 300), indent=3, hang=2)
    if outcome.way_back:
        page.line((clean(outcome.way_back, 300), "bold"))
    if outcome.id and outcome.applied:
        page.line(
            f"This is mend {clean(outcome.id, 60)}.",
            ("" if outcome.way_back else f" To undo it: {_undo_line(outcome)}", "bold"),
        )
    if outcome.case is not None:
        page.line(
            f"It is kept as case {outcome.case}; say what it really was with: hollow-chain case confirm {outcome.case}"
        )


def _undo_line(outcome: MendOutcome) -> str:
    return clean(f"hollow-chain mend --undo {outcome.id}{outcome.named}", 300)


def show_undo(page: Page, name: str, target: str, at: datetime, steps: list[Step]) -> None:
    """Write what an undo of the mend *name* will do."""
    page.line((f"Undo of the mend {clean(name, 60)}", "bold"), f" of {clean(target, 120)}, carried out {clock(at)}:")
    for number, step in enumerate(steps, 1):
        page.line(
            f"{number}. {clean(step.undo, 300)}  ", (f"(it was: {clean(step.does, 200)})", "dim"), indent=1, hang=3
        )
    if not steps:
        page.line("nothing of it was carried out", indent=1)


def plan_document(plan: Plan, outcome: MendOutcome | None = None) -> Document:
    """``hollow-chain/plan``, version 1."""
    first = plan.tries[0] if plan.tries else None
    document: Document = {
        "format": "hollow-chain/plan",
        "version": 1,
        "read_at": when(plan.read_at),
        "target": {"host": plan.target.host, "service": plan.target.name},
        "steps": _steps(first) if first else [],
        "proof": _proof(first.proof) if first and first.proof else None,
        "offered": plan.offered,
        "now_only": plan.now_only,
        "given_up": list(plan.given_up),
        "tries": [
            {
                "causes": [{"cause": c, "host": h, "service": s} for c, h, s in one.causes],
                "probability": one.probability,
                "cost_minutes": round(one.cost, 1),
                "look": one.look,
                "hints": list(one.hints),
                "stops": list(one.stops),
                "steps": _steps(one),
                "proof": _proof(one.proof) if one.proof else None,
            }
            for one in plan.tries
        ],
        "applied": outcome is not None and outcome.applied,
        "held": outcome.well if outcome is not None else None,
    }
    if outcome is not None:
        document |= outcome_document(outcome)
    return document


def outcome_document(outcome: MendOutcome) -> Document:
    """What became of it, as keys of a plan's document."""
    return {
        "mend": outcome.id,
        "summary": outcome.summary,
        "checks": [{"check": check.name, "well": check.well, "says": check.says} for check in outcome.checks],
        "way_back": outcome.way_back,
        "waits_for": {"step": outcome.waits_for[0], "does": outcome.waits_for[1]} if outcome.waits_for else None,
    }


def later_document(outcome: MendOutcome) -> Document:
    """``hollow-chain/mend-outcome``, version 1: what became of a mend that was taken back or gone on with."""
    head: Document = {
        "format": "hollow-chain/mend-outcome",
        "version": 1,
        "applied": outcome.applied,
        "held": outcome.well,
    }
    return head | outcome_document(outcome)


def _steps(one: Try) -> list[Document]:
    kinds = one.proof.kinds if one.proof is not None else ()
    return [
        _step(step) | {"proof": kinds[at].replace(" ", "-") if at < len(kinds) else None, "because": step.because}
        for at, step in enumerate(one.steps)
    ]


def _step(step: Step) -> Document:
    return {
        "does": step.does,
        "on": step.host,
        "by": "person" if step.act is None else "machine",
        "means": [{key: value for key, value in act._asdict().items() if value} for act in step.means],
        "old": step.old,
        "new": step.new,
        "effect": step.effect,
        "also_touches": list(step.also_touches),
        "interrupts": list(step.interrupts),
        "needs_consent": step.choice,
        "undo": step.undo,
        "answers": [{"cause": c, "host": h, "service": s} for c, h, s in step.answers],
    }


def _proof(proof: Proof) -> Document:
    return {
        "sufficient": proof.sufficient,
        "minimal": proof.minimal,
        "harmless": proof.harmless,
        "up": round(proof.up, 4),
        "up_now": round(proof.up_now, 4),
        "up_after_reboot": None if proof.up_after_reboot is None else round(proof.up_after_reboot, 4),
        "lacks": list(proof.lacks),
        "harms": list(proof.harms),
        "needless": [at + 1 for at in proof.needless],
        "assumed": list(proof.assumed),
        "gives_way": list(proof.gives_way),
        "runs": proof.runs,
        "seed": proof.seed,
        "kind": proof.kind.replace(" ", "-"),
        "assumes": list(proof.assumptions),
        "unknown": list(proof.unknown),
        "up_after_reboot_before": None
        if proof.up_after_reboot_before is None
        else round(proof.up_after_reboot_before, 4),
    }

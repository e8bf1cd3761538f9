"""Kept cases as pages."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from hollow_chain.causes.words import clock, span
from hollow_chain.show.sheet import Sheet, SheetLine

if TYPE_CHECKING:
    from hollow_chain.experience.case import KeptCase


def case_sheet(case: KeptCase) -> Sheet:
    """The page about one case, from the documents that were kept with it."""
    sheet = Sheet(f"Case {case.id}: {case.target} on {case.host}", case.summary, case.host)
    sheet.about.append(SheetLine(clock(case.kept_at), "kept"))
    sheet.about.append(SheetLine(case.standing, "standing", _what_it_was(case)))
    if case.outcome:
        took = f" after {span(case.took_seconds)}" if case.took_seconds is not None else ""
        sheet.about.append(SheetLine(f"{case.mend}: {case.outcome}{took}", "mend"))
    if case.note:
        sheet.about.append(SheetLine(case.note, "note"))
    causes = _dicts(case.verdict.get("causes"))
    if causes:
        names = [str(one) for one in causes[0].get("chain", [])]
        lines = [SheetLine(name, tone="unwell") for name in names[:-1]]
        lines += (
            [SheetLine(names[-1], aside=f"hollow link: {causes[0].get('cause', '')}", tone="cause")] if names else []
        )
        sheet.add("The chain down to the hollow link", lines, "chain")
    for number, one in enumerate(causes[:8], 1):
        sure = f"{one.get('service', '')} on {one.get('host', '')}, {float(one.get('confidence', 0)):.0%} sure"
        sheet.add(
            f"{number}. {one.get('cause', '')}", [SheetLine(str(one.get("says", "")), aside=sure, tone="cause")], "text"
        )
        pieces = [
            SheetLine(str(e.get("fact", "")), aside=str(e.get("source", ""))) for e in _dicts(one.get("evidence"))
        ]
        sheet.add("Evidence", pieces, folded=True, most=30)
    steps = [_step(one) for one in _dicts((case.plan or {}).get("steps"))]
    sheet.add("What was done" if case.outcome else "What was planned", steps, "steps")
    checks = [
        SheetLine(str(c.get("says", "")), tone="well" if c.get("well") else "unwell")
        for c in _dicts((case.plan or {}).get("checks"))
    ]
    sheet.add("Looked at afterwards", checks)
    if case.mend and case.outcome:
        sheet.add("How to undo it", [SheetLine(f"hollow-chain mend --undo {case.mend}")])
    return sheet


def _what_it_was(case: KeptCase) -> str:
    return f"it was {case.true_cause}{f' at {case.true_place}' if case.true_place else ''}" if case.true_cause else ""


def _dicts(found: object) -> list[dict[str, Any]]:
    return [one for one in found if isinstance(one, dict)] if isinstance(found, list) else []


def _step(step: dict[str, Any]) -> SheetLine:
    parts = []
    if step.get("old") or step.get("new"):
        parts.append(f"Before: {step.get('old') or 'nothing'}; after: {step.get('new') or 'nothing'}.")
    if step.get("undo"):
        parts.append(f"Undo: {step['undo']}.")
    by = "by hand" if step.get("by") == "person" else "by Hollow Chain"
    return SheetLine(str(step.get("does", "")), f"({by})", "\n".join(parts))

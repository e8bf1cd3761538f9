"""Cases for a person, and as JSON."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hollow_chain.causes.words import span
from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document, when
from hollow_chain.show.page import Page
from hollow_chain.show.signs import PENDING, SOLID, WEAK, Sign
from hollow_chain.wording.counts import counted

if TYPE_CHECKING:
    from hollow_chain.experience.case import KeptCase
    from hollow_chain.verdict.experience import Experience

_SIGNS: dict[str, Sign] = {"open": PENDING, "confirmed": SOLID, "corrected": WEAK}


def show_cases(page: Page, cases: list[KeptCase], learned: Experience | None) -> None:
    """Write a line for each case, and what they have taught."""
    if not cases:
        page.line("No case is kept. 'why TARGET --keep' keeps a verdict, and 'mend --apply' what it did.")
        return
    for case in cases:
        sign = _SIGNS[case.standing]
        page.line(
            (f"{case.id:>4} ", "bold"),
            (f"{page.sign(sign)} {case.standing:<9} ", sign.style),
            f"{case.kept_at:%Y-%m-%d %H:%M}  ",
            (f"{clean(case.target, 60)} on {clean(case.host, 40)}", "bold"),
            f"  {_cause(case)}{f', mend {case.outcome}' if case.outcome else ''}",
            hang=6,
        )
    if learned is not None:
        page.gap()
        page.line(f"{counted(learned.cases, 'case')} judged; they move what 'why' takes to be usual:")
        for cause, many in sorted(learned.confirmed.items(), key=lambda one: -one[1])[:10]:
            page.line(f"- {learned.told(cause) or f'{clean(cause, 60)}: {many}, as documented'}", indent=2, hang=2)


def _cause(case: KeptCase) -> str:
    if case.standing == "corrected":
        place = f" at {clean(case.true_place or '', 60)}" if case.true_place else ""
        return f"it was {clean(case.true_cause or '', 60)}{place}, not {clean(case.cause, 60) or 'nothing'}"
    return f"{clean(case.cause, 60)} at {clean(case.place, 60)}" if case.cause else "nothing was named"


def show_case(page: Page, case: KeptCase) -> None:
    """Write one case."""
    sign = _SIGNS[case.standing]
    page.line((f"Case {case.id}: {clean(case.target, 100)} on {clean(case.host, 80)}", "bold"))
    page.line((f"kept {case.kept_at:%Y-%m-%d %H:%M:%S} UTC", "dim"))
    page.line(clean(case.summary, 600))
    page.line((f"{page.sign(sign)} {case.standing}", sign.style), f": {_cause(case)}")
    for cause in case.verdict.get("causes", [])[:5]:
        page.line(
            f"- {clean(str(cause.get('says', '')), 400)}",
            (f" ({cause.get('confidence', 0):.0%} sure)", "dim"),
            indent=3,
            hang=2,
        )
    steps = (case.plan or {}).get("steps", [])
    if steps:
        page.heading("What was planned")
        for number, step in enumerate(steps, 1):
            page.line(f"{number}. {clean(str(step.get('does', '')), 300)}", indent=3, hang=3)
    if case.outcome:
        took = f", after {span(case.took_seconds)}" if case.took_seconds is not None else ""
        page.line((f"The mend {clean(case.mend, 60)}: {case.outcome}{took}", "bold"))
    if case.note:
        page.line(f"Note: {clean(case.note, 1000)}", hang=2)


def cases_document(cases: list[KeptCase]) -> Document:
    """``hollow-chain/cases``, version 1."""
    return {"format": "hollow-chain/cases", "version": 1, "cases": [case_document(case) for case in cases]}


def case_document(case: KeptCase, whole: bool = False) -> Document:
    """One case; the *whole* of it is ``hollow-chain/case``, version 1."""
    document: Document = {"format": "hollow-chain/case", "version": 1} if whole else {}
    document |= {
        "case": case.id,
        "kept_at": when(case.kept_at),
        "host": case.host,
        "target": case.target,
        "summary": case.summary,
        "cause": case.cause,
        "place": case.place,
        "confidence": case.confidence,
        "standing": case.standing,
        "true_cause": case.true_cause,
        "true_place": case.true_place,
        "judged_at": when(case.judged_at),
        "mend": case.mend,
        "outcome": case.outcome,
        "took_seconds": case.took_seconds,
        "note": case.note,
    }
    if whole:
        document |= {"verdict": case.verdict, "plan": case.plan}
    return document

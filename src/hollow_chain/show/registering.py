"""A registration: the definition line by line with its reasons, what has to be known, and the plan."""

from __future__ import annotations

import textwrap

from hollow_chain.boot.compare import Shift
from hollow_chain.mend.outcome import MendOutcome
from hollow_chain.mend.plan import AFTER_RESTART, Plan
from hollow_chain.registering.editing import Edited
from hollow_chain.registering.lines import Piece
from hollow_chain.registering.removing import Removal
from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document
from hollow_chain.show.mend import plan_document, show_tries
from hollow_chain.show.page import Page, age
from hollow_chain.show.signs import ASIDE, CAUTION

MOST_DELAYS, MOST_NEEDERS, MOST_LEFT = 5, 8, 12
"""Services that come up later, services that need one, and things left behind, that are named: more nobody weighs at once."""


def show_registration(
    page: Page,
    plan: Plan,
    pieces: list[Piece],
    remarks: list[str],
    delays: list[Shift],
    head: str,
    carried: bool = False,
) -> None:
    """Write what is going to be defined, and the plan that does it; *head* says what it is about."""
    page.line((head, "bold"))
    page.line((age(plan.read_at), "dim"))
    for piece in pieces:
        _show_piece(page, piece)
    for text in remarks:
        page.gap()
        page.line(("To be known: ", CAUTION), clean(text, 400), indent=1, hang=2)
    show_tries(page, plan)
    if plan.tries and plan.tries[0].proof is not None:
        page.line(_delay_words(delays), indent=4, hang=2)
    _end(page, plan, carried)


def _show_piece(page: Page, piece: Piece) -> None:
    page.gap()
    if piece.path:
        page.line((clean(piece.path, 300), ASIDE), indent=1)
    part = ""
    texts = [f"{one.name}{'=' if piece.path else ': '}{clean(one.value, 500)}" for one in piece.lines]
    wide = min(max(map(len, texts), default=0), max(24, page.width // 2 - 6))
    room = page.width - wide - 8
    for line, text in zip(piece.lines, texts, strict=True):
        if line.part != part:
            part = line.part
            page.line((f"[{part}]", "dim"), indent=3)
        why = textwrap.wrap(clean(line.why, 300), max(room, 20)) if line.why else []
        if why and (len(text) > wide or room < 24):  # no room beside it
            page.line(text, indent=3, hang=4)
            page.line((f"# {' '.join(why)}", "dim"), indent=7, hang=2)
            continue
        page.line(f"{text:<{wide}}" if why else text, (f"  # {why[0]}" if why else "", "dim"), indent=3, hang=4)
        for more in why[1:]:
            page.line((f"# {more}", "dim"), indent=wide + 5)


def _delay_words(delays: list[Shift]) -> str:
    if not delays:
        return "It delays nothing else at boot."
    ordered = sorted(delays, key=lambda shift: -(shift.seconds.mean if shift.seconds else 0.0))
    named = [
        f"{clean(s.service, 80)} by {s.seconds.mean:.2f} s" for s in ordered[:MOST_DELAYS] if s.seconds is not None
    ]
    more = f" and {len(ordered) - MOST_DELAYS} more by less" if len(ordered) > MOST_DELAYS else ""
    return f"It delays at boot: {', '.join(named)}{more}."


def registration_document(
    plan: Plan, pieces: list[Piece], remarks: list[str], delays: list[Shift], outcome: MendOutcome | None
) -> Document:
    """``hollow-chain/plan``, version 1, with what it defines."""
    return plan_document(plan, outcome) | {
        "does": plan.does,
        "definition": [
            {
                "path": piece.path,
                "name": piece.unit,
                "text": piece.text,
                "lines": [
                    {"part": one.part, "name": one.name, "value": one.value, "why": one.why} for one in piece.lines
                ],
            }
            for piece in pieces
        ],
        "remarks": remarks,
        "delays": [
            {"service": shift.service, "seconds": round(shift.seconds.mean, 3)}
            for shift in delays
            if shift.seconds is not None
        ],
    }


def show_removal(page: Page, removal: Removal, carried: bool = False) -> None:
    """Write who needs a service that comes off, what is left behind, and the plan."""
    target = removal.plan.target
    page.line((f"{clean(target.name, 120)} comes off {clean(target.host, 80)}", "bold"))
    page.line((age(removal.plan.read_at), "dim"))
    page.gap()
    if removal.needed_by:
        names = ", ".join(clean(name, 80) for name in removal.needed_by[:MOST_NEEDERS])
        more = f" and {len(removal.needed_by) - MOST_NEEDERS} more" if len(removal.needed_by) > MOST_NEEDERS else ""
        page.line(("Needed by ", CAUTION), f"{names}{more}: without it they cannot start.", indent=1, hang=2)
    else:
        page.line("Nothing needs it.", indent=1)
    if removal.left:
        page.line(
            ("Left behind, untouched: ", "dim"), clean(", ".join(removal.left[:MOST_LEFT]), 600), indent=1, hang=2
        )
    show_tries(page, removal.plan)
    _end(page, removal.plan, carried)


def _end(page: Page, plan: Plan, carried: bool) -> None:
    if not carried or not plan.offered:
        page.gap()
        asked = (
            " Agree to what it costs, as said above;"
            if any(step.choice for one in plan.tries for step in one.steps)
            else ""
        )
        page.line(("Nothing has been changed.", "bold"), f"{asked} --apply carries it out, --undo undoes it.")


def show_edit(page: Page, found: Edited, carried: bool, restart: bool) -> None:
    """Write what changes in a definition, and the plan."""
    target = found.plan.target
    page.line((f"The definition of {clean(target.name, 120)} on {clean(target.host, 80)} changes", "bold"))
    page.line((age(found.plan.read_at), "dim"))
    page.gap()
    for row in found.difference:
        style = {"+": "green", "-": "red", "@": ASIDE}.get(row[:1], "")
        page.line((clean(row, 500), style), indent=3, hang=4)
    show_tries(page, found.plan)
    waits = any(step.effect == AFTER_RESTART for one in found.plan.tries for step in one.steps)
    if waits and not restart:
        page.gap()
        page.line("It runs on as it is until it is restarted: --restart-now does that too.", indent=1)
    _end(page, found.plan, carried)


def removal_document(removal: Removal, outcome: MendOutcome | None) -> Document:
    """``hollow-chain/plan``, version 1, with who needs what comes off and what is left behind."""
    more = {"does": removal.plan.does, "needed_by": removal.needed_by, "left": removal.left}
    return plan_document(removal.plan, outcome) | more


def edit_document(found: Edited, outcome: MendOutcome | None) -> Document:
    """``hollow-chain/plan``, version 1, with the difference that it makes."""
    definition = [{"path": piece.path, "name": piece.unit, "text": piece.text} for piece in found.pieces]
    return plan_document(found.plan, outcome) | {
        "does": "edit",
        "difference": found.difference,
        "definition": definition,
    }

"""A verdict for a person, in a form that can be pasted into a ticket."""

from __future__ import annotations

from hollow_chain.causes import Evidence, Facts, Finding, Mend, Standing
from hollow_chain.causes.finding import AT_ONCE
from hollow_chain.causes.words import clock
from hollow_chain.chain import Node
from hollow_chain.lately.telling import told
from hollow_chain.show.clean import clean
from hollow_chain.show.own_words import startup_words, state_words
from hollow_chain.show.page import Page, age, before
from hollow_chain.show.signs import ASIDE, CAUTION, DOWN_TO, HOLLOW, HOLLOW_WORDS, sign_of, state_word
from hollow_chain.verdict import Cause, Verdict
from hollow_chain.verdict.grouped import by_cause
from hollow_chain.wording.counts import counted

MOST_CAUSES = 8
"""Causes that are written out; whoever needs more of them reads the document."""
_OF_HOST = "reboot-due"
"""A note about the host as a whole, where nothing but the host speaks for it."""
_HEAD, _TAIL = 8, 8
"""Links of a chain that are drawn at its two ends; what lies between is folded, for a screen takes no more side by side."""


def show_verdict(page: Page, facts: Facts, verdict: Verdict) -> None:
    """Write the whole verdict: sentence, chain, causes with evidence and mends, notes, what was not read."""
    page.line((clean(verdict.summary, 600), "bold"))
    page.line((age(verdict.read_at), "dim"))
    _hint_at_rights(page, verdict.unread)
    if verdict.contradicted:
        page.line((clean(verdict.contradicted, 600), CAUTION))
    _show_chain(page, facts, verdict)
    for number, cause in enumerate(verdict.causes[:MOST_CAUSES], 1):
        _show_cause(page, number, cause, verdict)
    if len(verdict.causes) > MOST_CAUSES:
        page.line(f"... and {len(verdict.causes) - MOST_CAUSES} more causes; --json lists them all.")
    _show_notes(page, _worth_telling(verdict), bool(verdict.causes))
    if not verdict.causes and verdict.changed:
        page.heading("Changed shortly before")
        for _, change in verdict.changed:
            page.line(f"- {clean(told(change), 400)} ", (f"[{clock(change.at)}]", "dim"), indent=3, hang=2)
    if verdict.next_look:
        page.heading("Look next")
        page.line(clean(verdict.next_look.does, 500), indent=3)
        page.line((clean(verdict.next_look.why, 500), "dim"), indent=3)
        for outcome in verdict.next_look.outcomes:
            page.line(f"- {clean(outcome, 400)}", indent=3, hang=2)
    if verdict.unread:
        page.heading("Not read, so not judged")
        for text in verdict.unread[:10]:
            page.line(f"- {clean(text)}", indent=3, hang=2)
        if len(verdict.unread) > 10:
            page.line(f"... and {len(verdict.unread) - 10} more", indent=3)
    page.legend()


_NOT_PERMITTED = "not permitted"


def _hint_at_rights(page: Page, unread: list[str]) -> None:
    """Say at the top, and once, that somebody with more rights would see more."""
    if any(_NOT_PERMITTED in text for text in unread):
        page.line(("Not everything could be read as this user: root sees more.", CAUTION))


def _worth_telling(verdict: Verdict) -> list[Finding]:
    """The notes without those about the host as a whole, which have nothing to do with a service that is explained, or well."""
    if not verdict.causes and verdict.state not in ("running", "done"):
        return verdict.notes
    return [note for note in verdict.notes if note.cause != _OF_HOST or len(note.evidence) > 1]


def _show_chain(page: Page, facts: Facts, verdict: Verdict) -> None:
    if not verdict.causes:
        page.gap()
        _show_link(page, facts, verdict.target, 0, "")
        return
    page.heading("The chain down to the hollow link, the root cause")
    shown: set[tuple[str, str]] = set()
    hollow = {cause.place.key: cause for cause in reversed(verdict.causes)}
    for cause in verdict.causes[:4]:
        chain = cause.chain
        if chain[-1].key in shown:
            continue
        above, depth, folded = verdict.target, 0, 0
        for at, node in enumerate(chain):
            found = hollow.get(node.key)
            if found is None and _HEAD <= at < len(chain) - _TAIL:
                folded += 1
                above = node
                continue
            if folded:
                page.line((f"... {folded:,} more links, each needing the next", "dim"), indent=max(0, 3 * depth - 3))
                depth, folded = depth + 1, 0
            if node.key not in shown:
                _show_link(page, facts, node, depth, found.finding.cause if found else "", above)
                shown.add(node.key)
            above, depth = node, depth + 1
        _show_ends(page, cause, depth)


def _show_ends(page: Page, cause: Cause, depth: int) -> None:
    """The loop or the holder behind a hollow link: they belong into the picture of the chain."""
    finding = cause.finding
    indent = 3 * depth
    if finding.loop:
        names = [clean(name, 60) for name in (*finding.loop, finding.loop[0])]
        page.line((f"loop: {' -> '.join(names)}", CAUTION), indent=indent, hang=6)
    elif finding.holder:
        lead = "beneath it, and is the cause" if finding.cause.startswith("license-") else "blocked by"
        page.line((f"{lead}: {clean(finding.holder, 80)}", CAUTION), indent=indent)


def _show_link(page: Page, facts: Facts, node: Node, depth: int, cause: str, above: Node | None = None) -> None:
    service = node.service
    standing = facts.standing(node)
    sign = HOLLOW if cause else sign_of(standing)
    state = state_word(service.kind, service.state) if service else "not registered"
    host = facts.graph.hosts.get(node.host)
    words = startup_words(service, host) if service else ""
    startup = f", {words}" if words else ""
    where = f" on {clean(node.host, 80)}" if above is not None and above.host != node.host else ""
    lead = f"{page.sign(DOWN_TO)}needs " if depth else ""
    held = (f"  {HOLLOW_WORDS}: {cause}", HOLLOW.style) if cause else ""
    note = "  (flapping)" if standing is Standing.UNSTABLE else ""
    page.line(
        (lead, "dim"),
        (f"{page.sign(sign)} ", sign.style),
        (clean(node.name, 120) + where, "bold" if cause else ""),
        f"  {state_words(service, host, state)}{startup}{note}",
        held,
        indent=max(0, 3 * depth - 3),
        hang=4,
    )


def _show_cause(page: Page, number: int, cause: Cause, verdict: Verdict) -> None:
    finding = cause.finding
    page.gap()
    page.line(
        (f"{number}. {finding.cause}", "bold red"),
        f": {clean(finding.service, 120)} on {clean(finding.host, 80)}",
        (f"  ({cause.confidence:.0%} sure)", "dim"),
    )
    if verdict.headline_of(cause) not in verdict.summary:  # else it stands above all
        page.line(clean(finding.says, 700), indent=3)
    page.line(("Evidence", "underline"), indent=3)
    for piece in finding.evidence[:12]:
        _show_evidence(page, piece, verdict)
    if finding.mends:
        page.line(("What to do", "underline"), indent=3)
        for mend in finding.mends:
            _show_mend(page, mend)


def _show_evidence(page: Page, piece: Evidence, verdict: Verdict) -> None:
    parts = (clean(piece.source, 120), "told" if piece.told else "", before(piece.at, verdict.read_at))
    source = ", ".join(part for part in parts if part)
    page.line(f"- {clean(piece.fact, 400)} ", (f"[{source}]", "dim"), indent=3, hang=2)


def _show_mend(page: Page, mend: Mend) -> None:
    page.line(
        f"- {clean(mend.does, 400)} ",
        (f"Takes effect {mend.effect}." if mend.effect != AT_ONCE else "", ASIDE),
        indent=3,
        hang=2,
    )


def _show_notes(page: Page, notes: list[Finding], after_causes: bool) -> None:
    if not notes:
        return
    page.heading("Also noted, not the cause" if after_causes else "Noted")
    for note in notes[:10]:
        page.line((f"{note.cause}: ", ASIDE), clean(note.says, 500), indent=3, hang=2)
        for piece in note.evidence[:2]:
            page.line((f"- {clean(piece.fact, 300)} [{clean(piece.source, 80)}]", "dim"), indent=5, hang=2)
        for mend in note.mends[:2]:
            page.line(f"- {clean(mend.does, 300)}", indent=5, hang=2)


def show_all(page: Page, facts: Facts, verdicts: list[Verdict]) -> None:
    """Write each cause once, with every service that stands on it."""
    _hint_at_rights(page, [item.why for host in facts.graph.hosts.values() for item in host.unread])
    for host in facts.graph.hosts.values():
        page.line((clean(host.name, 80), "bold"), (f"  {age(host.read_at)}", "dim"))
        if host.reboot_due:
            page.line((f"A reboot is due: {clean(host.reboot_due, 300)}.", CAUTION), indent=2, hang=2)
    ranked = by_cause(verdicts)
    for group in ranked[:200]:
        cause, others = group.cause, group.takes_along
        page.gap()
        page.line(
            (f"{page.sign(HOLLOW)} {cause.finding.cause}", HOLLOW.style),
            f": {clean(cause.finding.service, 120)} on {clean(cause.finding.host, 80)}",
            (f"  ({cause.confidence:.0%} sure)", "dim"),
        )
        page.line(clean(cause.finding.says, 500), indent=2)
        for mend in cause.finding.mends[:1]:
            page.line(("what to do: ", "underline"), clean(mend.does, 300), indent=2, hang=2)
        if others:
            more = f" and {len(others) - 8} more" if len(others) > 8 else ""
            page.line(("blocks: ", "dim"), clean(", ".join(others[:8]), 900) + more, indent=2, hang=2)
    page.gap()
    if len(ranked) > 200:
        page.line(f"... and {len(ranked) - 200} more causes; --json lists them all.")
    words = (
        "Nothing wrong was found."
        if not verdicts
        else f"{counted(len(verdicts), 'service')} not well, {counted(len(ranked), 'cause')}."
    )
    page.line((words, "bold"))

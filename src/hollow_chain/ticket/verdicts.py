"""Verdicts as pages."""

from __future__ import annotations

from collections.abc import Iterable

from hollow_chain.causes import Facts
from hollow_chain.causes.finding import AT_ONCE
from hollow_chain.causes.words import clock
from hollow_chain.chain import Node
from hollow_chain.lately.telling import told
from hollow_chain.show.own_words import startup_words, state_words
from hollow_chain.show.sheet import Sheet, SheetLine
from hollow_chain.show.signs import TONES, sign_of, state_word
from hollow_chain.verdict import Cause, Verdict
from hollow_chain.verdict.grouped import by_cause
from hollow_chain.wording.counts import counted

_MOST_CAUSES, _MOST_ALL = 8, 100
"""Causes that are written out."""


def verdict_sheet(facts: Facts, verdict: Verdict, symptom: str = "") -> Sheet:
    """The page about one verdict."""
    target = verdict.target
    sheet = Sheet(
        title=f"{target.name} on {target.host}: {'the root cause' if verdict.causes else 'what was found'}",
        lead=verdict.summary,
        host=target.host,
        read_at=verdict.read_at,
        symptom=symptom,
    )
    if verdict.contradicted:
        sheet.about.append(SheetLine(verdict.contradicted, "to be cleared up"))
    sheet.add("The chain down to the hollow link", chain_lines(facts, verdict), "chain")
    for number, cause in enumerate(verdict.causes[:_MOST_CAUSES], 1):
        _add_cause(sheet, number, cause)
    if not verdict.causes:
        sheet.add("Changed shortly before", [SheetLine(told(one), clock(one.at)) for _, one in verdict.changed])
    notes = [SheetLine(note.says, note.cause) for note in verdict.notes]
    sheet.add("Also noted, not the cause" if verdict.causes else "Noted", notes, most=10)
    if verdict.next_look:
        look = verdict.next_look
        sheet.add("Look next", [SheetLine(look.does), SheetLine(look.why), *(SheetLine(one) for one in look.outcomes)])
    sheet.add("Not read, so not judged", [SheetLine(text) for text in verdict.unread], folded=True, most=30)
    return sheet


def _add_cause(sheet: Sheet, number: int, cause: Cause) -> None:
    finding = cause.finding
    sure = f"{cause.confidence:.0%} sure"
    place = f"{finding.service} on {finding.host}"
    sheet.add(f"{number}. {finding.cause}", [SheetLine(finding.says, aside=f"{place}, {sure}", tone="cause")], "text")
    pieces = [
        SheetLine(
            one.fact,
            clock(one.at) if one.at else "",
            ", ".join(x for x in (one.source, "told" if one.told else "") if x),
        )
        for one in finding.evidence
    ]
    sheet.add("Evidence", pieces, folded=True, most=30)
    mends = [
        SheetLine(one.does, aside="" if one.effect == AT_ONCE else f"Takes effect {one.effect}.")
        for one in finding.mends
    ]
    sheet.add("What to do", mends, "steps")


def chain_lines(facts: Facts, verdict: Verdict) -> list[SheetLine]:
    """The links from the target down to its first cause, or the target alone."""
    if not verdict.causes:
        return [_link(facts, verdict.target, "")]
    first = verdict.causes[0]
    chain = list(first.chain)
    return [_link(facts, node, first.finding.cause if node.key == first.place.key else "") for node in chain]


def _link(facts: Facts, node: Node, cause: str) -> SheetLine:
    service, host = node.service, facts.graph.hosts.get(node.host)
    standing = facts.standing(node)
    state = state_words(service, host, state_word(service.kind, service.state)) if service else "not registered"
    startup = startup_words(service, host) if service else ""
    words = ", ".join(one for one in (state, startup, f"on {node.host}") if one)
    found = f"hollow link: {cause}; {state} on {node.host}" if cause else words
    return SheetLine(node.name, aside=found, tone="cause" if cause else TONES[sign_of(standing)])


def all_sheet(facts: Facts, verdicts: list[Verdict], hosts: Iterable[str]) -> Sheet:
    """The page about all that is not well: each cause once, with what it takes along."""
    names = list(hosts)
    ranked = by_cause(verdicts)
    where = names[0] if len(names) == 1 else counted(len(names), "host")
    lead = (
        f"{counted(len(verdicts), 'service')} not well, {counted(len(ranked), 'cause')}."
        if verdicts
        else "Nothing wrong was found."
    )
    read = [host.read_at for name in names if (host := facts.graph.hosts[name]).read_at is not None]
    sheet = Sheet(
        f"What is not well on {where}", lead, ", ".join(names[:12]), min((one for one in read if one), default=None)
    )
    for group in ranked[:_MOST_ALL]:
        cause, others = group.cause, group.takes_along
        finding = cause.finding
        lines = [SheetLine(finding.says, aside=f"{cause.confidence:.0%} sure", tone="cause")]
        lines += [SheetLine(mend.does, "What to do:") for mend in finding.mends[:1]]
        if others:
            more = f" and {len(others) - 12} more" if len(others) > 12 else ""
            lines.append(SheetLine(", ".join(others[:12]) + more, "Blocks:"))
        sheet.add(f"{finding.cause}: {finding.service} on {finding.host}", lines, "text")
    return sheet

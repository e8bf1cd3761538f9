"""The roster for a person: one service a line, what is not well first to be seen."""

from __future__ import annotations

from collections import Counter

from hollow_chain.causes import Facts, Standing
from hollow_chain.chain import Match
from hollow_chain.chain.find import NEAR
from hollow_chain.show.clean import clean
from hollow_chain.show.page import Page, age
from hollow_chain.show.signs import HOLLOW, missed_word, sign_of, state_word, word_of

Key = tuple[str, str]


def show_roster(page: Page, facts: Facts, matches: list[Match], words: str, missed: frozenset[Key]) -> None:
    """Write the matches, host by host, and what they amount to; *missed* are those that others need, and that are not up."""
    if not matches:
        page.line(f"No service fits {clean(words)!r}." if words else "No services.")
        return
    if words and matches[0].rank == NEAR:
        page.line(f"No service fits {clean(words)!r}. The nearest names:")
    for host in dict.fromkeys(m.node.host for m in matches):
        page.line((clean(host, 80), "bold"), (f"  {age(facts.graph.hosts[host].read_at)}", "dim"))
        mine = [m for m in matches if m.node.host == host]
        width = min(44, max(len(clean(m.node.name, 60)) for m in mine))
        for match in mine:
            _show_match(page, facts, match, width, bool(words), match.node.key in missed)
    counts = Counter(Standing.DOWN if m.node.key in missed else facts.standing(m.node) for m in matches)
    unwell = counts[Standing.DOWN] + counts[Standing.UNSTABLE]
    pending = counts[Standing.NOT_YET]
    page.gap()
    page.line(
        f"{len(matches)} listed: {counts[Standing.UP]} well, ",
        (f"{unwell} not well", "bold red" if unwell else ""),
        f", {pending} not yet up, {counts[Standing.IDLE]} idle",
    )


def _show_match(page: Page, facts: Facts, match: Match, width: int, searched: bool, missed: bool) -> None:
    service = match.node.service
    if service is None:
        return
    standing = facts.standing(match.node)
    sign = HOLLOW if missed else sign_of(standing)
    word = missed_word(standing) if missed and standing.well else word_of(standing)
    state = "template" if service.template else state_word(service.kind, service.state)
    startup = "" if service.startup == "unknown" else service.startup
    title = clean(service.display_name or service.description, 120)
    found = f"  [{match.reason}]" if searched else ""
    room = page.width - width - 43 - len(found)
    if len(title) > room:
        title = title[: room - 1] + "\u2026" if room > 12 else ""
    page.line(
        (f"{page.sign(sign)} ", sign.style),
        f"{clean(match.node.name, 60):<{width}} ",
        f"{state:<11} {startup:<10} ",
        (f"{word:<14} ", "bold red" if missed or not standing.well else "dim"),
        title,
        (found, "dim"),
        indent=2,
        hang=4,
    )

"""What was changed shortly before a failure, as evidence: above the rest, worth a hint at the most, and never a cause by itself."""

from __future__ import annotations

from msgspec.structs import replace

from hollow_chain.causes import HINT, Evidence, Facts, Finding
from hollow_chain.causes.finding import TELLS
from hollow_chain.chain import Node
from hollow_chain.facts.change import Change
from hollow_chain.lately.clue import Clues
from hollow_chain.lately.telling import told_before
from hollow_chain.verdict.weigh import weights


def clues_of(facts: Facts, host: str) -> Clues | None:
    """What was changed on a host; None where nothing is known of it."""
    if host not in facts.graph.hosts:
        return None
    key = ("clues", host)
    if key not in facts.memory:
        facts.memory[key] = Clues(facts.graph.hosts[host])
    found = facts.memory[key]
    assert isinstance(found, Clues)
    return found


def preceding(facts: Facts, place: Node) -> list[Change]:
    """The changes that precede the failure of what is at *place* by little; none where it is well."""
    if place.service is None or facts.standing(place).well:
        return []
    clues = clues_of(facts, place.host)
    return clues.preceding(place.service) if clues is not None else []


def with_clues(
    facts: Facts, place: Node, changes: list[Change], finding: Finding, sure: float
) -> tuple[Finding, float]:
    """*finding* with *changes*, which were made shortly before, on top of its evidence, and how sure it is with that.

    A change makes a cause likelier that names the very thing that was changed.
    """
    clues = clues_of(facts, place.host)
    if clues is None or place.service is None:
        return finding, sure
    since = clues.failing_since(place.service)
    fits = [one.trusted and _names(finding, one) for one in changes]
    pieces = tuple(
        Evidence(told_before(one, since), one.source, one.at, HINT if fit else TELLS)
        for one, fit in zip(changes, fits, strict=True)
    )
    return replace(finding, evidence=(*pieces, *finding.evidence)), _surer(sure) if any(fits) else sure


def _names(finding: Finding, change: Change) -> bool:
    """Whether a finding is about what was changed, by a look and not by words of a program."""
    if change.kind not in ("definition", "settings", "program", "data"):
        return False
    looked = " ".join((finding.says, *(f"{e.fact} {e.source}" for e in finding.evidence if not e.words)))
    return change.what in looked


def _surer(sure: float) -> float:
    numbers = weights()
    odds = sure / (1 - sure) * numbers.bearings[HINT].ratio
    # One hint more does not lift what only hints speak for above what hints alone are worth.
    most = numbers.ceiling if sure > numbers.hints_alone else numbers.hints_alone
    return round(max(sure, min(odds / (1 + odds), most)), 3)

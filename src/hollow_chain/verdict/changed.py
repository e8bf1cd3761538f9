"""What was changed shortly before a failure, as evidence: above the rest, worth a hint at the most, and never a cause by itself."""

from __future__ import annotations

from msgspec.structs import replace

from hollow_chain.causes import HINT, Evidence, Facts, Finding
from hollow_chain.causes.finding import TELLS
from hollow_chain.causes.standing import failed_last
from hollow_chain.chain import Node
from hollow_chain.facts.change import Change
from hollow_chain.facts.service import Service
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


def preceding(facts: Facts, place: Node, is_blamed: bool) -> list[Change]:
    """The changes that precede the failure of what is at *place* by little; none where it is well. What is stopped by its startup type is
    well by itself, unless something is blamed on it; what is paused has not failed."""
    service = place.service
    if (
        service is None
        or service.state == "paused"
        or (facts.standing(place).well and not (is_blamed and service.state == "stopped"))
    ):
        return []
    clues = clues_of(facts, place.host)
    return clues.preceding(service) if clues is not None else []


def with_hints(
    facts: Facts, place: Node, changes: list[Change], finding: Finding, sure: float
) -> tuple[Finding, float]:
    """*finding* with those of *changes* on top of its evidence that were made to the very thing that it is about, and how sure it is
    with that."""
    fits = [one for one in changes if one.trusted and _names(finding, one)]
    if not fits:
        return finding, sure
    return replace(finding, evidence=(*_pieces(facts, place, fits, HINT), *finding.evidence)), _surer(sure)


def with_told(facts: Facts, place: Node, changes: list[Change], finding: Finding) -> Finding:
    """*finding* with all *changes* on top of its evidence: what does not fit it weighs nothing."""
    known = {piece.fact for piece in finding.evidence}
    pieces = [piece for piece in _pieces(facts, place, changes, TELLS) if piece.fact not in known]
    return replace(finding, evidence=(*pieces, *finding.evidence)) if pieces else finding


def _pieces(facts: Facts, place: Node, changes: list[Change], bears: str) -> list[Evidence]:
    clues = clues_of(facts, place.host)
    since = clues.failing_since(place.service) if clues is not None and place.service is not None else None
    did = _ended(place.service) if place.service is not None else "failed"
    return [Evidence(told_before(one, since, did), one.source, one.at, bears) for one in changes]


def _ended(service: Service) -> str:
    """What happened to a service at the moment before which changes are told."""
    if service.state == "starting" and not failed_last(service):
        return "was started"  # it is under way, and nothing has failed yet
    return "stopped" if service.state == "stopped" else "failed"


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

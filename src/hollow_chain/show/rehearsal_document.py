"""A rehearsal as a JSON document, with the keys that ``docs/json.md`` fixes."""

from __future__ import annotations

from hollow_chain.boot.rehearsal import Odds, Rehearsal
from hollow_chain.show.documents import Document


def rehearsal_document(rehearsal: Rehearsal, only: list[str] | None = None) -> Document:
    """``hollow-chain/rehearsal``, version 1."""
    low, middle, high = rehearsal.done
    return {
        "format": "hollow-chain/rehearsal",
        "version": 1,
        "host": rehearsal.host,
        "runs": rehearsal.runs,
        "asked_runs": rehearsal.asked,
        "seed": rehearsal.seed,
        "done_seconds": {"p5": _short(low), "p50": _short(middle), "p95": _short(high)},
        "services": [
            odds_document(odds)
            for odds in rehearsal.services
            if odds.kind not in ("remote", "absent") and (only is None or odds.service in only)
        ],
        "slowest_chain": [link.service for link in rehearsal.slowest_chain],
        "slowest_chain_share": _short(rehearsal.chain_share),
        "slowest_chain_links": [
            {"service": link.service, "seconds": _short(link.seconds), "saves_seconds": _short(link.saves)}
            for link in rehearsal.slowest_chain
        ],
        "races": [
            {
                "over": race.what,
                "one": race.one,
                "other": race.other,
                "one_first": _short(race.one_wins),
                "other_first": _short(race.other_wins),
            }
            for race in rehearsal.races
        ],
        "falls": [
            {"service": root, "share": _short(share), "takes": [{"service": n, "share": _short(s)} for n, s in group]}
            for root, share, group in rehearsal.falls
        ],
        "notes": rehearsal.notes,
    }


def odds_document(odds: Odds) -> Document:
    """One service."""
    moments = {"p5": _short(odds.p5), "p50": _short(odds.p50), "p95": _short(odds.p95)}
    return {
        "service": odds.service,
        "kind": odds.kind,
        "starts": odds.starts,
        "up": _short(odds.up),
        "late": _short(odds.late),
        "failed": _short(odds.failed),
        "passed_over": _short(odds.passed_over),
        "begins_seconds": _short(odds.begun),
        "up_seconds": moments if odds.p50 is not None else None,
        "why_not": {cause: _short(share) for cause, share in odds.why_not.items()},
        "blame": {name: _short(share) for name, share in odds.blame.items()},
        "rests_on": [
            {"service": one.service, "cause": one.cause, "confidence": _short(one.sure)} for one in odds.rests_on
        ],
        "now_up": odds.now_up,
        "change": odds.change or None,
    }


def _short(value: float | None) -> float | None:
    return None if value is None else round(value, 4)

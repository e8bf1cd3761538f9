"""The kept hosts of a run asked again, without a host: what a change of the rules is worth, in seconds."""

from __future__ import annotations

import json
from pathlib import Path

import msgspec

from bench.factory.trial import Outcome


def kept(folder: Path) -> list[Outcome]:
    """The outcomes of a run as they were."""
    lines = (folder / "outcomes.jsonl").read_bytes().splitlines()
    return [msgspec.json.decode(line, type=Outcome) for line in lines]


def replayed(folder: Path) -> list[Outcome]:
    """The outcomes of a run as the rules of today answer from its snapshots; those without a snapshot as they were."""
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.facts.codec import decode
    from hollow_chain.show.documents import to_json, verdict_document
    from hollow_chain.verdict import diagnose

    found = []
    for outcome in kept(folder):
        path = folder / outcome.snapshot
        if outcome.state == "broken" and outcome.snapshot and path.stat().st_size:
            facts = Facts(Graph(decode(path.read_bytes())))
            node = facts.graph.node(facts.graph.document.hosts[0].name, unit_of(outcome.target))
            outcome.causes = json.loads(to_json(verdict_document(diagnose(facts, node))))["causes"]
            outcome.again = []
        found.append(outcome)
    return found


def unit_of(target: str) -> str:
    """The unit that is meant by a name without its kind."""
    return target if "." in target else f"{target}.service"

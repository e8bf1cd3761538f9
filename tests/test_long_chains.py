"""Chains far longer than a screen: drawn with their middle folded, named once in a document of many verdicts."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from hollow_chain.show.documents import MOST_LINKS
from tests.conftest import Run

LENGTH = 90


@pytest.fixture()
def chain(tmp_path: Path) -> Path:
    """A host on which each service needs the next, and the last one fails."""
    services = []
    for number in range(LENGTH):
        links = [{"to": f"link-{number + 1:02}.service", "kind": "hard", "word": "Requires", "pulls": True}]
        services.append({
            "name": f"link-{number:02}.service", "kind": "service", "state": "failed", "startup": "automatic",
            "last": {"result": "exit-code", "exit_status": 1, "started_at": "2026-03-04T05:00:00Z", "ended_at": "2026-03-04T05:00:01Z"},
            "links": links if number < LENGTH - 1 else [],
        })  # fmt: skip
    host = {"name": "quay", "manager": "systemd", "read_at": "2026-03-04T06:00:00Z", "services": services}
    path = tmp_path / "chain.json"
    path.write_text(json.dumps({"format": "hollow-chain/snapshot", "version": 1, "hosts": [host]}))
    return path


def whole(document: dict[str, Any], verdict: dict[str, Any]) -> list[str]:
    """The chain of the first cause of a verdict, followed through the document."""
    by_name = {(one["target"]["host"], one["target"]["service"]): one for one in document["verdicts"]}
    cause = verdict["causes"][0]
    names: list[str] = cause["chain"]
    while "chain_goes_on" in cause:
        on = cause["chain_goes_on"]
        below = by_name[on["host"], on["service"]]["causes"]
        cause = next(one for one in below if (one["cause"], one["service"]) == (cause["cause"], cause["service"]))
        assert cause["chain"][0] == names[-1]
        names = [*names[:-1], *cause["chain"]]
    return names


def test_a_document_of_all_names_no_chain_twice_and_none_is_lost(run: Run, chain: Path) -> None:
    document = run("why", "--all", "--json", "--from", chain).json
    assert len(document["verdicts"]) == LENGTH
    for number, verdict in enumerate(document["verdicts"]):
        for cause in verdict["causes"]:
            assert len(cause["chain"]) == len(cause["chain_hosts"]) <= MOST_LINKS
        assert whole(document, verdict) == [f"link-{at:02}.service" for at in range(number, LENGTH)]
    alone = run("why", "link-00", "--json", "--from", chain).json["causes"][0]
    assert len(alone["chain"]) == LENGTH and "chain_goes_on" not in alone


def test_where_only_one_host_is_shown_no_verdict_of_another_is_spoken_of(run: Run, chain: Path) -> None:
    document = json.loads(chain.read_text())
    host = document["hosts"][0]
    far = host | {"name": "mole", "services": [s for s in host["services"] if s["name"] >= "link-10"]}
    host["services"] = [s for s in host["services"] if s["name"] < "link-10"]
    host["services"][-1]["links"] = [
        {"to": "link-10.service", "host": "mole", "kind": "hard", "word": "Requires", "pulls": True}
    ]
    document["hosts"].append(far)
    chain.write_text(json.dumps(document))
    shown = run("why", "--all", "--host", "quay", "--json", "--from", chain).json
    assert shown["verdicts"]
    for verdict in shown["verdicts"]:
        for cause in verdict["causes"]:
            assert "chain_goes_on" not in cause and cause["chain"][-1] == cause["service"]


def test_the_middle_of_a_long_chain_is_folded(run: Run, chain: Path) -> None:
    text = run("why", "link-00", "--from", chain).out
    assert "... 74 more links, each needing the next" in text
    assert "link-07.service" in text and "link-08.service" not in text and "link-82.service" in text
    assert max(map(len, text.splitlines())) < 120
    short = run("why", "link-74", "--from", chain).out
    assert "more links" not in short and all(f"link-{at}.service" in short for at in range(74, 90))

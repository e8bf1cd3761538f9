"""The catalogue on facts written down as data, through the real program."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
import yaml

from hollow_chain.causes import Facts, catalogue
from hollow_chain.chain import Graph
from hollow_chain.facts import FORMAT, VERSION
from hollow_chain.facts.codec import decode
from hollow_chain.verdict import diagnose
from tests.conftest import Run

FILES = sorted((Path(__file__).parent / "cases").glob("*.yaml"))
CASES = [(f"{path.stem}: {case['name']}", case) for path in FILES for case in yaml.safe_load(path.read_text())]
HOST = {"name": "quay", "read_at": "2026-03-04T06:12:09Z", "boot_at": "2026-03-03T20:00:00Z", "architecture": "x86_64"}
EXPECTED = (
    "name",
    "ask",
    "causes",
    "notes",
    "near",
    "says",
    "holder",
    "next_look",
    "more_hosts",
    "says_option",
    "at_most",
    "at_least",
)


def document(case: dict[str, Any]) -> bytes:
    """The case's facts as a snapshot."""
    host = {**HOST, **{key: value for key, value in case.items() if key not in EXPECTED}}
    more = [{"read_at": HOST["read_at"], "boot_at": HOST["boot_at"], **other} for other in case.get("more_hosts", [])]
    text = {"format": FORMAT, "version": VERSION, "hosts": [host, *more]}
    return json.dumps(text, default=lambda moment: moment.isoformat()).encode()


@pytest.mark.parametrize("case", [case for _, case in CASES], ids=[name for name, _ in CASES])
def test_the_right_cause_in_the_right_place(run: Run, tmp_path: Path, case: dict[str, Any]) -> None:
    (tmp_path / "facts.json").write_bytes(document(case))
    done = run("why", case["ask"], "--host", "quay", "--from", "facts.json", "--json")
    verdict = done.json
    found = [[cause["cause"], cause["service"]] for cause in verdict["causes"]]
    wanted = case["causes"]
    assert sorted(found[: len(wanted)]) == sorted(wanted), verdict["summary"]
    assert bool(found) == bool(wanted)
    assert verdict["healthy"] == (not wanted)
    assert done.status == (1 if wanted else 0)
    if "notes" in case:
        assert [note["cause"] for note in verdict["notes"]] == case["notes"]
    for key in ("near", "holder"):
        if key in case:
            assert verdict["causes"][0][key] == case[key]
    assert case.get("says", "") in (verdict["causes"][0]["says"] if wanted else verdict["summary"])
    if "at_most" in case:
        assert verdict["causes"][0]["confidence"] <= case["at_most"]
    assert wanted == [] or verdict["causes"][0]["confidence"] >= case.get("at_least", 0)
    if "next_look" in case:
        assert case["next_look"] in verdict["next_look"]["look"]
    if "mends" in case:
        told = " / ".join(verdict["causes"][0]["mends"])
        assert case["mends"] in told, told
    if "never_says" in case:
        assert case["never_says"] not in done.out
    for cause in verdict["causes"]:
        assert cause["evidence"]
        assert all(piece["fact"] and piece["source"] for piece in cause["evidence"])


def test_every_rule_is_documented_and_tried_by_a_case() -> None:
    tried = {cause for _, case in CASES for cause, _ in case["causes"]} | {
        n for _, c in CASES for n in c.get("notes", [])
    }
    for rule in catalogue():
        for part in ("Looks at:", "Convinced by:", "Against:", "Mend:"):
            assert part in rule.documentation, rule.cause
        assert rule.cause in tried | {"mount-failed"}, rule.cause


def test_the_pages_of_the_families_are_up_to_date() -> None:
    import importlib.util

    made = Path(__file__).parent.parent / "docs" / "make.py"
    spec = importlib.util.spec_from_file_location("docs_make", made)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    for path, text in module.documents().items():
        assert path.read_text() == text, f"{path.name}: run 'make docs'"


def test_a_verdict_does_not_depend_on_the_order_of_the_facts() -> None:
    for _, case in CASES:
        there = decode(document(case))
        back = decode(document(case))
        for host in back.hosts:
            host.services.reverse()
        answers = []
        for snapshot in (there, back):
            facts = Facts(Graph(snapshot))
            name = next(
                s.name
                for s in snapshot.hosts[0].services
                if s.name.split(".service")[0] == case["ask"].split(".service")[0]
            )
            verdict = diagnose(facts, facts.graph.node("quay", name))
            answers.append(sorted((c.finding.cause, c.finding.service) for c in verdict.causes))
        assert answers[0] == answers[1], case["name"]

"""Will it be up after the next boot? `rehearse`, `suppose`, `mend` and the notes of `why` are asked, and give one answer."""

from __future__ import annotations

import json
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Run

DEMO = ("chartroom", "gate-03", "mole-msg", "office-01", "pierhead", "voyage-ws")
RUNS = ("--runs", "120", "--seed", "7")


@cache
def rehearsed(run: Run, facts: Path, host: str) -> dict[str, Any]:
    done = run("rehearse", "--from", facts, "--host", host, *RUNS, "--json")
    return {one["service"]: one for one in done.json["services"]}


@pytest.fixture(params=DEMO)
def host(request: pytest.FixtureRequest) -> str:
    """Each host of the demo."""
    return str(request.param)


@pytest.fixture()
def boots(run: Run, demo_facts: Path, host: str) -> dict[str, Any]:
    """What `rehearse` says of its services."""
    return rehearsed(run, demo_facts, host)


def test_there_are_no_other_hosts(run: Run, demo_facts: Path) -> None:
    listed = run("roster", "--from", demo_facts, "--json").json
    assert {one["host"] for one in listed["services"]} == set(DEMO)


def test_suppose_begins_where_rehearse_ends(run: Run, demo_facts: Path, host: str, boots: dict[str, Any]) -> None:
    service = next(iter(boots))
    for change in (f"takes {service} 3s", f"fails {service}"):
        shifts = run("suppose", change, "--from", demo_facts, "--host", host, *RUNS, "--json").json["services"]
        before = {one["service"]: one["up"]["before"] for one in shifts}
        assert before == pytest.approx({name: one["up"] + one["late"] for name, one in boots.items()}, abs=1e-3)


def test_mend_begins_there_too_and_ends_where_suppose_does(
    run: Run, demo_facts: Path, host: str, boots: dict[str, Any]
) -> None:
    asked = 0
    for name, one in boots.items():
        plan = run("mend", name, "--from", demo_facts, "--host", host, *RUNS, "--json").json
        proof = plan["proof"]
        if proof is None or proof["up_after_reboot_before"] is None:
            continue
        asked += 1
        assert proof["up_after_reboot_before"] == pytest.approx(one["up"] + one["late"], abs=1e-3), name
        steps = [step for step in plan["steps"] if step["on"] == host]
        startups = [step for step in steps if step["new"] in ("automatic", "delayed") and step["by"] == "machine"]
        alone = len(startups) == 1 and len(plan["steps"]) == 2 and plan["offered"] and plan["proof"]["lacks"] == []
        if alone and startups[0]["does"] == f"Set {name} to automatic":
            shifts = run(
                "suppose",
                f"startup {name} automatic",
                f"mended {name}",
                "--from",
                demo_facts,
                "--host",
                host,
                *RUNS,
                "--json",
            )
            after = next(s["up"]["after"] for s in shifts.json["services"] if s["service"] == name)
            assert after == pytest.approx(proof["up_after_reboot"], abs=1e-3), name
    assert asked or host in ("chartroom", "mole-msg", "voyage-ws"), "nothing on this host was asked about"


def test_the_notes_of_why_say_the_same(run: Run, demo_facts: Path, host: str, boots: dict[str, Any]) -> None:
    for name, one in boots.items():
        if not one["now_up"] or one["kind"] not in ("service", "socket", "timer", "path"):
            continue
        notes = run("why", name, "--from", demo_facts, "--host", host, "--json").json["notes"]
        warned = any(note["cause"] == "not-persistent" and note["service"] == name for note in notes)
        unasked = one["change"] == "lost" and list(one["why_not"]) == ["manual-not-started"] and not one["starts"]
        assert warned == unasked, (name, json.dumps(one))


IDLE = """\
- name: quay
  read_at: 2026-03-04T06:12:00Z
  services:
  - {name: a.socket, kind: socket, state: stopped, startup: on-need, links: [{to: b.service, kind: hard, word: BindsTo}]}
  - name: a.service
    state: stopped
    startup: event
    triggers: [{kind: socket, name: a.socket}]
    links: [{to: b.service, kind: hard, word: BindsTo}]
  - name: b.service
    state: stopped
    startup: manual
    conditions: [{kind: ConditionPathExists, parameter: /etc/b.conf, outcome: unmet}]
"""


def test_what_waits_for_a_socket_that_nobody_wants_is_missed_by_nobody(run: Run, facts: Callable[[str], Path]) -> None:
    place = facts(IDLE)
    assert run("why", "--all", "--from", place).status == 0
    assert run("roster", "--all", "--unwell", "--from", place).status == 0
    waited_for = facts(IDLE.replace("kind: socket, state: stopped", "kind: socket, state: running"))
    assert "condition-unmet" in run("why", "--all", "--from", waited_for).out
    assert "b.service" in run("roster", "--all", "--unwell", "--from", waited_for).out

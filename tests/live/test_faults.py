"""Faults on a real host: the top cause and its place."""

from __future__ import annotations

import json

import pytest

from tests.live.conftest import PROGRAM
from tests.live.faults import FAULTS, Fault
from tests.live.realhost import RealHost

pytestmark = pytest.mark.live


@pytest.mark.parametrize("fault", FAULTS, ids=[f.name for f in FAULTS])
def test_names_the_cause_and_its_place(fresh_host: RealHost, fault: Fault) -> None:
    fresh_host.run(fault.script, check=False)
    done = fresh_host.run(f"{PROGRAM} why '{fault.target}' --json", check=False)
    assert done.returncode == 1, done.stdout + done.stderr
    verdict = json.loads(done.stdout)
    found = [(c["cause"], c["service"]) for c in verdict["causes"]]
    right = [(fault.cause, fault.place), *fault.also]
    for cause, place in found[: len(right)]:
        assert (cause, place) in right or (cause, "*") in right, found
    assert len(found) >= len(right), found
    for cause in verdict["causes"]:
        assert cause["evidence"]
        assert cause["mends"]
        assert 0 < cause["confidence"] <= 1
    assert "Traceback" not in done.stderr

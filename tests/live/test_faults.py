"""Faults on a real host: the top cause and its place."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.live.asking import ALL_FAULTS, Answer, ask, not_installed
from tests.live.conftest import REQUIRED, needs_a_host
from tests.live.faults import Fault
from tests.live.realhost import RealHost

pytestmark = pytest.mark.live


def _asked(fault: Fault) -> Answer:
    with RealHost("pier", fault.boots) as host:
        return ask(host, fault)


@pytest.mark.parametrize("fault", ALL_FAULTS, ids=[f.name for f in ALL_FAULTS])
def test_names_the_cause_and_its_place(fault: Fault, second_try: Callable[[str], None]) -> None:
    needs_a_host()
    lacking = not_installed(fault)
    if lacking and not REQUIRED:
        pytest.skip(f"{lacking} is not installed")
    assert not lacking
    answer = _asked(fault)
    if not answer.right:  # on a loaded machine a fault may come too late to be seen: once more, on a new host
        second_try(f"{answer.found[:2]} {answer.errors[-200:]}")
        answer = _asked(fault)
    assert answer.status == (1 if answer.verdict.get("causes") else 0), (
        answer.errors
    )  # what is rightly skipped is no fault
    assert answer.right, answer.found
    for cause in answer.verdict["causes"]:
        assert cause["evidence"]
        assert cause["mends"]
        assert 0 < cause["confidence"] <= 1
    assert "Traceback" not in answer.errors

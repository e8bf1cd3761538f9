"""A guard on speed that cannot flicker: how many calls a command makes on hosts of two sizes, and how that grows."""

from __future__ import annotations

import math
import os
from collections.abc import Callable
from pathlib import Path

import pytest
from bench.made_up import made_up

from hollow_chain.facts.codec import encode
from tests.forking import Parent

SMALL, LARGE = 500, 4000
STEEPEST = 1.1
"""The exponent of growth in the number of services."""
MOST = {
    "why berth-00446": 125_000,
    "why --all": 1_480_000,
    "why --all --json": 1_560_000,
    "roster": 1_500_000,
    "rehearse --runs 20": 6_100_000,
    "mend berth-00446 --runs 20": 12_000_000,
}
"""Calls of Python functions on the large host: about a tenth above what was counted when this was written."""


@pytest.fixture(scope="module")
def hosts(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("hosts")
    for services in (SMALL, LARGE):
        (folder / f"{services}.json").write_bytes(encode(made_up(services, block=SMALL)))
    return folder


@pytest.fixture()
def counted(hosts: Path, parent: Parent, tmp_path: Path) -> Callable[[str, int], int]:
    def calls(command: str, services: int) -> int:
        words = [str(tmp_path / "calls"), *command.split(), "--from", str(hosts / f"{services}.json")]
        env = {**os.environ, "HOLLOW_CHAIN_CASES": str(tmp_path / "cases.db")}
        status, _, errors = parent.call(words, tmp_path, env, entry="tests.counting")
        assert status in (0, 1), errors
        return int((tmp_path / "calls").read_text())

    return calls


@pytest.mark.parametrize("command", MOST)
def test_work_grows_with_the_host_and_not_faster(command: str, counted: Callable[[str, int], int]) -> None:
    small, large = counted(command, SMALL), counted(command, LARGE)
    assert large <= MOST[command]
    assert math.log(large / small) / math.log(LARGE / SMALL) <= STEEPEST

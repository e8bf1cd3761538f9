"""The words that a program is called with, variables and all, and the endpoints that follow from them."""

from __future__ import annotations

import pytest

from hollow_chain.facts.service import Program
from hollow_chain.sources.called_with import called_with
from hollow_chain.sources.endpoint_settings import claims_of_arguments

PROGRAM = Program(
    path="/usr/bin/tidefeed",
    arguments=["/usr/bin/tidefeed", "--port", "${PORT}", "--at=${AT}", "$MORE", "cost: $5", "$NOTHING"],
    environment=["PORT=554", "AT=127.0.0.1"],
    environment_files=["/etc/default/tidefeed"],
    optional_files=["/etc/default/more"],
)


@pytest.mark.parametrize(
    ("files", "words"),
    [
        ({}, ["--port", "554", "--at=127.0.0.1", "cost: $5"]),
        ({"/etc/default/tidefeed": "# PORT=1\nPORT='8554'\n"}, ["--port", "8554", "--at=127.0.0.1", "cost: $5"]),
        ({"/etc/default/more": 'MORE="-v  --log /a"\n'}, ["--port", "554", "--at=127.0.0.1", "-v", "--log", "/a", "cost: $5"]),
        ({"/etc/other": "PORT=9\n"}, ["--port", "554", "--at=127.0.0.1", "cost: $5"]),
    ],
)  # fmt: skip
def test_variables_stand_for_what_sets_them_last(files: dict[str, str], words: list[str]) -> None:
    assert called_with(PROGRAM, files)[1:] == words


def test_a_line_of_many_variables_is_bounded() -> None:
    program = Program(path="/a", arguments=["/a", *["$A"] * 100], environment=["A=" + "x " * 1000])
    assert len(called_with(program, {})) == 400


def test_the_port_of_a_variable_is_claimed() -> None:
    assert [claim.port for claim in claims_of_arguments(called_with(PROGRAM, {}))] == [554]

"""The names that a service's own folders bear by habit."""

from __future__ import annotations

import pytest

from hollow_chain.facts.habits import is_interpreter, names_of, own_names_of
from hollow_chain.facts.service import Account, Program, Service


@pytest.mark.parametrize(
    ("arguments", "names"),
    [
        (["/opt/quay/bin/python3.11", "-m", "quay.desk"], ["a"]),
        (["/usr/bin/python", "/opt/quay/tides.py"], ["a", "tides"]),
        (["/usr/bin/node", "/srv/crew.js"], ["a", "crew"]),
        (["/usr/bin/java", "-jar", "/srv/crew.jar"], ["a"]),
        (["/usr/sbin/foghornd"], ["a", "foghornd"]),
        (["/bin/sh"], ["a"]),
    ],
)
def test_an_interpreter_gives_its_name_to_no_folder(arguments: list[str], names: list[str]) -> None:
    service = Service("a.service", program=Program(path=arguments[0], arguments=arguments), account=Account("mate"))
    assert own_names_of(service) == names
    assert names_of(service) == [*names, "mate"]


@pytest.mark.parametrize(
    ("name", "is_one"),
    [
        ("python3.11", True),
        ("PERL", True),
        ("php8.2", True),
        ("cmd.exe", True),
        ("pythond", False),
        ("shd", False),
        ("nodes", False),
    ],
)
def test_interpreters_are_known_with_their_versions(name: str, is_one: bool) -> None:
    assert is_interpreter(name) == is_one

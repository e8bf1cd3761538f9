"""How the house is built: what no module may do, read from the tree."""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from hollow_chain.causes import catalogue, named
from hollow_chain.causes.nature import Boot

SOURCE = Path(__file__).parents[1] / "src/hollow_chain"
MODULES = sorted(SOURCE.rglob("*.py"))
CAUSES = {rule.cause for rule in catalogue()}
ALSO_STATES = {"disabled", "stopped", "killed"}
"""Causes whose names are states or startup types too: to use those words is to name no cause."""
WORDS_FOR_PEOPLE = ("license/check/", "show/", "license/server.py")
"""The checks of a license file name what they find as the catalogue does."""


def room(path: Path) -> str:
    return path.relative_to(SOURCE).as_posix()


def strings(path: Path) -> Iterator[tuple[int, str]]:
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            yield node.lineno, node.value


def test_no_cause_is_named_outside_the_catalogue() -> None:
    found = [
        f"{room(path)}:{line}: {text}"
        for path in MODULES
        if not room(path).startswith(("causes/", *WORDS_FOR_PEOPLE))
        for line, text in strings(path)
        if text in CAUSES - ALSO_STATES
    ]
    assert found == []


def test_every_name_that_others_use_is_of_a_cause() -> None:
    names = {value for name, value in vars(named).items() if name.isupper()}
    assert names <= CAUSES and len(names) > 15


@pytest.mark.parametrize("rule", catalogue(), ids=[rule.cause for rule in catalogue()])
def test_what_a_cause_is_fits_together(rule) -> None:  # type: ignore[no-untyped-def]
    assert isinstance(rule.boot, Boot)
    if rule.lacks_only_a_start or rule.comes_along or rule.stays_if or rule.of_the_next_boot:
        assert rule.boot is Boot.OVER
    if rule.shown is not None:
        fields = dict.fromkeys(("name", "blame", "thing", "program", "account", "endpoint", "port"), "x")
        assert rule.shown.text.format(**fields)


def test_one_class_name_stands_for_one_thing() -> None:
    classes = Counter(
        node.name
        for path in MODULES
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.ClassDef) and not node.name.startswith("_")
    )
    assert {name: many for name, many in classes.items() if many > 1} == {}

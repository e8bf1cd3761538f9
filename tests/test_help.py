"""Help that can be read and typed after: every page at two widths, in the order of the work, with examples that the program takes."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import Any

import pytest

from hollow_chain.cli import EXAMPLES, command_of
from tests.conftest import Run


def pages(command: Any, words: tuple[str, ...] = ()) -> Iterator[tuple[str, ...]]:
    """The words of every command and of every group of commands."""
    yield words
    for name, below in getattr(command, "commands", {}).items():
        yield from pages(below, (*words, name))


PAGES = list(pages(command_of()))


@pytest.mark.parametrize("words", PAGES, ids=" ".join)
def test_every_help_is_readable_at_any_width(run: Run, words: tuple[str, ...]) -> None:
    for columns in (40, 120):
        done = run(*words, "--help", COLUMNS=str(columns))
        assert done.status == 0 and "Usage:" in done.out and not done.err
        assert max(map(len, done.out.splitlines())) <= columns
    if len(words) == 1:
        assert f"hollow-chain {words[0]}" in " ".join(done.out.split())


def test_commands_stand_in_the_order_of_the_work(run: Run) -> None:
    told = [
        line.split()[1]
        for line in run("--help").out.splitlines()
        if line.startswith(("│ ", "| ")) and line[2:3].isalpha()
    ]
    assert [name for name in told if name in EXAMPLES] == list(EXAMPLES)


@pytest.mark.parametrize("call", [call.strip() for calls in EXAMPLES.values() for call in calls.split("|")])
def test_an_example_is_a_call_that_is_taken(call: str) -> None:
    command, words = command_of(), shlex.split(call)
    while hasattr(command, "commands"):
        name, *words = words
        command = command.commands[name]
    with command.make_context(name, words) as context:
        assert context.command is command


def test_every_command_has_an_example() -> None:
    assert {words[0] for words in PAGES if words} == set(EXAMPLES)

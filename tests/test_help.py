"""Every ``--help``: found by asking the program itself, complete, and readable on a small terminal."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
import typer

from hollow_chain import cli
from tests.conftest import Run


def app() -> Any:
    """The whole command line, as the program puts it together."""
    made = typer.Typer(name="hollow-chain")
    for name in (
        "capture",
        "case",
        "decode",
        "demo",
        "lab",
        "license",
        "links",
        "mend",
        "ports",
        "rehearse",
        "roster",
        "suppose",
        "why",
    ):
        __import__(f"{cli.__name__}.{name}", fromlist=["register"]).register(made)
    return typer.main.get_command(made)


def below(command: Any, path: tuple[str, ...] = ()) -> Iterator[tuple[tuple[str, ...], Any]]:
    """Every command with the words that lead to it."""
    yield path, command
    for name, child in getattr(command, "commands", {}).items():
        yield from below(child, (*path, name))


COMMANDS = {" ".join(path): command for path, command in below(app()) if path}
# 'decode' takes any words, those that look like options too.
TAKES_ANYTHING = {"decode"}
LEAVES = [name for name, command in COMMANDS.items() if not hasattr(command, "commands")]


def test_all_are_known_here() -> None:
    assert len(LEAVES) > 25 and {"why", "mend", "lab make", "license serve", "case confirm"} <= set(LEAVES)


@pytest.mark.parametrize("name", COMMANDS)
def test_help_is_whole_and_fits(name: str, run: Run) -> None:
    done = run(*name.split(), "--help", COLUMNS="80")
    assert done.status == 0 and done.err == "" and "\u2026" not in done.out  # nothing is cut off
    assert all(len(line) <= 80 for line in done.out.splitlines())
    assert f"hollow-chain {name}" in " ".join(done.out.split())
    spoken = " ".join(done.out.replace("\u2502", " ").split())
    for parameter in COMMANDS[name].params:
        longest = max(parameter.opts, key=len)
        if longest.startswith("--") and not getattr(parameter, "hidden", False):
            assert longest in spoken, longest
            assert getattr(parameter, "help", ""), f"{name} {longest} does not say what it is for"


@pytest.mark.parametrize("name", LEAVES)
def test_a_command_says_in_a_sentence_what_it_does(name: str) -> None:
    said = (COMMANDS[name].help or "").strip()
    first = said.split("\n\n")[0].strip()
    assert len(first) >= 12 and first[0].isupper() and first.endswith((".", ";"))


@pytest.mark.parametrize("name", sorted({*LEAVES} - TAKES_ANYTHING))
def test_an_option_that_is_none_gets_one_line_that_names_the_help(name: str, run: Run) -> None:
    done = run(*name.split(), "--no-such-option")
    assert done.status == 2 and len(done.err.splitlines()) == 1
    assert "--no-such-option" in done.err and f"'hollow-chain {name} --help'" in done.err


def test_the_whole_help_and_the_version(run: Run) -> None:
    done = run("--help", COLUMNS="80")
    assert done.status == 0 and all(name.split()[0] in done.out for name in LEAVES)
    assert "Exit status: 0 all is well" in " ".join(done.out.split())
    assert run("--version").out.startswith("hollow-chain 0.")

"""Shared by all tests: the installed program, run in a folder of its own."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

if os.name == "nt":
    from tests.in_process import Within as Parent
else:
    from tests.forking import Parent

# What random tests draw is fixed, so that a run of the suite says the same each time: to look further, with fresh draws,
# there is ``pytest --hypothesis-profile=explore``.
settings.register_profile("fixed", derandomize=True, deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.register_profile("explore", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("fixed")

PROGRAM = (
    [str(Path(sys.executable).parent / "hollow-chain")] if os.name != "nt" else [sys.executable, "-m", "hollow_chain"]
)
HEAD = "format: hollow-chain/snapshot\nversion: 1\n"


class Done:
    """What a call of the program gave back."""

    def __init__(self, status: int, out: bytes, err: bytes) -> None:
        self.status = status
        self.out = out.decode("utf-8")
        self.err = err.decode("utf-8")
        assert "Traceback" not in self.err, self.err
        assert "fault of the program itself" not in self.err, self.err

    @property
    def json(self) -> Any:
        """Standard output as the one JSON object that it has to be."""
        return json.loads(self.out)

    @property
    def said(self) -> list[str]:
        """The lines of standard error, but for those that tell how far it is: a slow machine prints more of them."""
        return [line for line in self.err.splitlines() if not re.search(r", \d+ s$", line)]


Run = Callable[..., Done]


def _variables(tmp_path: Path, env: dict[str, str]) -> dict[str, str]:
    variables = {k: v for k, v in os.environ.items() if k not in ("COLUMNS", "NO_COLOR", "FORCE_COLOR")}
    variables["TZ"] = "UTC"
    variables["TZ"] = "UTC"
    variables["HOLLOW_CHAIN_CASES"] = str(tmp_path / "cases.db")  # not those of whoever runs the tests
    return {**variables, **env}


@pytest.fixture(scope="session")
def parent() -> Iterator[Parent]:
    """The parent of forked calls."""
    parent = Parent()
    yield parent
    parent.end()


@pytest.fixture()
def run(tmp_path: Path, parent: Parent) -> Run:
    """Run ``hollow-chain`` in a temporary folder, in a child of a parent that has imported it."""

    def call(*words: str | Path, stdin: bytes = b"", **env: str) -> Done:
        return Done(*parent.call([str(word) for word in words], tmp_path, _variables(tmp_path, env), stdin))

    return call


@pytest.fixture()
def start(tmp_path: Path) -> Run:
    """Start the installed ``hollow-chain`` itself in a temporary folder."""

    def call(*words: str | Path, stdin: bytes = b"", **env: str) -> Done:
        done = subprocess.run(
            [*PROGRAM, *map(str, words)], cwd=tmp_path, env=_variables(tmp_path, env), input=stdin, capture_output=True,
            timeout=120,
        )  # fmt: skip
        return Done(done.returncode, done.stdout, done.stderr)

    return call


@pytest.fixture()
def facts(tmp_path: Path) -> Callable[[str], Path]:
    """Write the YAML of one host into a snapshot file."""

    def write(host: str, name: str = "facts.yaml") -> Path:
        path = tmp_path / name
        path.write_text(HEAD + "hosts:\n" + host, encoding="utf-8")
        return path

    return write


@pytest.fixture(scope="session")
def demo_facts(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's snapshots, as ``demo`` lays them out."""
    from hollow_chain.demo import snapshots

    folder = tmp_path_factory.mktemp("demo")
    for source in snapshots():
        (folder / source.name).write_bytes(source.read_bytes())
    return folder


def pytest_make_parametrize_id(val: object) -> str | None:
    """Name long bytes by their number: packed ones differ from second to second, and workers must agree on names. Of a long text, the
    begin and the length: as a name it would fill the screen at each failure."""
    if isinstance(val, bytes) and len(val) > 20:
        return f"{len(val)} bytes"
    return f"{val[:20]} and {len(val) - 20} more" if isinstance(val, str) and len(val) > 1000 else None


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Tell what was tried a second time: a test that needs it often is a defect that nobody has seen yet."""
    reports = [report for many in terminalreporter.stats.values() for report in many]
    tries = [(report.nodeid, why) for report in reports if getattr(report, "when", "") == "call"
             for name, why in report.user_properties if name == "second try"]  # fmt: skip
    if any("/live/" in getattr(report, "nodeid", "") for report in reports):
        terminalreporter.section(f"second tries: {len(tries)}")
        for place, why in tries:
            terminalreporter.line(f"{place}: {why}")

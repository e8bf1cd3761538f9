"""Shared by all tests: the installed program, run in a folder of its own."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

PROGRAM = Path(sys.executable).parent / "hollow-chain"
HEAD = "format: hollow-chain/snapshot\nversion: 1\n"


class Done:
    """What a call of the program gave back."""

    def __init__(self, done: subprocess.CompletedProcess[bytes]) -> None:
        self.status = done.returncode
        self.out = done.stdout.decode("utf-8")
        self.err = done.stderr.decode("utf-8")
        assert "Traceback" not in self.err, self.err
        assert "fault of the program itself" not in self.err, self.err

    @property
    def json(self) -> Any:
        """Standard output as the one JSON object that it has to be."""
        return json.loads(self.out)


Run = Callable[..., Done]


@pytest.fixture()
def run(tmp_path: Path) -> Run:
    """Run the installed ``hollow-chain`` in a temporary folder."""

    def call(*words: str | Path, stdin: bytes = b"", **env: str) -> Done:
        variables = {k: v for k, v in os.environ.items() if k not in ("COLUMNS", "NO_COLOR", "FORCE_COLOR")}
        variables["HOLLOW_CHAIN_CASES"] = str(tmp_path / "cases.db")  # not those of whoever runs the tests
        done = subprocess.run(
            [str(PROGRAM), *map(str, words)], cwd=tmp_path, env={**variables, **env}, input=stdin, capture_output=True,
            timeout=120,
        )  # fmt: skip
        return Done(done)

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

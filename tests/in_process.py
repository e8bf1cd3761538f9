"""Calls of the program within the process of the tests, for systems that cannot fork: streams, folder and variables are its own for as
long as a call lasts."""

from __future__ import annotations

import contextlib
import importlib
import io
import os
import sys
import traceback
from collections.abc import Iterator
from pathlib import Path


class Within:
    """What calls, seen from the tests: as :class:`tests.forking.Parent`."""

    def call(
        self, words: list[str], cwd: Path, env: dict[str, str], stdin: bytes = b"", entry: str = "hollow_chain.cli"
    ) -> tuple[int, bytes, bytes]:
        """Exit status, standard output and standard error of one call."""
        out, err = io.BytesIO(), io.BytesIO()
        encoding = env.get("PYTHONIOENCODING", "utf-8")
        streams = [io.TextIOWrapper(one, encoding=encoding, newline="\n") for one in (io.BytesIO(stdin), out, err)]
        with _elsewhere(cwd, env), _streams(*streams):
            sys.argv = ["hollow-chain", *words]
            status: object = 0
            try:
                importlib.import_module(entry).main()
            except SystemExit as end:
                status = end.code
            except BaseException:
                traceback.print_exc()
                status = 1
        for stream in streams[1:]:
            stream.flush()
        return status if isinstance(status, int) else int(status is not None), out.getvalue(), err.getvalue()

    def end(self) -> None:
        """Nothing is left."""


@contextlib.contextmanager
def _elsewhere(cwd: Path, env: dict[str, str]) -> Iterator[None]:
    folder, variables = Path.cwd(), dict(os.environ)
    os.chdir(cwd)
    os.environ.clear()
    os.environ.update(env)
    try:
        yield
    finally:
        os.chdir(folder)
        os.environ.clear()
        os.environ.update(variables)


@contextlib.contextmanager
def _streams(given: io.TextIOWrapper, out: io.TextIOWrapper, err: io.TextIOWrapper) -> Iterator[None]:
    before = sys.stdin, sys.stdout, sys.stderr, sys.argv
    sys.stdin, sys.stdout, sys.stderr = given, out, err
    try:
        yield
    finally:
        sys.stdin, sys.stdout, sys.stderr, sys.argv = before

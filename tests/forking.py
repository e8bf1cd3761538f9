"""Calls of the program in children that are forked from a parent which has imported it all: a call costs what it does, and no
longer half a second of imports. The parent has one thread, so that a child finds no lock held by nobody.

What a true start of the program is good for (its imports, its entry point, its end) is tested by true starts: see ``start`` in
``conftest.py``.
"""

from __future__ import annotations

import ctypes
import importlib
import json
import os
import pkgutil
import select
import signal
import subprocess
import sys
import tempfile
import threading
import traceback
from pathlib import Path

from hollow_chain.causes import catalogue, meanings
from hollow_chain.lazy import _Lazy
from hollow_chain.verdict.looks import known_looks
from hollow_chain.verdict.weigh import weights
from hollow_chain.wording.secrets import mask_text

SECONDS = 120
"""How long a call may take before it is given up."""
_HEAVY = (
    "numpy.random", "matplotlib.figure", "matplotlib.backends.backend_agg", "matplotlib.backends.backend_svg", "sqlalchemy.orm",
    "sqlalchemy.dialects.sqlite", "rich.live", "rich.table", "rich.progress", "rich.markup", "psutil",
)  # fmt: skip
"""What commands import when they need it."""


class Parent:
    """The parent, seen from the tests."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        self._one_call = threading.Lock()  # the benchmark asks several hosts at once

    def call(
        self,
        words: list[str],
        cwd: Path,
        env: dict[str, str],
        stdin: bytes = b"",
        entry: str = "hollow_chain.cli",
        inside: int = 0,
    ) -> tuple[int, bytes, bytes]:
        """Exit status, standard output and standard error of one call.

        *entry* is the module whose ``main`` is called; *inside*, where it is given, the process whose namespaces the call is made in.
        """
        with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
            given.write(stdin)
            given.seek(0)
            paths = [f"/proc/{os.getpid()}/fd/{file.fileno()}" for file in (given, out, err)]
            with self._one_call:
                status = self._asked(
                    {"words": words, "cwd": str(cwd), "env": env, "files": paths, "entry": entry, "inside": inside}
                )
            out.seek(0)
            err.seek(0)
            return status, out.read(), err.read()

    def _asked(self, call: dict[str, object]) -> int:
        if self._process is None:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "tests.forking"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0,
                start_new_session=True, cwd=Path(__file__).parents[1], env={k: v for k, v in os.environ.items() if "COLOR" not in k},
            )  # fmt: skip
        process = self._process
        assert process.stdin is not None
        assert process.stdout is not None
        process.stdin.write(json.dumps(call).encode() + b"\n")
        ready, _, _ = select.select([process.stdout], [], [], SECONDS)
        answer = process.stdout.readline() if ready else b""
        if not answer:
            self.end()
            raise TimeoutError(f"no answer within {SECONDS} s: {call['words']}")
        return int(answer)

    def end(self) -> None:
        """End the parent, and a child that it waits for."""
        if self._process is not None:
            os.killpg(self._process.pid, signal.SIGKILL)
            self._process.communicate()
            self._process = None


def _import_all() -> None:
    package = importlib.import_module("hollow_chain")
    for found in pkgutil.walk_packages(package.__path__, "hollow_chain."):
        # What only another kind of system has is not to be had here.
        if not found.name.endswith("__main__") and ".win32" not in found.name:
            importlib.import_module(found.name)
    for name in _HEAVY:
        importlib.import_module(name)
    for module in [one for name, one in sys.modules.items() if name.startswith("hollow_chain.")]:
        for value in list(vars(module).values()):
            if isinstance(value, _Lazy):
                value.search("")
    # What ships with the program as data, and is read at the first use.
    catalogue()
    weights()
    known_looks()
    mask_text("x" * 200)
    meanings.read("error 1053")


def _enter(process: int) -> None:
    """Go on in the namespaces of *process* (setns(2)); of the one of processes only a child is a member."""
    system = ctypes.CDLL(None, use_errno=True)
    spaces = [
        os.open(f"/proc/{process}/ns/{name}", os.O_RDONLY) for name in ("cgroup", "ipc", "uts", "net", "pid", "mnt")
    ]
    for space in spaces:
        if system.setns(space, 0):
            raise OSError(ctypes.get_errno(), "setns")
        os.close(space)
    child = os.fork()
    if child:
        _, waited = os.waitpid(child, 0)
        status = os.waitstatus_to_exitcode(waited)
        if status < 0:
            os.kill(os.getpid(), -status)
        os._exit(status)


def _child(call: dict[str, list[str]], entry: str, inside: int, cwd: str, env: dict[str, str]) -> int:
    """One call, with the streams, the folder and the variables that it was given; its exit status."""
    for at, (path, flags) in enumerate(zip(call["files"], (os.O_RDONLY, os.O_WRONLY, os.O_WRONLY), strict=True)):
        os.dup2(os.open(path, flags | os.O_APPEND), at)
    if inside:
        _enter(inside)
    encoding = env.get("PYTHONIOENCODING", "utf-8")
    sys.stdin = open(0, encoding=encoding, closefd=False)  # noqa: SIM115 - as the interpreter opens them
    sys.stdout = open(1, "w", encoding=encoding, closefd=False)  # noqa: SIM115
    sys.stderr = open(2, "w", encoding=encoding, closefd=False)  # noqa: SIM115
    os.chdir(cwd)
    os.environ.clear()
    os.environ.update(env)
    sys.argv = ["hollow-chain", *call["words"]]
    status: object = 0
    try:
        importlib.import_module(entry).main()
    except SystemExit as end:
        status = end.code
    except BaseException:
        traceback.print_exc()
        status = 1
    sys.stdout.flush()
    sys.stderr.flush()
    return status if isinstance(status, int) else int(status is not None)


def serve() -> None:
    """Fork a child for each line of standard input, and tell its exit status in a line."""
    _import_all()
    for line in iter(sys.stdin.buffer.readline, b""):
        call = json.loads(line)
        child = os.fork()
        if child == 0:
            status = 1
            try:
                status = _child(call, call["entry"], call["inside"], call["cwd"], call["env"])
            finally:
                os._exit(status)
        _, waited = os.waitpid(child, 0)
        print(os.waitstatus_to_exitcode(waited), flush=True)  # noqa: T201


if __name__ == "__main__":
    serve()

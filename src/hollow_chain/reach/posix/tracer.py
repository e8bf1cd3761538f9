"""Tracing the service manager for the time of one start, by strace(1): attached from outside, so that the service and its confinement
are as they always are.

However we end, the manager is let go: the tracer ends with us (``PR_SET_PDEATHSIG``, prctl(2)), by a clock of its own where we hang
(timeout(1)), and at a bound of what it writes, which is a file, so that it never waits for us. Where it dies itself, the kernel lets go
(ptrace(2)). Nothing of what is read or sent is written down (``-s 0``).
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import resource
import shutil
import signal
import subprocess
import time
from pathlib import Path

from hollow_chain.reach.locks import Taken, take

_PLACE = Path("/run/hollow-chain")
_LOCK, _TRACE = "observe.lock", "observe.trace"
_MANAGER = 1
_ATTACHED_WITHIN = 5.0
"""Seconds in which a tracer is attached: it takes some milliseconds, on a busy machine some tenths."""
_GONE_WITHIN = 5.0
_MORE_TIME = 5.0
"""Seconds by which the tracer's own clock goes after ours."""
_MOST_BYTES = 48 << 20
"""Bytes of one trace: the calls of some ten thousand processes, or of a program in a loop for some seconds."""
_POLL = 0.01
_DIES_WITH_PARENT = 1
"""``PR_SET_PDEATHSIG`` (prctl(2))."""


class NotTraced(Exception):
    """The manager cannot be traced; the reason in words."""


class Tracer:
    """At most one at a time on a machine; use as a context manager. Raises :class:`NotTraced` on the way in."""

    def __init__(self, calls: str, seconds: float) -> None:
        """*calls*: those that are traced, as strace(1) takes them; *seconds*: how long at most."""
        self._calls, self._seconds = calls, seconds
        self._process: subprocess.Popen[bytes] | None = None
        self._lock = contextlib.ExitStack()
        self._is_ours = False
        """Whether the trace on disk is of this one."""

    def __enter__(self) -> Tracer:
        command = self._command()
        _prepare()
        try:
            self._lock.callback(take(_PLACE / _LOCK).release)
        except Taken:
            raise NotTraced("another start is being observed") from None
        except OSError as error:
            raise NotTraced(f"no lock can be had in {_PLACE}: {error}") from None
        self._is_ours = True
        try:
            self._attach(command)
        except BaseException:
            self.__exit__()
            raise
        return self

    def __exit__(self, *_: object) -> None:
        """Let go of the manager, and take away what was written."""
        try:
            self._let_go()
        finally:
            if self._is_ours:
                (_PLACE / _TRACE).unlink(missing_ok=True)
            self._is_ours = False
            self._lock.close()  # last: whoever gets it next finds nothing of ours, and nothing of theirs is taken away

    def _command(self) -> list[str]:
        strace, clock, bound = (shutil.which(name) for name in ("strace", "timeout", "setpriv"))
        if os.geteuid() != 0:
            raise NotTraced("only root may trace the service manager")
        if strace is None:
            raise NotTraced("strace is not installed")
        if clock is None:
            raise NotTraced("timeout (coreutils) is not installed, without which nothing bounds the tracer")
        bounded = [clock, "--kill-after=2", "--signal=INT", f"{self._seconds + _MORE_TIME:.0f}"]
        bounded += [bound, "--pdeathsig", "TERM"] if bound is not None else []
        written = ["-o", str(_PLACE / _TRACE), "-e", f"trace={self._calls}", "-e", "signal=!SIGCHLD"]
        return [*bounded, strace, "-f", "-q", "-y", "-ttt", "-s", "0", *written, "-p", str(_MANAGER)]

    def _attach(self, command: list[str]) -> None:
        if _tracer_of_manager():
            raise NotTraced("the service manager is being traced by somebody else")
        (_PLACE / _TRACE).unlink(missing_ok=True)
        self._process = subprocess.Popen(
            command,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            preexec_fn=_bounded_and_bound_to_us,
            start_new_session=True,  # a Ctrl-C is for us: the tracer is let go when we are done
            umask=0o077,
        )
        until = time.monotonic() + _ATTACHED_WITHIN
        while not _tracer_of_manager():
            if self._process.poll() is not None:
                raise NotTraced(f"the kernel does not let it be traced: {self._last_words()}")
            if time.monotonic() > until:
                raise NotTraced("the tracer did not attach in time")
            time.sleep(_POLL)

    def _last_words(self) -> str:
        assert self._process is not None and self._process.stderr is not None
        lines = self._process.stderr.read(4096).decode("utf-8", "replace").strip().splitlines()
        return (lines[0] if lines else f"strace ended with {self._process.returncode}")[:200]

    @property
    def runs(self) -> bool:
        """Whether it still traces."""
        return self._process is not None and self._process.poll() is None

    def lines(self) -> list[str]:
        """Let go of the manager, and give what was written."""
        self._let_go()
        try:
            return (_PLACE / _TRACE).read_text("latin-1").split("\n")
        except OSError:
            return []

    def _let_go(self) -> None:
        """Of the manager, and of all that it has begun since."""
        process, self._process = self._process, None
        if process is not None:
            for number in (signal.SIGINT, signal.SIGTERM, signal.SIGKILL):
                process.send_signal(number)
                with contextlib.suppress(subprocess.TimeoutExpired):
                    process.wait(_GONE_WITHIN)
                    break
            assert process.stderr is not None
            process.stderr.close()


def _prepare() -> None:
    """The folder of ours, which nobody else can write to."""
    _PLACE.mkdir(mode=0o700, exist_ok=True)
    found = _PLACE.lstat()
    if found.st_uid != 0 or found.st_mode & 0o022 or not _PLACE.is_dir() or _PLACE.is_symlink():
        raise NotTraced(f"{_PLACE} is not a folder of root's alone")


def _bounded_and_bound_to_us() -> None:
    resource.setrlimit(resource.RLIMIT_FSIZE, (_MOST_BYTES, _MOST_BYTES))
    ctypes.CDLL(None).prctl(_DIES_WITH_PARENT, signal.SIGTERM)


def _tracer_of_manager() -> int:
    for row in Path(f"/proc/{_MANAGER}/status").read_text().splitlines():
        if row.startswith("TracerPid:"):
            return int(row.split()[1])
    return 0

"""Run the program, and end it like a power cut (SIGKILL) at the moment of that number.

Moments are: before and after each record that is written to the journal, after each step is carried out, and before each call
to the manager and each change of a file that a step is made of. Call: ``power_cut.py NUMBER CALL...``; exit status 77 where the call came
to its end before that moment.
"""

from __future__ import annotations

import os
import signal
import sys
from typing import Any

PASSED = 77
CUT = 137
"""The exit status of a cut where no signal can end a process: that of SIGKILL in a shell."""


class Moments:
    """Counts moments, and ends the process at one of them."""

    def __init__(self, number: int) -> None:
        self.left = number

    def __call__(self) -> None:
        if self.left == 0:
            _end()
        self.left -= 1

    def around(self, owner: Any, name: str, before: bool, after: bool) -> None:
        """Count calls of a function or method."""
        original = getattr(owner, name)

        def counted(*arguments: Any, **more: Any) -> Any:
            if before:
                self()
            result = original(*arguments, **more)
            if after:
                self()
            return result

        setattr(owner, name, counted)


def _end() -> None:
    if sys.platform == "win32":
        os._exit(
            CUT
        )  # the other system has no such signal; like it, this ends the process with nothing written and nothing closed
    os.kill(os.getpid(), signal.SIGKILL)


def _of_systemd(moments: Moments) -> None:
    from hollow_chain.mend import files_kept, lab_hands, systemd_calls, systemd_hands

    for hands in (lab_hands.LabHands, systemd_hands.SystemdHands):
        moments.around(hands, "do", before=False, after=True)
    moments.around(systemd_calls.Manager, "call", before=True, after=False)
    for name in ("write_new", "set_mode", "set_owner"):
        moments.around(files_kept, name, before=False, after=True)


def _over_the_network(moments: Moments) -> None:
    from hollow_chain.mend import control_hands, far_files
    from hollow_chain.reach.rpc import manager, registry

    moments.around(control_hands.ControlHands, "do", before=False, after=True)
    moments.around(far_files.FarFilesKept, "write_new", before=False, after=True)
    for name in ("begin", "send"):
        moments.around(manager.RpcManager, name, before=True, after=False)
    for name in ("put", "make"):
        moments.around(registry.RpcRegistry, name, before=True, after=False)


def _of_control(moments: Moments) -> None:
    from hollow_chain.mend import control_hands
    from hollow_chain.reach.win32 import manager, raw_values

    moments.around(control_hands.ControlHands, "do", before=False, after=True)
    orders = ("create", "_describe", "configure", "delete", "start", "stop", "set_start_number", "set_failure_actions")
    for name in orders:
        moments.around(manager.LocalManager, name, before=True, after=False)
    for name in ("put", "make"):
        moments.around(raw_values.LocalValues, name, before=True, after=False)


def main() -> None:
    from hollow_chain import cli
    from hollow_chain.mend import journal

    moments = Moments(int(sys.argv[1]))
    moments.around(journal.MendJournal, "write", before=True, after=True)
    (_of_control if sys.platform == "win32" else _of_systemd)(moments)
    if any(word.endswith(".toml") for word in sys.argv):
        _over_the_network(moments)
    status = cli.run(sys.argv[2:])
    sys.exit(PASSED if status == 0 else status)


if __name__ == "__main__":
    main()

"""Putting a fault into a host of its own and asking about it: shared by the live tests and the benchmark."""

from __future__ import annotations

import json
import sys
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from tests.live.daemon_faults import DAEMON_FAULTS
from tests.live.family_faults import FAMILY_FAULTS
from tests.live.faults import FAULTS, Fault
from tests.live.license_faults import LICENSE_FAULTS
from tests.live.realhost import RealHost

PROGRAM = Path(sys.executable).parent / "hollow-chain"
ALL_FAULTS = [*FAULTS, *FAMILY_FAULTS, *LICENSE_FAULTS, *DAEMON_FAULTS]


@dataclass
class Answer:
    """What ``why`` said about a fault."""

    fault: Fault
    status: int
    verdict: dict[str, Any]
    errors: str
    seconds: float
    capture_seconds: float = 0.0
    snapshot: str = ""
    wanted: list[tuple[str, str]] = field(default_factory=list)

    @property
    def found(self) -> list[tuple[str, str]]:
        """Causes with their places, ranked."""
        named = self.verdict.get("causes") or self.verdict.get("notes", ())  # a start rightly skipped is only noted
        return [(cause["cause"], cause["service"]) for cause in named]

    @property
    def right(self) -> bool:
        """Whether the first causes are the right ones, in the right places."""
        wanted = [(self.fault.cause, self.fault.place), *self.fault.also]
        first = self.found[: len(wanted)]
        return len(first) == len(wanted) and all(one in wanted or (one[0], "*") in wanted for one in first)


def ask(host: RealHost, fault: Fault, timed: bool = False) -> Answer:
    """Put the fault in and ask; *timed* also takes a snapshot, for the comparison of seconds and for a later look."""
    host.run(fault.script, check=False)
    began = time.perf_counter()
    done = host.program(f"why '{fault.target}' --json")
    took = time.perf_counter() - began
    verdict = json.loads(done.stdout) if done.stdout.startswith("{") else {}
    answer = Answer(fault, done.returncode, verdict, done.stdout + done.stderr if not verdict else done.stderr, took)
    if timed:  # once more, now that both find the disk's pages in memory
        answer.capture_seconds = _seconds(host, f"{PROGRAM} capture --out /var/tmp/host.json")
        answer.seconds = _seconds(host, f"{PROGRAM} why '{fault.target}' --json")
        answer.snapshot = host.run("cat /var/tmp/host.json", check=False).stdout
    return answer


def _seconds(host: RealHost, call: str) -> float:
    began = time.perf_counter()
    host.run(call, check=False)
    return time.perf_counter() - began


def daemons(fault: Fault) -> set[str]:
    """The units of real daemons that a fault needs installed."""
    return {name.replace("postgresql@15-main", "postgresql") for name in fault.boots}


def not_installed(fault: Fault) -> str:
    """The first daemon of the fault that this machine lacks; empty where all are there."""
    folders = (Path("/lib/systemd/system"), Path("/etc/init.d"))
    for name in sorted(daemons(fault)):
        if not any((folder / f"{name}{suffix}").exists() for folder in folders for suffix in (".service", "")):
            return name
    return ""

"""One trial: a healthy daemon on a throwaway host, seen to be whole; one break, seen to break it; the question; what came back."""

from __future__ import annotations

import itertools
import json
import subprocess
import tempfile
import time
from pathlib import Path
from typing import Any

import msgspec
from tests.live.realhost import RealHost

from bench.factory import probe as probing
from bench.factory.daemons import DAEMONS, Daemon, install, prepared
from bench.factory.operators import Break, drop_in, service
from bench.factory.probe import Probe

_LINKS = "lookout-a.service", "lookout-b.service", "lookout-c.service"
"""Services that are put above the broken one, for depth."""
_SILENCE = "StandardOutput=null\\nStandardError=null\\nInaccessiblePaths=-/run/systemd/journal/dev-log"
_BY_NAME = {daemon.unit: daemon for daemon in DAEMONS}


class Trial(msgspec.Struct):
    """What is tried."""

    probe: Probe
    broken_by: Break
    depth: int = 1
    restarts: bool = False
    """Whether it is restarted after the break, and not stopped before and started after it."""
    waits: float = 2.5
    """Seconds from the start to the question."""
    pair: bool = False
    """Whether the service that is asked about has a fault of its own, too: its program is not there."""
    silent: bool = False
    """Whether nothing that it says is kept; a start is observed then."""

    @property
    def daemon(self) -> Daemon:
        """The daemon that is broken."""
        return _BY_NAME[self.probe.unit]

    @property
    def name(self) -> str:
        """A name for people."""
        return f"{self.daemon.name}: {self.broken_by.operator}, {self.depth} deep"


class Outcome(msgspec.Struct):
    """What came of a trial."""

    unit: str
    half: str
    kind: str
    operator: str
    depth: int
    script: str
    wanted: list[str]
    place: str
    detail: list[str]
    state: str = ""
    """``whole`` where the break did not break it, ``not whole`` where it was not well before, ``broken``."""
    target: str = ""
    causes: list[dict[str, Any]] = []
    again: list[str] = []
    """The first cause of the second look."""
    status: int = -1
    errors: str = ""
    snapshot: str = ""
    pair: bool = False
    plain: list[dict[str, Any]] = []
    """Of a silent one: the causes before it was observed."""
    observed: dict[str, Any] = {}

    @property
    def told(self) -> bool:
        """Of a silent one: whether the thing was named without observing it."""
        return msgspec.structs.replace(self, causes=self.plain).exact

    @property
    def right(self) -> bool:
        """Whether the first cause is a right one, in the right place."""
        if not self.causes:
            return False
        if self.pair:
            return self.both and self._is_right(self.causes[0])
        return self._is_right(self.causes[0])

    def _is_right(self, cause: dict[str, Any]) -> bool:
        own = self.pair and cause["cause"] == "program-missing" and cause["service"] == self.target
        return own or (cause["cause"] in self.wanted and self.place in ("*", cause["service"]))

    @property
    def exact(self) -> bool:
        """Whether it also names the thing that was broken."""
        return self.right and (
            not self.detail or any(word in json.dumps(self.causes[0], ensure_ascii=False) for word in self.detail)
        )

    @property
    def both(self) -> bool:
        """Of a pair, whether both faults are named: that of the service that is asked about, and the one below."""
        named = {(cause["cause"], cause["service"]) for cause in self.causes}
        below = any(cause in self.wanted and self.place in ("*", service) for cause, service in named)
        return below and ("program-missing", self.target) in named

    @property
    def steady(self) -> bool:
        """Whether a second look names the same cause."""
        return (
            not self.again or self.again == [self.causes[0]["cause"], self.causes[0]["service"]]
            if self.causes
            else not self.again
        )


def booted(daemon: Daemon, name: str) -> tuple[RealHost, tempfile.TemporaryDirectory[str] | None]:
    """A host on which the daemon can be started, not booted yet."""
    extra = None
    if daemon.own:
        extra = tempfile.TemporaryDirectory(prefix="factory-")
        install(daemon, Path(extra.name))
    return RealHost(name, keep=(), extra=Path(extra.name) if extra else None), extra


def made_whole(host: RealHost, daemon: Daemon) -> None:
    """Start the daemon for the first time."""
    script = prepared(daemon)
    enable = f"systemctl enable --quiet {daemon.unit} 2>/dev/null"
    host.run(f"{script}\n{enable}\ntimeout 60 systemctl start {daemon.unit}", check=False)


def run(trial: Trial, number: int, keep: Path | None = None) -> Outcome:
    """Carry out a trial on a host of its own; *keep* is a folder for the snapshot of the broken host."""
    broken, daemon = trial.broken_by, trial.daemon
    outcome = Outcome(
        trial.probe.unit, daemon.half, daemon.kind, broken.operator, trial.depth, broken.script, list(broken.wanted), broken.place,
        list(broken.detail), pair=trial.pair and trial.depth > 1,
    )  # fmt: skip
    host, extra = booted(daemon, f"f{number}")
    try:
        with host:
            made_whole(host, daemon)
            if not _is_whole(host, trial.probe, seconds=12):
                outcome.state = "not whole"
                return outcome
            _break(host, trial, outcome)
            settles = daemon.settle if _is_up(host, trial.probe) else 0
            if _is_whole(host, trial.probe, seconds=settles) or (not broken.leaves_up and _is_up(host, trial.probe)):
                outcome.state = "whole"
                return outcome
            outcome.state = "broken"
            if _is_active(host, outcome.target) or (outcome.pair and _is_active(host, trial.probe.unit)):
                # What stands above is well by the manager's rules (a condition that passes a need over, a need that is up and deaf), or
                # has only its own fault in its way.
                outcome.target, outcome.depth, outcome.pair = trial.probe.unit, 1, False
            (_observe if trial.silent else _ask)(host, outcome, keep, number)
    except (RuntimeError, subprocess.SubprocessError) as error:
        outcome.state, outcome.errors = "not whole", str(error)[-300:]
    finally:
        if extra is not None:
            extra.cleanup()
    return outcome


def _break(host: RealHost, trial: Trial, outcome: Outcome) -> None:
    units = [*_LINKS[: trial.depth - 1], trial.probe.unit]
    text = "".join(
        f"printf '[Unit]\\nDescription=Lookout\\nRequires={low}\\nAfter={low}\\n[Service]\\nExecStart=/bin/sleep infinity\\n' "
        f"> /etc/systemd/system/{up}\n"
        for up, low in itertools.pairwise(units)
    )
    outcome.target = units[0]
    outcome.pair = trial.pair and trial.depth > 1
    if outcome.pair:
        text += f"sed -i 's|^ExecStart=.*|ExecStart=/opt/quay/lantern|' /etc/systemd/system/{units[0]}\n"
    if trial.silent:
        text += drop_in(trial.probe, service(_SILENCE), "aa-silent") + "\n"
    broken = trial.broken_by
    stops = broken.stop or (broken.starts and not trial.restarts)
    before = f"systemctl stop {trial.probe.unit}\n" if stops else ""
    host.run(f"{text}systemctl daemon-reload\n{before}{broken.script}", check=False)
    if broken.starts:
        host.run(f"timeout 30 systemctl {'start' if stops else 'restart'} {trial.probe.unit}", check=False)
    if not broken.starts:  # a start of what stands above would start it anew
        outcome.target, outcome.depth, outcome.pair = trial.probe.unit, 1, False
    elif trial.depth > 1:
        host.run(f"timeout 30 systemctl start {outcome.target}", check=False)
    time.sleep(trial.waits)


def _is_whole(host: RealHost, probe: Probe, seconds: float) -> bool:
    """Whether the daemon is up, stays so, and has its endpoints."""
    until = time.monotonic() + seconds
    while True:
        if _is_active(host, probe.unit) and set(probe.endpoints) <= set(probing.endpoints(host, probe.unit)):
            return probing.stays(host, probe.unit)
        if time.monotonic() >= until:
            return False
        time.sleep(0.4)


def _is_active(host: RealHost, unit: str) -> bool:
    return host.run(f"systemctl is-active {unit}", check=False).stdout.strip() == "active"


def _is_up(host: RealHost, probe: Probe) -> bool:
    """Whether the daemon is up and stays so, with whatever endpoints."""
    return _is_active(host, probe.unit) and probing.stays(host, probe.unit)


def _named(verdict: dict[str, Any]) -> list[dict[str, Any]]:
    """The causes; of a start that was rightly skipped, which is no fault, what is noted of that."""
    skips = [note for note in verdict.get("notes", []) if note["cause"] == "condition-unmet"]
    return verdict.get("causes") or [{"confidence": 0.0, "note": True, **note} for note in skips]


def _ask(host: RealHost, outcome: Outcome, keep: Path | None, number: int) -> None:
    done = host.program(f"why '{outcome.target}' --json")
    outcome.status, outcome.errors = done.returncode, done.stderr[-300:]
    if done.stdout.startswith("{"):
        outcome.causes = _named(json.loads(done.stdout))
    second = host.program(f"why '{outcome.target}' --json")
    if second.stdout.startswith("{"):
        causes = _named(json.loads(second.stdout))
        outcome.again = [causes[0]["cause"], causes[0]["service"]] if causes else []
    if keep is not None:
        host.program("capture --out /var/tmp/factory.json")
        path = keep / f"{number:04}.json"
        path.write_text(host.run("cat /var/tmp/factory.json", check=False).stdout)
        outcome.snapshot = path.name


def _observe(host: RealHost, outcome: Outcome, keep: Path | None, number: int) -> None:
    """Ask what the records tell, and then what one start tells that is watched."""
    done = host.program(f"why '{outcome.target}' --json")
    if done.stdout.startswith("{"):
        outcome.plain = json.loads(done.stdout).get("causes", [])
    state = host.run(f"systemctl show -P ActiveState -P SubState {outcome.target}", check=False).stdout.split()
    up = state[:1] in (["active"], ["activating"]) and "auto-restart" not in state
    done = host.program(f"observe '{outcome.target}' --yes --for 20 --json{' --restart' if up else ''}")
    outcome.status, outcome.errors = done.returncode, done.stderr[-300:]
    if done.stdout.startswith("{"):
        document = json.loads(done.stdout)
        outcome.causes, outcome.observed = document["causes"], document["observed"]

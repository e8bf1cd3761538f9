"""Healthy hosts: a draw of daemons that do not get into each other's way, looked at as a whole at several moments. Nothing may be named
that the manager itself does not call failed."""

from __future__ import annotations

import json
import random
import time
from collections.abc import Iterator

import msgspec
from tests.live.realhost import RealHost

from bench.factory.probe import Probe


class Alarm(msgspec.Struct):
    """A cause that was named on a healthy host."""

    moment: str
    cause: str
    service: str
    says: str


class Healthy(msgspec.Struct):
    """What came of one healthy host."""

    daemons: list[str]
    looks: int = 0
    alarms: list[Alarm] = []
    uneven: list[str] = []
    """Moments at which ``roster`` and ``why --all`` did not count alike."""


SINGLY = ("after five", "after a restart")
"""Moments at which each daemon is asked about by itself, too."""
MOMENTS = (
    ("at the first second", "true", 0),
    ("after five seconds", "true", 5),
    ("after a reload of the definitions", "systemctl daemon-reload", 0),
    ("after a restart of all", "systemctl restart {units}", 0),
    ("a while after that", "true", 6),
    (
        "idle behind its socket",
        "for u in {units}; do s=${{u%.service}}.socket; systemctl cat $s >/dev/null 2>&1 && systemctl stop $u && systemctl start $s; done; true",
        2,
    ),
    (
        "after an alarming line that means nothing",
        "logger -t quay -p user.err 'error: cannot open /srv/none: Permission denied'",
        0,
    ),
)


def drawn(probes: list[Probe], draw: random.Random) -> list[Probe]:
    """Five to fifteen daemons that want no endpoint of each other."""
    wanted, taken = draw.randrange(5, 16), set[int]()
    chosen: list[Probe] = []
    for one in draw.sample(probes, len(probes)):
        ports = {endpoint.port for endpoint in one.endpoints}
        if len(chosen) < wanted and not ports & taken and "@" not in one.unit and not one.program.startswith("/opt/"):
            chosen.append(one)
            taken |= ports
    return chosen


TEN_MINUTES = ("after ten minutes", "true", 600)


def looked_at(probes: list[Probe], number: int) -> Healthy:
    """Boot a host with these daemons and look at it at all moments; at the first of several hosts ten minutes later as well."""
    names = [one.name for one in probes]
    found = Healthy(names)
    with RealHost(f"h{number}", keep=tuple(names)) as host:
        for moment, script, wait in (*MOMENTS, *([TEN_MINUTES] if number == 0 else [])):
            host.run(script.format(units=" ".join(one.unit for one in probes)), check=False)
            time.sleep(wait)
            found.looks += 1
            found.alarms += _alarms(host, moment)
            if _unwell(host) != _named(host):
                found.uneven.append(moment)
            if moment.startswith(SINGLY):
                for one in probes:
                    found.looks += 1
                    found.alarms += _single(host, moment, one.name)
    return found


def _alarms(host: RealHost, moment: str) -> Iterator[Alarm]:
    done = host.program("why --all --json")
    failed = set(
        host.run("systemctl list-units --failed --plain --no-legend | awk '{print $1}'", check=False).stdout.split()
    )
    verdicts = json.loads(done.stdout) if done.stdout.strip() else {}
    for verdict in verdicts.get("verdicts", []):
        for cause in verdict.get("causes", []):
            if cause["service"] not in failed:
                yield Alarm(moment, cause["cause"], cause["service"], cause["says"])


def _single(host: RealHost, moment: str, name: str) -> Iterator[Alarm]:
    up = host.run(f"systemctl is-active {name}", check=False).stdout.strip() == "active"
    done = host.program(f"why {name} --json")
    if up and done.returncode != 0:
        causes = json.loads(done.stdout)["causes"] if done.stdout.startswith("{") else []
        yield from (Alarm(moment, cause["cause"], cause["service"], cause["says"]) for cause in causes)


def _unwell(host: RealHost) -> int:
    done = host.program("roster --all --unwell --json")
    return len(json.loads(done.stdout)["services"]) if done.stdout.startswith("{") else -1


def _named(host: RealHost) -> int:
    done = host.program("why --all --json")
    verdicts = json.loads(done.stdout).get("verdicts", []) if done.stdout.strip() else []
    return len(verdicts)

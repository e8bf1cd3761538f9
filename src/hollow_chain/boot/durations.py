"""How long starts take: a log-normal for each service, fitted to its recorded starts.

Few records say little about a service, so each fit is drawn toward the prior of its kind, the more the fewer there are
(normal-inverse-gamma on the logarithms, in its empirical form; see Gelman et al., "Bayesian Data Analysis", 3.3 and 5).
Starts that ran into a limit are records too: they would have taken longer than that (censored data).
"""

from __future__ import annotations

import math

import msgspec

from hollow_chain.boot.plan import Work
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.families import CONTROL, SYSTEMD
from hollow_chain.families.times import NO_LIMIT, start_limit

_GRID = 61
"""Points on each axis of the grid that the posterior is summed over: fine enough for the two digits of a second that are shown."""
SHORTEST = 1e-4
"""Seconds; the clock of records tells no less."""
_OUT_OF_TIME = (1053, 1460, 258)
"""Numbers of the control-manager family for a start that did not answer in time."""


class Prior(msgspec.Struct, frozen=True):
    """What is known of a kind of service before its own records are seen. Spreads are of the logarithm."""

    seconds: float
    between: float
    """From one service of the kind to another."""
    within: float = 0.15
    """From one start of a service to another."""
    weight: float = 4.0
    """Records that the prior spread counts for."""
    disk: float = 0.1
    cpu: float = 0.15


_DOUBT = 2.5
"""How far (in logarithms) a service may lie from its kind once it has a record of its own: services of one kind differ by far
more than what is expected of one that nothing is known of."""
AT_ONCE = ("target", "socket", "slice", "timer", "path", "scope", "automount", "remote")
"""Kinds whose start is nothing but a change of state."""
PRIORS: dict[str, Prior] = {
    "simple": Prior(0.004, 0.8),
    "exec": Prior(0.02, 0.8),
    "idle": Prior(0.01, 0.8),
    "forking": Prior(0.15, 1.1),
    "notify": Prior(0.15, 1.1),
    "notify-reload": Prior(0.15, 1.1),
    "dbus": Prior(0.1, 1.0),
    "oneshot": Prior(0.05, 1.2),
    "mount": Prior(0.03, 1.0, disk=0.8, cpu=0.1),
    "swap": Prior(0.03, 1.0, disk=0.8, cpu=0.1),
    "device": Prior(0.5, 0.8, disk=0.0, cpu=0.0),
    "shared-process": Prior(0.4, 1.0),
    "own-process": Prior(1.5, 1.0),
}
"""By start type (systemd.service(5), "Type="), else by kind; the last ones are of the control-manager family."""
_OTHER = {SYSTEMD.name: Prior(0.05, 1.2), CONTROL.name: Prior(1.2, 1.0)}


def prior_of(service: Service, host: Host) -> Prior:
    """The prior for a service."""
    style = service.program.style if service.program else ""
    return PRIORS.get(style) or PRIORS.get(service.kind) or _OTHER[host.manager]


def records_of(service: Service, host: Host) -> tuple[list[float], list[float]]:
    """Seconds of recorded starts that came up, and of those that were given up (they would have taken longer)."""
    done = [start.seconds for start in service.starts if start.outcome == "up" and start.seconds > 0]
    if not done:  # how long it took to fail is as good as is known
        done = [start.seconds for start in service.starts if start.outcome == "failed" and start.seconds > 0]
    given_up = [start.seconds for start in service.starts if start.outcome == "timeout" and start.seconds > 0]
    timed = any(start.seconds > 0 for start in service.starts)
    last = service.last
    if last is not None and not timed:
        took = last.took
        if took is None and last.started_at and last.up_at and last.up_at > last.started_at:
            took = (last.up_at - last.started_at).total_seconds()
        if took is None and last.exit_status and last.started_at and last.ended_at and not last.up_at:
            took = (last.ended_at - last.started_at).total_seconds()  # up to where it failed: as good as is known
        if took is not None and took > 0:
            done.append(took)
    given_up += _given_up_last(service, host)
    for boot in host.boots:
        begun, up = boot.tried_seconds.get(service.name), boot.up_seconds.get(service.name)
        if begun is not None and up is not None and up > begun and not timed:
            done.append(up - begun)
    return [max(seconds, SHORTEST) for seconds in done], given_up


def _given_up_last(service: Service, host: Host) -> list[float]:
    """The last try, where it ran into its limit or is still under way: at least how long it takes."""
    last = service.last
    if last is None or any(start.outcome == "timeout" for start in service.starts):
        return []
    if service.state == "starting" and last.started_at and host.read_at and host.read_at > last.started_at:
        return [(host.read_at - last.started_at).total_seconds()] if last.up_at is None and not last.restarts else []
    if last.result == "timeout" or last.error_number in _OUT_OF_TIME:
        limit = start_limit(service, host)
        return [limit.seconds] if limit is not None and limit.seconds < NO_LIMIT else []
    return []


def fitted(done: list[float], given_up: list[float], prior: Prior) -> tuple[float, float]:
    """Median seconds, and the spread of the logarithm of the next start, from *done* and *given_up* starts."""
    if not done and not given_up:
        return prior.seconds, math.hypot(prior.between, prior.within)
    logs = [math.log(seconds) for seconds in done]
    pull = (prior.within / _DOUBT) ** 2
    many = len(logs)
    middle = (pull * math.log(prior.seconds) + sum(logs)) / (pull + many) if many else math.log(prior.seconds)
    scatter = sum((one - middle) ** 2 for one in logs)
    spread = math.sqrt((prior.weight * prior.within**2 + scatter) / (prior.weight + many))
    if given_up:
        middle, spread = _censored(logs, [math.log(seconds) for seconds in given_up], prior, (middle, spread))
    # What is not known of the median widens what is expected of the next start.
    return math.exp(middle), spread * math.sqrt(1.0 + 1.0 / (pull + many)) if many else spread


def _censored(logs: list[float], beyond: list[float], prior: Prior, guess: tuple[float, float]) -> tuple[float, float]:
    """The median and the spread to be expected where some records only say "longer than" (the mean of the posterior, summed
    over a grid)."""
    import numpy as np

    from hollow_chain.boot.normal import log_chance

    low, high = min([guess[0], *beyond]) - 1.0, max([guess[0], *beyond]) + 3.0
    middle = np.linspace(low, high, _GRID)[:, None, None]
    log_spread = np.linspace(math.log(prior.within) - 1.5, math.log(prior.within) + 2.5, _GRID)[None, :, None]
    spread = np.exp(log_spread)
    told = (-0.5 * ((np.array(logs) - middle) / spread) ** 2 - log_spread).sum(axis=2)
    told += log_chance((middle - np.array(beyond)) / spread).sum(axis=2)
    told += (-0.5 * ((middle - math.log(prior.seconds)) / _DOUBT) ** 2)[:, :, 0]
    told += (-0.5 * ((log_spread - math.log(prior.within)) / 0.5) ** 2)[:, :, 0]
    weight = np.exp(told - told.max())
    weight /= weight.sum()
    return float((weight * middle[:, :, 0]).sum()), float((weight * spread[:, :, 0]).sum())


def work_of(service: Service, host: Host) -> Work:
    """How long a start of *service* takes, and what it spends the time on."""
    if service.kind in AT_ONCE:
        return Work()
    prior = prior_of(service, host)
    done, given_up = records_of(service, host)
    seconds, spread = fitted(done, given_up, prior)
    disk, cpu = prior.disk, prior.cpu
    used = service.last.cpu_seconds if service.last else None
    if used is not None and done:
        # What it has used up to now is the most that its start can have used.
        cpu = min(used / seconds, 1.0) if used < cpu * seconds or _fresh(service, host) else cpu
        disk = min(disk, 1.0 - cpu)
    return Work(seconds, spread, disk, cpu, len(done) + len(given_up))


def work_apart(service: Service, host: Host) -> Work | None:
    """How long a start takes that is no part of a boot, where that is on record and starts of boots are too; None otherwise. What the
    company of a boot costs, is not all known to a simulation."""
    alone = [start for start in service.starts if not start.at_boot]
    if len(alone) == len(service.starts) or not any(start.outcome == "up" for start in alone):
        return None
    return work_of(msgspec.structs.replace(service, starts=alone, last=None), host)


def _fresh(service: Service, host: Host) -> bool:
    """Whether its start is nearly all that it has done: what it used, it used for that."""
    last = service.last
    if last is None or last.up_at is None or host.read_at is None or not last.took:
        return False
    if service.state == "done" or (service.program and service.program.style == "oneshot"):
        return True
    return (host.read_at - last.up_at).total_seconds() < 2 * last.took

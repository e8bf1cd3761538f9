"""How the control-manager family boots: from the facts of a host to a plan.

The family's rules, as its programming interface documents them (service start types, dependencies, delayed start, failure
actions, numbered errors):

* *Automatic* services are started at boot, each once all that it depends on is up. *Manual* ones are started where one that
  starts depends on them. *Disabled* ones are not started by anything, and fail those that depend on them (errors 1058 and
  1068).
* *Delayed* ones are automatic ones that are started some minutes later.
* *On-event* services are started when their event comes; where the moment is known, the boot knows it.
* A need is an order at once: one is started only when the other is up, and fails where that has failed (1068), is not
  registered (1075), or waits for it in turn.
* One limit for all: a start that has not answered by then is given up (1053). Only a service that names its own limit has
  another.
* Failure actions are for services that *ended* (1067), not for starts that were given up or refused: one for the first, one
  for the second, one for all later failures.
"""

from __future__ import annotations

from hollow_chain.boot.making import Draft, Expected
from hollow_chain.boot.plan import BootPlan, Retry, Unit
from hollow_chain.causes import named
from hollow_chain.chain import Graph
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.families import CONTROL
from hollow_chain.families.times import delayed_after, start_limit
from hollow_chain.lazy import pattern

_UNUSABLE = {"refused": named.BAD_DEFINITION, "missing": named.NOT_REGISTERED}
_WHY_NOT = {"manual": named.MANUAL_NOT_STARTED, "event": named.EVENT_PENDING}
_ACTION = pattern(r"(?i)^\s*restart(?:\s+after\s+([0-9.]+)\s*(ms|s|min|h)?)?\s*$")
_UNITS = {"ms": 0.001, "s": 1.0, "min": 60.0, "h": 3600.0}


def plan_of(graph: Graph, host: Host, expected: Expected) -> BootPlan:
    """The next boot of *host*."""
    draft = _Boot(graph, host, expected)
    draft.started()
    return draft.made(draft.unit, draft.links)


def plan_of_start(graph: Graph, host: Host, expected: Expected, service: Service) -> BootPlan:
    """A start of one service on the running host, with all that it pulls in; what runs already stays as it is."""
    draft = _Boot(graph, host, expected)
    draft.running = frozenset(one.name for one in host.services if one.state == "running")
    draft.start(service, 0.0)
    return draft.made(draft.unit, draft.links)


class _Boot(Draft):
    def started(self) -> None:
        """Which services the boot starts, and from when on."""
        moments = {"automatic": 0.0, "delayed": delayed_after(self.host)}
        for startup, at in moments.items():
            for service in self.host.services:
                if service.startup == startup:
                    self.start(service, at)
        for service in self.host.services:
            due = [t.after_boot for t in service.triggers if t.after_boot is not None]
            if service.startup == "event" and due:
                self.start(service, min(due))

    def start(self, service: Service, at: float) -> None:
        """Start a service and, first, all that it depends on; what is pulled in starts no later than who pulls, and does
        not wait for the moment of its own group."""
        stack = [service]
        while stack:
            one = stack.pop()
            if one.name in self.running:
                continue
            if one.name in self.jobs and self.jobs[one.name] <= at:
                continue
            cause = _unusable(one)
            if cause:
                self.refused[one.name] = cause, one.name
                continue
            self.jobs[one.name] = at
            stack += [found for name in self._ahead(one) if (found := self.find(name)) is not None]

    def _ahead(self, service: Service) -> list[str]:
        return [
            self.known(link.to)
            for link in service.links
            if link.kind == "hard" and link.host in ("", self.host.name) and self.known(link.to) != service.name
        ]

    def unit(self, service: Service) -> Unit:
        """One unit, without its links."""
        spread = max((t.spread for t in service.triggers), default=0.0) if service.startup == "event" else 0.0
        return Unit(
            service.name,
            starts=service.name in self.jobs,
            at=self.jobs.get(service.name, 0.0),
            spread=spread if service.name in self.jobs else 0.0,
            apart=self.jobs.get(service.name, 0.0) > 0,
            limit=limit_of(service, self.host),
            retry=retry_of(service.failure_actions),
            why_not=_unusable(service) or _WHY_NOT.get(service.startup, ""),
        )

    def links(self, service: Service) -> dict[str, list[str]]:
        """The links of one unit: the field of :class:`Unit` and the names."""
        found: dict[str, list[str]] = {"waits": [], "needs": [], "up_first": []}
        if service.name not in self.jobs:
            return found
        for name in self._ahead(service):
            if name in self.running:
                continue
            found["needs" if name in self.jobs else "up_first"].append(name)
            if name in self.jobs:
                found["waits"].append(name)
        for link in service.links:
            other = self.known(link.to)
            near = link.host in ("", self.host.name) and other != service.name
            if link.kind in ("order", "soft") and near and other in self.jobs:
                found["waits"].append(other)
        return found


def limit_of(service: Service, host: Host) -> float:
    """Seconds after which a start is given up: the host's one limit, unless the service names its own."""
    limit = start_limit(service, host)
    return limit.seconds if limit is not None else CONTROL.start_seconds


def retry_of(actions: list[str]) -> Retry | None:
    """What is done after failures, from the words for the first, the second and the later ones."""
    waits: list[float] = []
    for action in actions:
        found = _ACTION.match(action)
        if not found:
            break
        waits.append(float(found[1]) * _UNITS[(found[2] or "s").lower()] if found[1] else 1.0)
    if not waits:
        return None
    # The last word stands for all later failures.
    return Retry(
        after=max(waits[0], 1e-3), most=1_000_000 if len(waits) == len(actions) else len(waits), on_timeout=False
    )


def _unusable(service: Service) -> str:
    """Why nothing can start it: a cause of the catalogue, or empty."""
    if service.startup == "disabled":
        return named.DISABLED
    return _UNUSABLE.get(service.definition.load, "") if service.definition else ""

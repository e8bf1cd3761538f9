"""Starts, stops and pauses of units, through the manager: what a run reaches, how it goes, and back to how it was."""

from __future__ import annotations

import contextlib
import signal
import time
from collections.abc import Callable
from typing import Any

from hollow_chain.chain import Graph, Node
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.systemd_calls import Manager

_MORE_SECONDS = 20.0
_LONGEST = 900.0
"""Seconds beyond its own limit that a start is waited for, since the manager first has to stop what is left of it; and how long any
wait is at most, as somebody sits in front of it."""
_STOPPABLE = (".service", ".socket", ".timer", ".path", ".mount")


class UnitRuns:
    """The runs of the units of one host. *graph* gives what is known of how they hang together, *status_of* what the kernel says of a
    process (proc(5), "status")."""

    def __init__(
        self, host: str, manager: Manager, graph: Callable[[], Graph], status_of: Callable[[int], str]
    ) -> None:
        self._host, self._manager, self._graph, self._status_of = host, manager, graph, status_of

    def reached(self, name: str) -> list[str]:
        """What a start or stop of a unit may start or stop along: what it pulls in, what clashes, what hangs on any of these."""
        graph = self._graph()
        found: dict[str, None] = {}
        stack: list[Node] = [graph.node(self._host, name)]
        while stack:
            node = stack.pop()
            if node.name in found or not node.name.endswith(_STOPPABLE):
                continue
            found[node.name] = None
            below = [e.head for e in graph.needs(node, ("hard", "soft", "clash"))]
            above = [e.tail for e in graph.needed_by(node, ("hard", "clash"))]
            starts = [s for s in graph.hosts[self._host].services if any(t.name == node.name for t in s.triggers)]
            on_event = [graph.node(self._host, service.name) for service in starts]
            stack += [one for one in (*below, *above, *on_event) if one.host == self._host and one.service is not None]
        return list(found)

    def up_among(self, names: list[str]) -> dict[str, bool]:
        """Which of these are up, or on their way; those that the manager does not know are left out."""
        found = {}
        for name in names:
            with contextlib.suppress(NotDone):
                found[name] = self._manager.unit(name).get("ActiveState") in ("active", "reloading", "activating")
        return found

    def renew(self, name: str) -> None:
        """Have it read its settings anew: by its own reload, else by the signal that it catches for that."""
        unit = self._manager.unit(name)
        if unit.get("CanReload"):
            self._manager.job("ReloadUnit", name, self._limit(unit))
        elif catches_hangup(self._status_of(int(unit.get("MainPID", 0)))):
            self._manager.call("KillUnit", "ssi", name, "main", int(signal.SIGHUP))
            time.sleep(0.5)
        else:
            raise NotDone(f"{name} takes no request to read anew; restart it")

    def go_on(self, name: str, frozen: bool) -> None:
        """Have it run on: what the manager froze it thaws, what a signal stopped goes on by another (signal(7))."""
        if frozen:
            self._manager.call("ThawUnit", "s", name)
        else:
            self._manager.call("KillUnit", "ssi", name, "all", int(signal.SIGCONT))

    def run_of(self, name: str) -> str:
        """What tells this run of a unit from all others (systemd.exec(5), ``INVOCATION_ID``)."""
        return bytes(self._manager.unit(name).get("InvocationID") or b"").hex()

    def is_frozen(self, name: str) -> bool:
        """Whether the manager has frozen it, or is about to."""
        return self._manager.unit(name).get("FreezerState") in ("frozen", "freezing")

    def pause_again(self, name: str, frozen: bool, run: str) -> None:
        """Pause it as it was, if *run* is still the run that it is in."""
        if self.run_of(name) != run:
            return  # the run that was paused is over: there is nothing to go back to
        if frozen:
            self._manager.call("FreezeUnit", "s", name)
        else:
            self._manager.call("KillUnit", "ssi", name, "main", int(signal.SIGSTOP))

    def _limit(self, unit: dict[str, Any]) -> float:
        microseconds = int(unit.get("TimeoutStartUSec", 0) or unit.get("TimeoutUSec", 0))
        return min(microseconds / 1e6 + _MORE_SECONDS, _LONGEST) if microseconds else _LONGEST

    def run(self, verb: str, name: str) -> None:
        """Start, stop or restart it, and wait for the end of that. Raises :class:`NotDone` where it is not up afterwards."""
        member = {"start": "StartUnit", "stop": "StopUnit", "restart": "RestartUnit"}[verb]
        if verb != "stop":
            for one in self._needed(name):
                self._clear(one)
        unit = self._manager.job(member, name, self._limit(self._manager.unit(name)))
        state, result = str(unit.get("ActiveState")), str(unit.get("Result", "success"))
        well = state in ("active", "reloading") or (state == "inactive" and result == "success" and _ends(unit))
        if verb != "stop" and not well:
            raise NotDone(
                f"{name} is {state} after its start ({self._why_not(name, result, unit.get('ExecMainStatus'))})"
            )

    def _why_not(self, name: str, result: str, status: Any) -> str:
        """What the manager says of a start that failed: of a need that is not up, or else of the unit itself."""
        for one in self._needed(name)[:0:-1]:
            unit = self._manager.unit(one)
            if unit.get("ActiveState") not in ("active", "reloading") and not _ends(unit):
                return f"{one} is {unit.get('ActiveState')}, result {unit.get('Result')}"
        return f"result {result}, exit status {status}"

    def _needed(self, name: str) -> list[str]:
        """A unit and what its start cannot do without: a bar on any of these would fail the start."""
        graph = self._graph()
        found, stack = {name: None}, [graph.node(self._host, name)]
        while stack:
            for edge in graph.needs(stack.pop(), ("hard",)):
                if not edge.crosses and edge.head.service is not None and edge.head.name not in found:
                    found[edge.head.name] = None
                    stack.append(edge.head)
        return [one for one in found if one.endswith(_STOPPABLE)]

    def _clear(self, name: str) -> None:
        """Clear the bar and the count of restarts of a unit that is not up. One that waits for a restart of its own is ended first:
        a start would join that restart, and wait for its moment."""
        if self._manager.unit(name).get("SubState") == "auto-restart":
            self._manager.job("StopUnit", name, _LONGEST)
        with contextlib.suppress(NotDone):
            self._manager.call("ResetFailedUnit", "s", name)

    def as_before(self, up: dict[str, bool]) -> None:
        """Stop and start until the same are up as :meth:`up_among` found. Raises :class:`NotDone` where one does not come up."""
        now = self.up_among(list(up))
        for name in [name for name, was in up.items() if not was and now.get(name)]:
            self._manager.job("StopUnit", name, _LONGEST)
        gone = []
        for name in [name for name, was in up.items() if was and not now.get(name)]:
            unit = self._manager.unit(name)
            if unit.get("LoadState") == "not-found":
                gone.append(name)
                continue
            self._clear(name)
            unit = self._manager.job("StartUnit", name, self._limit(unit))
            if unit.get("ActiveState") not in ("active", "reloading") and not _ends(unit):
                raise NotDone(f"{name} could not be started again: it is {unit.get('ActiveState')}")
        if gone:
            raise NotDone(
                f"{gone[0]} could not be started again: its definition is gone, as that of something that was started without a file goes"
                " with it (systemd-run); start it anew by hand"
            )


def _ends(unit: dict[str, Any]) -> bool:
    """Whether a unit is meant to end, so that being down is no failure (systemd.service(5), "oneshot")."""
    return unit.get("Type") == "oneshot" and not unit.get("RemainAfterExit")


def catches_hangup(status: str) -> bool:
    """Whether a process has a handler of its own for SIGHUP, whose default is to end it (proc(5), "SigCgt"; signal(7))."""
    caught = next((line.split()[1] for line in status.splitlines() if line.startswith("SigCgt:")), "0")
    return bool(int(caught, 16) >> (signal.SIGHUP - 1) & 1)

"""Steps on this machine: systemd over D-Bus, drop-in files of ours, owners and modes."""

from __future__ import annotations

import contextlib
import os
import signal
import socket
import time
from pathlib import Path
from typing import Any

from hollow_chain.chain import Graph, Node
from hollow_chain.facts.host import File, Snapshot
from hollow_chain.mend import files_kept as kept_files
from hollow_chain.mend import trees, unit_files
from hollow_chain.mend.hands import FirstStart, NotDone
from hollow_chain.mend.kept import FilesKept
from hollow_chain.mend.plan import Step
from hollow_chain.mend.systemd_calls import Manager

PLACE = Path("/var/lib/hollow-chain/mends")
SETTINGS = Path("/etc/systemd/system")
_LINKED = [SETTINGS, Path("/run/systemd/system")]
_MORE_SECONDS = 20.0
_LONGEST = 900.0
"""Seconds beyond its own limit that a start is waited for, since the manager first has to stop what is left of it; and how long any
wait is at most, as somebody sits in front of it."""
_MOST_TESTS, _TEST_SECONDS = 3, 30.0
"""Tests of a definition that are run when a person says that its settings are right, and how long each may take."""
_FILES = ("mode", "owner", "owners", "folder", "remove")
_DROPPED_IN = ("limit", "wait", "allow")
_RUNS = ("start", "stop", "restart")
_STOPPABLE = (".service", ".socket", ".timer", ".path", ".mount")


class SystemdHands:
    """This machine, now."""

    def __init__(self, target: str = "") -> None:
        self.host = socket.gethostname() or "this-host"
        self.machine = machine_id()
        self.place = PLACE
        self.named = ""
        self._target = target
        self._manager = Manager()
        self._kept: FilesKept = kept_files  # a module is as good as an object
        self._graph: Graph | None = None

    def lacks(self, steps: list[Step]) -> list[str]:
        """Everything that is done here is for the administrator only."""
        if os.geteuid() == 0:
            return []
        verbs = {step.act.verb for step in steps if step.act is not None}
        wanted = [
            ("to start and stop services", {"start", "stop", "restart", "renew", "continue"}),
            (f"to write in {SETTINGS}", {"startup", "limit", "wait", "allow", *unit_files.VERBS}),
            ("to have the definitions loaded anew", {"startup", "limit", "wait", "allow", "reload", *unit_files.VERBS}),
            ("to change owners, modes and files", set(_FILES)),
            (f"to keep a journal in {PLACE}", verbs),
        ]
        return [f"root's right {words}" for words, needed in wanted if verbs & needed]

    def facts(self, with_claims: bool = False, with_packages: bool = False) -> Snapshot:
        """This machine, read now."""
        from hollow_chain import __version__
        from hollow_chain.sources.asked import Asked
        from hollow_chain.sources.places import facts_from

        extra = (self._target,) if self._target else ()
        found = facts_from(None, Asked(extra, with_claims, with_packages), f"hollow-chain {__version__}")
        self._graph = Graph(found)
        return found

    def look(self, path: str) -> File | None:
        """What is at a path now."""
        from hollow_chain.reach.here import here
        from hollow_chain.sources.looks import Looker

        return Looker(here()).look(path)

    def own_test(self, service: str) -> str:
        """What the service's own program says of its settings, where its definition has it look at them before each start
        (systemd.service(5), "ExecStartPre="): the same program as that of the start, with other arguments."""
        unit = self._manager.unit(service)
        programs = {command[0] for command in unit.get("ExecStart", ())}
        tests = [command for command in unit.get("ExecStartPre", ()) if command[0] in programs and not command[2]]
        if unit.get("DynamicUser") or not tests:
            return ""
        name = f"hollow-chain-test-{os.getpid()}.service"
        for command in tests[:_MOST_TESTS]:
            arguments = [str(word) for word in command[1]]
            try:
                ended = self._manager.run_apart(name, arguments, unit, _TEST_SECONDS)
            except NotDone:
                return ""  # it is not known, and the start will tell
            if ended.get("ActiveState") == "failed":
                with contextlib.suppress(NotDone):
                    self._manager.call("ResetFailedUnit", "s", name)
                return f"its own test, '{' '.join(arguments)}', ends with status {ended.get('ExecMainStatus')}"
        return ""

    def facts_of(self, unit: str) -> Snapshot:
        """This machine, read now, with a unit that no list shows."""
        from hollow_chain.sources.asked import Asked
        from hollow_chain.sources.places import facts_from

        return facts_from(None, Asked((unit,)), "")

    def first_start(
        self, text: str, name: str, ports: list[int], limit: float | None
    ) -> contextlib.AbstractContextManager[FirstStart]:
        """Run the definition *text* once, as the service *name*, and watch; see :func:`~hollow_chain.mend.first_start.tried`."""
        from hollow_chain.mend.first_start import tried

        return tried(text, name, ports, limit)

    def _kept_tree(self, path: Path) -> kept_files.Kept:
        return trees.keep(path)

    def _give_tree(self, path: Path, kept: kept_files.Kept, user: str, group: str) -> None:
        trees.give(path, kept, user, group)

    def _tree_back(self, path: Path, kept: kept_files.Kept) -> None:
        trees.put_back(path, kept)

    def keep(self, step: Step, mend: str, number: str) -> dict[str, Any]:
        """What the step is going to change."""
        act = step.act
        if act is None:
            return {}
        if act.verb in _FILES:
            if act.verb == "owners":
                return {"paths": {act.path: self._kept_tree(Path(act.path))}}
            paths = [*self._kept.missing(Path(act.path)), Path(act.path)] if act.verb == "folder" else [Path(act.path)]
            kept = {str(path): self._kept.keep(path, act.verb == "remove") for path in dict.fromkeys(paths)}
            if act.verb == "remove" and kept[act.path]["kind"] not in ("file", "socket"):
                raise NotDone(
                    f"{act.path} is no file of up to {kept_files.MAX_KEPT >> 20} MiB, so it could not be put back"
                )
            if act.verb in ("mode", "owner") and kept[act.path]["kind"] not in ("file", "folder"):
                raise NotDone(f"{act.path} is no file or folder of its own: this has to be done by hand")
            return {"paths": kept, "aside": f"{mend}-{number}"}
        if act.verb in unit_files.VERBS:
            return unit_files.keep(act, step.old, (SETTINGS,))
        if act.verb in _DROPPED_IN:
            folder = SETTINGS / f"{act.service}.d"
            # The last word of all drop-in files is the one that holds (systemd.unit(5)).
            file = f"zz-hollow-chain-{mend}-{number}.conf"
            text = f"# Made by hollow-chain; undone by: hollow-chain mend --undo {mend}\n"
            return {"folder": str(folder), "folder_was": self._kept.keep(folder)["kind"], "file": file, "head": text}
        if act.verb == "startup":
            return {"links": self._kept.links_below(_LINKED), "units": sorted(self._names(act.service))}
        if act.verb in _RUNS:
            return {"up": self._up(self._reached(act.service))}
        if act.verb == "continue":
            unit = self._manager.unit(act.service)
            return {"frozen": unit.get("FreezerState") in ("frozen", "freezing"), "run": _run_of(unit)}
        return {}

    def _names(self, service: str) -> set[str]:
        found = self._graph.find(self.host, service) if self._graph is not None else None
        return {service, *(found.aliases if found is not None else ())}

    def _reached(self, name: str) -> list[str]:
        """What a start or stop of a unit may start or stop along: what it pulls in, what clashes, what hangs on any of these."""
        if self._graph is None:
            self.facts()
        assert self._graph is not None
        graph = self._graph
        found: dict[str, None] = {}
        stack: list[Node] = [graph.node(self.host, name)]
        while stack:
            node = stack.pop()
            if node.name in found or not node.name.endswith(_STOPPABLE):
                continue
            found[node.name] = None
            below = [e.head for e in graph.needs(node, ("hard", "soft", "clash"))]
            above = [e.tail for e in graph.needed_by(node, ("hard", "clash"))]
            starts = [s for s in graph.hosts[self.host].services if any(t.name == node.name for t in s.triggers)]
            on_event = [graph.node(self.host, service.name) for service in starts]
            stack += [one for one in (*below, *above, *on_event) if one.host == self.host and one.service is not None]
        return list(found)

    def _up(self, names: list[str]) -> dict[str, bool]:
        found = {}
        for name in names:
            with contextlib.suppress(NotDone):
                found[name] = self._manager.unit(name).get("ActiveState") in ("active", "reloading", "activating")
        return found

    def do(self, step: Step, kept: dict[str, Any]) -> None:
        """Carry out one step, and wait for its end."""
        act = step.act
        if act is None or act.verb == "reboot":
            raise NotDone(f"this has to be done by hand: {step.does}")
        if act.verb in _FILES:
            self._do_file(act.verb, Path(act.path), act.value, kept)
        elif act.verb in _DROPPED_IN:
            self._drop_in(
                act.service, Path(kept["folder"]), kept["file"], kept["head"] + _SECTIONS[act.verb](act.value)
            )
        elif act.verb in unit_files.VERBS:
            unit_files.do(act)
            self._manager.call("Reload")
        elif act.verb == "startup":
            self._startup(act.service, act.value)
        elif act.verb == "reload":
            self._manager.call("Reload")
        elif act.verb == "renew":
            self._renew(act.service)
        elif act.verb == "continue":
            self._continue(act.service, kept["frozen"])
        else:
            self._run(act.verb, act.service)

    def _do_file(self, verb: str, path: Path, value: str, kept: dict[str, Any]) -> None:
        was = kept["paths"][str(path)]
        user, _, group = value.partition(":")
        if verb == "mode":
            self._kept.set_mode(path, int(value, 8), was)
        elif verb == "remove":
            self._kept.set_aside(path, was, kept["aside"])
        elif verb == "folder":
            self._kept.make_folder(path, user, group)
        elif verb == "owners":
            self._give_tree(path, was, user, group)
        else:
            self._kept.set_owner(path, user, group, was)

    def settle(self, step: Step, kept: dict[str, Any]) -> None:
        """The mend has held: what was only set aside is destroyed. What it was is on the journal."""
        act = step.act
        if act is not None and act.verb == "remove" and "aside" in kept:
            self._kept.drop_aside(Path(act.path), kept["paths"][act.path], kept["aside"])

    def _drop_in(self, name: str, folder: Path, file: str, text: str) -> None:
        if not name.endswith(".service") or "/" in name or not all(c.isprintable() or c == "\n" for c in text):
            raise NotDone(f"the definition of {name} has to be changed by a person")
        if self._kept.keep(folder)["kind"] == "absent":
            self._kept.make_folder(folder, "0", "0")
        self._kept.write_new(folder / file, text.encode())
        self._manager.call("Reload")

    def _startup(self, name: str, value: str) -> None:
        for runtime in (False, True):
            self._manager.call("UnmaskUnitFiles", "asb", [name], runtime)
        if value in ("automatic", "delayed"):
            enabled = self._manager.call("EnableUnitFiles", "asbb", [name], False, False)
            if not enabled[0] and not enabled[1]:
                self._manager.call("Reload")
                raise NotDone(f"{name} has no [Install] section: nothing says what is to start it at boot")
        elif value == "manual":
            self._manager.call("DisableUnitFiles", "asb", [name], False)
        else:
            raise NotDone(f"no startup type {value!r} here")
        self._manager.call("Reload")

    def _renew(self, name: str) -> None:
        unit = self._manager.unit(name)
        if unit.get("CanReload"):
            self._manager.job("ReloadUnit", name, self._limit(unit))
        elif catches_hangup(self._status_of(int(unit.get("MainPID", 0)))):
            self._manager.call("KillUnit", "ssi", name, "main", int(signal.SIGHUP))
            time.sleep(0.5)
        else:
            raise NotDone(f"{name} takes no request to read anew; restart it")

    def _continue(self, name: str, frozen: bool) -> None:
        """Have it run on: what the manager froze it thaws, what a signal stopped goes on by another (signal(7))."""
        if frozen:
            self._manager.call("ThawUnit", "s", name)
        else:
            self._manager.call("KillUnit", "ssi", name, "all", int(signal.SIGCONT))

    def _pause_again(self, name: str, frozen: bool, run: str) -> None:
        if _run_of(self._manager.unit(name)) != run:
            return  # the run that was paused is over: there is nothing to go back to
        if frozen:
            self._manager.call("FreezeUnit", "s", name)
        else:
            self._manager.call("KillUnit", "ssi", name, "main", int(signal.SIGSTOP))

    def _status_of(self, process: int) -> str:
        """What the kernel says of a process (proc(5), "status"); empty where it is gone."""
        try:
            return Path(f"/proc/{process}/status").read_text()
        except OSError:
            return ""

    def _limit(self, unit: dict[str, Any]) -> float:
        microseconds = int(unit.get("TimeoutStartUSec", 0) or unit.get("TimeoutUSec", 0))
        return min(microseconds / 1e6 + _MORE_SECONDS, _LONGEST) if microseconds else _LONGEST

    def _run(self, verb: str, name: str) -> None:
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
        if self._graph is None:
            self.facts()
        assert self._graph is not None
        found, stack = {name: None}, [self._graph.node(self.host, name)]
        while stack:
            for edge in self._graph.needs(stack.pop(), ("hard",)):
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

    def take_back(self, step: Step, kept: dict[str, Any]) -> None:
        """Restore what was kept."""
        act = step.act
        if act is None:
            return
        if act.verb in _FILES:
            # What was made last goes first.
            for path, one in reversed(kept["paths"].items()):
                if act.verb == "owners":
                    self._tree_back(Path(path), one)
                elif act.verb == "remove" and "aside" in kept:
                    self._kept.back_from_aside(Path(path), one, kept["aside"])
                else:
                    self._kept.put_back(Path(path), one)
        elif act.verb in unit_files.VERBS:
            unit_files.take_back(act, kept)
            self._manager.call("Reload")
        elif act.verb in _DROPPED_IN:
            self._drop_out(Path(kept["folder"]), kept["folder_was"], kept["file"])
        elif act.verb == "startup":
            self._kept.put_links_back(_LINKED, kept["links"], set(kept["units"]))
            self._manager.call("Reload")
        elif act.verb in _RUNS:
            self._run_as_before(kept["up"])
        elif act.verb == "continue":
            self._pause_again(act.service, kept["frozen"], kept["run"])

    def _drop_out(self, folder: Path, was: str, file: str) -> None:
        self._kept.put_back(folder / file, {"kind": "absent"})
        if was == "absent":
            with contextlib.suppress(NotDone):  # somebody else put something into it meanwhile
                self._kept.put_back(folder, {"kind": "absent"})
        self._manager.call("Reload")

    def _run_as_before(self, up: dict[str, bool]) -> None:
        now = self._up(list(up))
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

    def let_pass(self, seconds: float) -> None:
        """Time passes by itself."""
        time.sleep(seconds)


def machine_id() -> str:
    """What tells this machine from all others, however it is called: its machine ID and its name (machine-id(5))."""
    try:
        number = Path("/etc/machine-id").read_text().strip()
    except OSError:
        number = ""
    return f"{number or 'no machine ID'} {socket.gethostname()}"


def _run_of(unit: dict[str, Any]) -> str:
    """What tells this run of a unit from all others (systemd.exec(5), ``INVOCATION_ID``)."""
    return bytes(unit.get("InvocationID") or b"").hex()


def _ends(unit: dict[str, Any]) -> bool:
    """Whether a unit is meant to end, so that being down is no failure (systemd.service(5), "oneshot")."""
    return unit.get("Type") == "oneshot" and not unit.get("RemainAfterExit")


def catches_hangup(status: str) -> bool:
    """Whether a process has a handler of its own for SIGHUP, whose default is to end it (proc(5), "SigCgt"; signal(7))."""
    caught = next((line.split()[1] for line in status.splitlines() if line.startswith("SigCgt:")), "0")
    return bool(int(caught, 16) >> (signal.SIGHUP - 1) & 1)


_SECTIONS = {
    "limit": lambda value: f"[Service]\nTimeoutStartSec={float(value):g}\n",
    "wait": lambda value: f"[Unit]\nWants={value}\nAfter={value}\n",
    "allow": lambda value: f"[Service]\n{value}\n",
}

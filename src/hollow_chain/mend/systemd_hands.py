"""Steps on this machine: systemd over D-Bus, drop-in files of ours, owners and modes."""

from __future__ import annotations

import contextlib
import os
import socket
import time
from pathlib import Path
from typing import Any

from hollow_chain.chain import Graph
from hollow_chain.facts.host import File, Snapshot
from hollow_chain.mend import files_kept as kept_files
from hollow_chain.mend import trees, unit_files
from hollow_chain.mend.hands import FirstStart, NotDone
from hollow_chain.mend.kept import FilesKept
from hollow_chain.mend.plan import Step
from hollow_chain.mend.systemd_calls import Manager
from hollow_chain.mend.unit_runs import UnitRuns

PLACE = Path("/var/lib/hollow-chain/mends")
SETTINGS = Path("/etc/systemd/system")
_LINKED = [SETTINGS, Path("/run/systemd/system")]
_MOST_TESTS, _TEST_SECONDS = 3, 30.0
"""Tests of a definition that are run when a person says that its settings are right, and how long each may take."""
_FILES = ("mode", "owner", "owners", "folder", "remove")
_DROPPED_IN = ("limit", "wait", "allow")
_RUNS = ("start", "stop", "restart")


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
            return {"up": self._runs.up_among(self._runs.reached(act.service))}
        if act.verb == "continue":
            return {"frozen": self._runs.is_frozen(act.service), "run": self._runs.run_of(act.service)}
        return {}

    def _names(self, service: str) -> set[str]:
        found = self._graph.find(self.host, service) if self._graph is not None else None
        return {service, *(found.aliases if found is not None else ())}

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
            self._runs.renew(act.service)
        elif act.verb == "continue":
            self._runs.go_on(act.service, kept["frozen"])
        else:
            self._runs.run(act.verb, act.service)

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

    @property
    def _runs(self) -> UnitRuns:
        return UnitRuns(self.host, self._manager, self._known, self._status_of)

    def _known(self) -> Graph:
        if self._graph is None:
            self.facts()
        assert self._graph is not None
        return self._graph

    def _status_of(self, process: int) -> str:
        """What the kernel says of a process (proc(5), "status"); empty where it is gone."""
        try:
            return Path(f"/proc/{process}/status").read_text()
        except OSError:
            return ""

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
            self._runs.as_before(kept["up"])
        elif act.verb == "continue":
            self._runs.pause_again(act.service, kept["frozen"], kept["run"])

    def _drop_out(self, folder: Path, was: str, file: str) -> None:
        self._kept.put_back(folder / file, {"kind": "absent"})
        if was == "absent":
            with contextlib.suppress(NotDone):  # somebody else put something into it meanwhile
                self._kept.put_back(folder, {"kind": "absent"})
        self._manager.call("Reload")

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


_SECTIONS = {
    "limit": lambda value: f"[Service]\nTimeoutStartSec={float(value):g}\n",
    "wait": lambda value: f"[Unit]\nWants={value}\nAfter={value}\n",
    "allow": lambda value: f"[Service]\n{value}\n",
}

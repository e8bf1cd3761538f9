"""Steps on a systemd host over SSH."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path

from hollow_chain.facts.host import File, Snapshot
from hollow_chain.mend.far_files import FarFilesKept
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.kept import Kept
from hollow_chain.mend.marks import is_own, marked_by, read_mark, text_of_mark
from hollow_chain.mend.plan import Step
from hollow_chain.mend.systemd_calls import Manager
from hollow_chain.mend.systemd_hands import SystemdHands
from hollow_chain.reach.ssh.machine import FarMachine
from hollow_chain.sources.looks import Looker

_POLL_SECONDS = 0.3
"""Between two looks at a job over the network: each is a conversation of its own."""
_MARKS = Path("/var/lib/hollow-chain/mends")
_MARK = "under-way.mark"


class FarSystemdHands(SystemdHands):
    """A systemd host over SSH. *machine* gives it, reached; *facts* are those of all hosts."""

    def __init__(self, host: str, machine: Callable[[], FarMachine], facts: Callable[[], Snapshot]) -> None:
        self.host = host
        self.named = ""
        self.place = _MARKS
        self._open, self._facts = machine, facts
        self._graph = None
        self._manager = Manager(machine, _POLL_SECONDS)
        self._kept = FarFilesKept(self._fresh)
        self.machine = machine().machine

    def _fresh(self) -> FarMachine:
        """The host, with nothing remembered of what stood where."""
        machine = self._open()
        machine.forget()
        return machine

    def lacks(self, steps: list[Step]) -> list[str]:
        """Everything that is done is for the administrator only."""
        if self._open().all_rights:
            return []
        return [
            f"root's rights on {self.host}: log in as root, or as somebody who may become root without being asked (sudo)"
        ]

    def facts(self, with_claims: bool = False, with_packages: bool = False) -> Snapshot:
        """This host, read now; the others as they were read last."""
        from hollow_chain.chain import Graph

        found = self._facts()
        self._graph = Graph(found)
        return found

    def look(self, path: str) -> File | None:
        """What is at a path now."""
        return Looker(self._fresh()).look(path)

    def _kept_tree(self, path: Path) -> Kept:
        raise NotDone(f"to give {path} away with all in it is done on {self.host} itself")

    def _status_of(self, process: int) -> str:
        with contextlib.suppress(OSError):
            return self._open().files.text(f"/proc/{process}/status") if process else ""
        return ""

    # The mark.

    def mark(self, mend: str) -> None:
        """Leave a mark that the *mend* is under way. Raises :class:`NotDone` where another one is."""
        found = self._kept.keep(_MARKS / _MARK, content=True)
        if found["kind"] == "file":
            other = self._mend_of(found)
            if not is_own(other, mend):
                raise NotDone(marked_by(self.host, other, str(_MARKS / _MARK)))
            return
        if self._kept.missing(_MARKS):
            self._kept.make_folder(_MARKS, "0", "0")
        self._kept.write_new(_MARKS / _MARK, text_of_mark(mend), 0o600)

    def unmark(self, mend: str) -> None:
        """Take the mark of the *mend* away."""
        found = self._kept.keep(_MARKS / _MARK, content=True)
        if found["kind"] == "file" and self._mend_of(found).get("mend") == mend:
            self._kept.put_back(_MARKS / _MARK, {"kind": "absent"})

    @staticmethod
    def _mend_of(kept: Kept) -> dict[str, str]:
        import base64

        with contextlib.suppress(ValueError, KeyError):
            return read_mark(base64.b64decode(kept["content"]))
        return {}

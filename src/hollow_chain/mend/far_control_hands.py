"""Steps on a host of the control-manager family over the network: by the same calls as there, through its remote interfaces."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from hollow_chain.facts.host import Snapshot
from hollow_chain.mend.control_hands import ControlHands
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.marks import is_own, marked_by, read_mark, text_of_mark
from hollow_chain.mend.plan import Step
from hollow_chain.reach.control import TEXT, Declined

_MARKS, _MARK = r"SOFTWARE\hollow-chain", "UnderWay"
"""Where in the machine's part of the registry a mark stands while a mend is under way."""


class FarControlHands(ControlHands):
    """A host over the network. *machine* gives it, reached; *facts* are those of all hosts."""

    def __init__(self, host: str, machine: Callable[[], Any], facts: Callable[[], Snapshot]) -> None:
        reached = machine()
        super().__init__(reached)
        self.host, self.machine = host, reached.machine
        self._open, self._facts = machine, facts

    @property
    def place(self) -> Path:
        """None: the journal is with the technician."""
        raise NotDone("nothing is kept on a host of this family but its mark")

    def lacks(self, steps: list[Step]) -> list[str]:
        """What is done over the network is for administrators of the host only."""
        verbs = {step.act.verb for step in steps if step.act is not None}
        if "reboot" in verbs:
            return [f"a reboot of {self.host}, which is done by hand"]
        return [] if self._open().all_rights else [f"an administrator's rights on {self.host}"]

    def facts(self, with_claims: bool = False, with_packages: bool = False) -> Snapshot:
        """This host, read now; the others as they were read last."""
        from hollow_chain.chain import Graph

        found = self._facts()
        self._graph = Graph(found)
        return found

    def mark(self, mend: str) -> None:
        """Leave a mark that the *mend* is under way. Raises :class:`NotDone` where another one is."""
        try:
            mark = self._mark()
            if mark is not None:
                if not is_own(mark, mend):
                    raise NotDone(marked_by(self.host, mark, rf"the value {_MARK} of HKEY_LOCAL_MACHINE\{_MARKS}"))
                return
            self._values.make(_MARKS)
            text = text_of_mark(mend).decode().strip()
            self._values.put(_MARKS, _MARK, (TEXT, f"{text}\0".encode("utf-16-le")))
        except Declined as declined:
            raise NotDone(f"no mark can be left on {self.host}: {declined.strerror or declined.number}") from None

    def unmark(self, mend: str) -> None:
        """Take the mark of the *mend* away."""
        with contextlib.suppress(Declined):
            mark = self._mark()
            if mark is not None and mark.get("mend") == mend:
                self._values.put(_MARKS, _MARK, None)

    def _mark(self) -> dict[str, str] | None:
        """What the mark there says; None where there is none."""
        found = {name.casefold(): value for name, value in self._values.all_of(_MARKS).items()}.get(_MARK.casefold())
        if found is None:
            return None
        return read_mark(found[1].decode("utf-16-le", "replace").rstrip("\0").encode("utf-8", "replace"))

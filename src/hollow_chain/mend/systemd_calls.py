"""Calls that change something on this machine, made to systemd over D-Bus (org.freedesktop.systemd1(5))."""

from __future__ import annotations

import time
from typing import Any

from hollow_chain.mend.hands import NotDone
from hollow_chain.reach.here import here
from hollow_chain.reach.interfaces import NotThere
from hollow_chain.sources.systemd.bus import MANAGER, MANAGER_PATH, Properties, call_on, escape, properties_on

CALL_SECONDS = 30.0
POLL_SECONDS = 0.05
"""How long a call may take (D-Bus itself gives up after 25 s), and how often a job is looked after: twenty times a second is no load,
and less than anybody notices."""


class Manager:
    """The service manager of this machine; each call is a conversation of its own."""

    def call(self, member: str, signature: str = "", *body: Any) -> list[Any]:
        """Call the manager; the answer's values. Raises :class:`NotDone` with its refusal."""
        answer = self._run(call_on, MANAGER, MANAGER_PATH, f"{MANAGER}.Manager", member, signature, list(body))
        if isinstance(answer, str):
            raise NotDone(f"systemd refuses {member}: {answer}")
        return list(answer)

    def unit(self, name: str) -> Properties:
        """All properties of a unit, which is loaded if it is not. Raises :class:`NotDone`."""
        answer = self._run(properties_on, f"{MANAGER_PATH}/unit/{escape(name)}")
        if isinstance(answer, str):
            raise NotDone(f"systemd does not tell of {name}: {answer}")
        return dict(answer)

    def _run(self, what: Any, *arguments: Any) -> Any:
        try:
            return here().converse(lambda bus: what(bus, *arguments), CALL_SECONDS)
        except NotThere as error:
            raise NotDone(f"cannot talk to systemd over D-Bus: {error}") from None

    def job(self, member: str, name: str, limit: float) -> Properties:
        """Queue a start, stop, restart or reload of a unit, and wait until nothing is queued for it any more; its properties
        then. Raises :class:`NotDone` where it is still under way after *limit* seconds."""
        self.call(member, "ss", name, "replace")
        deadline = time.monotonic() + limit
        while True:
            unit = self.unit(name)
            if not unit.get("Job", (0,))[0] and unit.get("ActiveState") not in (
                "activating",
                "deactivating",
                "reloading",
            ):
                return unit
            if not unit.get("Job", (0,))[0] and unit.get("SubState") == "auto-restart":
                return unit
            if time.monotonic() > deadline:
                raise NotDone(f"{name} is still {unit.get('ActiveState')} after {limit:.0f} s")
            time.sleep(POLL_SECONDS)

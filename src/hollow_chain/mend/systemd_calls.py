"""Calls that change something on a host, made to systemd over D-Bus (org.freedesktop.systemd1(5))."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from hollow_chain.mend.hands import NotDone
from hollow_chain.reach.here import here
from hollow_chain.reach.interfaces import NotThere, Reached
from hollow_chain.sources.systemd.bus import MANAGER, MANAGER_PATH, Properties, call_on, escape, properties_on

CALL_SECONDS = 30.0
POLL_SECONDS = 0.05
"""How long a call may take (D-Bus itself gives up after 25 s), and how often a job is looked after: twenty times a second is no load,
and less than anybody notices."""


_OF_AN_ACCOUNT = {
    "User": "s", "Group": "s", "SupplementaryGroups": "as", "WorkingDirectory": "s", "Environment": "as", "RootDirectory": "s",
}  # fmt: skip
"""What of a service says as whom, where and with what its commands run (systemd.exec(5)), by the type of its value."""


class Manager:
    """The service manager of a host; each call is a conversation of its own."""

    def __init__(self, reached: Callable[[], Reached] = here, poll: float = POLL_SECONDS) -> None:
        """*reached* gives the host; *poll* are the seconds between two looks at a job."""
        self._reached, self._poll = reached, poll

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

    def run_apart(self, name: str, arguments: list[str], like: Properties, limit: float) -> Properties:
        """Run a command once, as the service with the properties *like* would (its account, folder and environment), in a unit *name* of
        its own that is gone afterwards; the properties of that unit at its end. Raises :class:`NotDone`."""
        from dbus_fast import Variant

        kept = {key: (sign, like[key]) for key, sign in _OF_AN_ACCOUNT.items() if like.get(key)}
        wanted = {
            **kept,
            "Type": ("s", "oneshot"),
            "ExecStart": ("a(sasb)", [[arguments[0], arguments, False]]),
            "TimeoutStartUSec": ("t", int(limit * 1e6)),
            "NoNewPrivileges": ("b", True),
            "PrivateTmp": ("b", True),
        }
        properties = [[key, Variant(sign, value)] for key, (sign, value) in wanted.items()]
        self.call("StartTransientUnit", "ssa(sv)a(sa(sv))", name, "replace", properties, [])
        deadline = time.monotonic() + limit + CALL_SECONDS
        while (unit := self.unit(name)).get("ActiveState") in ("activating", "deactivating") or unit.get("Job", (0,))[
            0
        ]:
            if time.monotonic() > deadline:
                raise NotDone(f"{name} is still {unit.get('ActiveState')}")
            time.sleep(self._poll)
        return unit

    def _run(self, what: Any, *arguments: Any) -> Any:
        try:
            return self._reached().converse(lambda bus: what(bus, *arguments), CALL_SECONDS)
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
            time.sleep(self._poll)

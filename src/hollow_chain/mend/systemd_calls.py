"""Calls that change something on this machine, made to systemd over D-Bus (org.freedesktop.systemd1(5))."""

from __future__ import annotations

import asyncio
import time
from typing import Any

from hollow_chain.mend.hands import NotDone
from hollow_chain.sources.systemd_bus import MANAGER, MANAGER_PATH, Properties, call_on, escape, properties_on

CALL_SECONDS = 30.0
POLL_SECONDS = 0.05


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
        async def conversation() -> Any:
            from dbus_fast import BusType
            from dbus_fast.aio import MessageBus

            bus = MessageBus(bus_type=BusType.SYSTEM)
            await bus.connect()
            try:
                return await what(bus, *arguments)
            finally:
                bus.disconnect()

        loop = asyncio.new_event_loop()
        try:
            return loop.run_until_complete(asyncio.wait_for(conversation(), CALL_SECONDS))
        except TimeoutError:
            raise NotDone(f"systemd did not answer within {CALL_SECONDS:.0f} s") from None
        except (OSError, EOFError, AttributeError) as error:
            raise NotDone(f"cannot talk to systemd over D-Bus: {error}") from None
        finally:
            loop.close()

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

"""A conversation with a message bus, for as long as it answers."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable
from typing import Any, TypeVar

from hollow_chain.reach.interfaces import NotThere

T = TypeVar("T")
_MOST_SILENCES = 9
"""Silences that the whole conversation may take: three minutes where one answer is waited for 20 seconds. A host that has far too much to
do answers slowly, and is the one that is asked about; one that says a word now and then, and never what was asked, is given up."""


class BusIsSilent(NotThere):
    """It was asked, and nothing came, or not all in time."""


def spoken(opened: Callable[[], Any], talk: Callable[[Any], Awaitable[T]], silence: float) -> T:
    """What *talk* gives, which gets the bus that *opened* gives, connected.

    Raises :class:`BusIsSilent` where nothing is heard for *silence* seconds, or the whole takes nine times as long; what the connection
    raises goes through.
    """
    # asyncio.run would also take over the handling of Ctrl-C, which takes longer here than the conversation's start.
    loop = asyncio.new_event_loop()
    try:
        return loop.run_until_complete(_while_it_answers(opened, talk, silence))
    finally:
        loop.close()


async def _while_it_answers(opened: Callable[[], Any], talk: Callable[[Any], Awaitable[T]], silence: float) -> T:
    now = asyncio.get_running_loop().time
    begun = heard = now()

    def hear(_: object) -> None:
        nonlocal heard
        heard = now()

    async def whole() -> T:
        bus = opened()
        await bus.connect()
        bus.add_message_handler(hear)
        try:
            return await talk(bus)
        finally:
            bus.disconnect()

    work = asyncio.ensure_future(whole())
    try:
        while not work.done():
            if (left := heard + silence - now()) <= 0:
                raise BusIsSilent(f"no answer within {silence:.0f} s")
            if (at_all := begun + _MOST_SILENCES * silence - now()) <= 0:
                raise BusIsSilent(f"not all was answered within {_MOST_SILENCES * silence:.0f} s")
            await asyncio.wait({work}, timeout=min(left, at_all))
        return work.result()
    finally:
        work.cancel()
        with contextlib.suppress(asyncio.CancelledError, Exception):
            await work

"""The message bus of this machine (D-Bus), one conversation at a time."""

from __future__ import annotations

import asyncio
import errno
from collections.abc import Awaitable, Callable
from typing import Any, TypeVar

from hollow_chain.reach.interfaces import NotThere

T = TypeVar("T")


def converse(talk: Callable[[Any], Awaitable[T]], seconds: float) -> T:
    """See :meth:`hollow_chain.reach.interfaces.Reached.converse`."""

    async def whole() -> T:
        from dbus_fast import BusType
        from dbus_fast.aio import MessageBus

        bus = MessageBus(bus_type=BusType.SYSTEM)
        await bus.connect()
        try:
            return await talk(bus)
        finally:
            bus.disconnect()

    # asyncio.run would also take over the handling of Ctrl-C, which takes longer here than the conversation's start.
    loop = asyncio.new_event_loop()
    try:
        return loop.run_until_complete(asyncio.wait_for(whole(), seconds))
    except TimeoutError:
        raise NotThere(f"no answer within {seconds:.0f} s; is this machine going down?") from None
    except (OSError, EOFError, AttributeError) as error:  # AttributeError: the library meets a socket that is gone
        raise NotThere(_reason(error)) from None
    finally:
        loop.close()


def _reason(error: BaseException) -> str:
    gone = (errno.EBADF, errno.EPIPE, errno.ECONNRESET)
    if isinstance(error, EOFError) or getattr(error, "errno", None) in gone:
        return "the connection broke off; is this machine going down?"
    return str(getattr(error, "strerror", None) or error or type(error).__name__).lower()

"""The message bus of this machine (D-Bus), one conversation at a time."""

from __future__ import annotations

import errno
from collections.abc import Awaitable, Callable
from typing import Any, TypeVar

from hollow_chain.reach.conversation import BusIsSilent, spoken
from hollow_chain.reach.interfaces import NotThere

T = TypeVar("T")


def converse(talk: Callable[[Any], Awaitable[T]], seconds: float) -> T:
    """See :meth:`hollow_chain.reach.interfaces.Reached.converse`."""

    def opened() -> Any:
        from dbus_fast import BusType
        from dbus_fast.aio import MessageBus

        return MessageBus(bus_type=BusType.SYSTEM)

    try:
        return spoken(opened, talk, seconds)
    except BusIsSilent as error:
        raise NotThere(f"{error}; is this machine going down?") from None
    except (OSError, EOFError, AttributeError) as error:  # AttributeError: the library meets a socket that is gone
        raise NotThere(_reason(error)) from None


def _reason(error: BaseException) -> str:
    gone = (errno.EBADF, errno.EPIPE, errno.ECONNRESET)
    if isinstance(error, EOFError) or getattr(error, "errno", None) in gone:
        return "the connection broke off; is this machine going down?"
    return str(getattr(error, "strerror", None) or error or type(error).__name__).lower()

"""Errors of the Win32 interfaces, as the ones of ours that callers know."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from hollow_chain.reach.control import Declined

NOT_SUPPORTED = 50
"""``ERROR_NOT_SUPPORTED``: also for what an interface of this system lacks altogether."""


@contextmanager
def declining() -> Iterator[None]:
    """Turn what the interfaces raise into :class:`Declined`."""
    import pywintypes

    try:
        yield
    except Declined:
        raise
    except pywintypes.error as error:
        raise Declined(error.winerror, str(error.strerror).strip().rstrip(".")) from None
    except NotImplementedError as error:
        raise Declined(NOT_SUPPORTED, str(error) or "not supported") from None
    except OSError as error:
        number = getattr(error, "winerror", None) or error.errno or NOT_SUPPORTED
        raise Declined(number, str(error.strerror or error).strip().rstrip(".")) from None
    except (ValueError, TypeError, OverflowError, UnicodeError) as error:
        # What no call of the interface can carry: a name with a zero in it, one that is too long.
        raise Declined(87, str(error)) from None

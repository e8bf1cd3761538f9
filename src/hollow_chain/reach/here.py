"""The one place that knows which kind of machine this is."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from hollow_chain.trouble import Trouble

if TYPE_CHECKING:
    from hollow_chain.reach.interfaces import Reached


def here() -> Reached:
    """This machine, reached. Raises :class:`Trouble` (3) where it is of a kind that cannot be read yet."""
    if os.name != "posix":
        raise Trouble("a machine of this kind cannot be read live yet; give facts of it with --from")
    from hollow_chain.reach.posix.machine import ThisMachine

    return ThisMachine()

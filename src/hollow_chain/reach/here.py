"""The one place that knows which kind of machine this is."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from hollow_chain.trouble import Trouble

if TYPE_CHECKING:
    from hollow_chain.reach.interfaces import Reached


def here() -> Reached:
    """This machine, reached. Raises :class:`Trouble` (3) where it is of a kind that cannot be read yet."""
    if os.name == "nt":
        from hollow_chain.reach.win32.machine import Win32Machine

        return Win32Machine()
    if os.name != "posix":
        raise Trouble("a machine of this kind cannot be read live; give facts of it with --from")
    from hollow_chain.reach.posix.machine import ThisMachine

    return ThisMachine()


def began(process: int) -> int:
    """When a process of this machine began, in the ticks of the system; 0 where there is none."""
    if os.name == "nt":
        from hollow_chain.reach.win32.processes import began as began_there

        return began_there(process)
    from hollow_chain.reach.posix.processes import began as began_here

    return began_here(process)

"""The hands that carry steps out on this machine: the one place of mends that knows which kind it is."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from hollow_chain.mend.hands import Hands


def hands(unit: str = "") -> Hands:
    """The hands of this machine; *unit* is a name that its manager may know although no list shows it.

    Raises :class:`~hollow_chain.trouble.Trouble` where its manager cannot be asked.
    """
    if os.name == "nt":
        from typing import cast

        from hollow_chain.mend.control_hands import ControlHands
        from hollow_chain.reach.control import ControlReached
        from hollow_chain.reach.here import here

        return ControlHands(cast(ControlReached, here()))
    from hollow_chain.mend.systemd_hands import SystemdHands

    return SystemdHands(unit)

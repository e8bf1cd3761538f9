"""A reading of a host of this family, with what only such hosts can be asked."""

from __future__ import annotations

from typing import cast

from hollow_chain.reach.control import ControlReached
from hollow_chain.sources.reading import HostReading


def control(reading: HostReading) -> ControlReached:
    """How the host is reached."""
    return cast(ControlReached, reading.reached)

"""Moments and limits of starts, each worked out in one place."""

from __future__ import annotations

import math
from typing import NamedTuple

from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.families import family_of

DELAYED_SECONDS = 120.0
"""How long after boot the delayed group begins where the facts do not say (control-manager family)."""
AT_BOOT_SECONDS = 600.0
"""A start that begins no later than this after the boot is one of the boot: slow hosts are at it for minutes, and who sits down at
one starts nothing by hand before."""
ENDED_AT_ONCE = 10.0
"""Seconds within which a program that ends by itself cannot have done the work of a service, whatever it ends with."""
NO_LIMIT = math.inf


class Limit(NamedTuple):
    """The start limit that holds for a service."""

    seconds: float
    """:data:`NO_LIMIT` where starts may take for ever."""
    typed: str
    for_all: bool
    """Whether it is the one limit of all services of the host."""


def start_limit(service: Service, host: Host) -> Limit | None:
    """The start limit that holds, the service's own before the host's; where the facts tell neither, that which a host of the family
    has by itself, or None where it has one of its own for each service.

    Zero and less mean that there is none (systemd.service(5), ``TimeoutStartSec=``: "0 is the same as infinity").
    """
    for limits, for_all in ((service.limits, False), (host.limits, True)):
        if limits is not None and limits.start_seconds is not None:
            seconds = limits.start_seconds if limits.start_seconds > 0 else NO_LIMIT
            return Limit(seconds, limits.start_typed, for_all)
    family = family_of(host)
    return Limit(family.start_seconds, "", True) if family.limit_of_all_waits_for_boot else None


def delayed_after(host: Host) -> float:
    """How many seconds after the boot of *host* its delayed group begins."""
    known = host.limits.delayed_seconds if host.limits is not None else None
    return DELAYED_SECONDS if known is None else max(known, 0.0)

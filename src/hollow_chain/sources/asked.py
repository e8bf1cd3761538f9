"""What a reading of a host is wanted for."""

from __future__ import annotations

from typing import NamedTuple


class Asked(NamedTuple):
    """What is wanted beyond what every reading of a host has."""

    extra: tuple[str, ...] = ()
    """Names of services to ask for although the manager has not loaded them."""
    with_claims: bool = False
    """The endpoints that all services are set to listen on, not only those that failed."""
    with_packages: bool = False
    """Which package brought the files that are named: who means to change one has to know."""

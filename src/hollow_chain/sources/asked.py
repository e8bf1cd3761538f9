"""What a reading of a host is wanted for."""

from __future__ import annotations

from collections.abc import Callable, Collection
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from hollow_chain.facts.host import File, Host
    from hollow_chain.facts.observed import Observation
    from hollow_chain.facts.service import Service


class Asked(NamedTuple):
    """What is wanted beyond what every reading of a host has."""

    extra: tuple[str, ...] = ()
    """Names of services to ask for although the manager has not loaded them."""
    with_claims: bool = False
    """The endpoints that all services are set to listen on, not only those that failed."""
    with_packages: bool = False
    """Which package brought the files that are named: who means to change one has to know."""
    observed: tuple[Observation, ...] = ()
    """Starts that were watched: what their calls were about is looked at, too."""
    supposed: Callable[[Host, Callable[[str], File | None]], Service] | None = None
    """Makes, of what was read so far and a look at paths, a service that is not there and is to be looked at as if it were: its
    program, files, account and claims."""
    closely: Callable[[Host], Collection[str]] | None = None
    """Chooses, of what the manager tells, the services that are looked at as closely as those that failed: records, starts, files."""
    with_changes: bool = False
    """What was changed lately, of all services."""
    with_versions: bool = False
    """Which versions there are of packages, definitions and settings: readings of many hosts are compared by these."""

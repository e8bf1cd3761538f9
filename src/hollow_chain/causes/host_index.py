"""Look-ups into the facts of one host."""

from __future__ import annotations

from functools import cached_property
from typing import Literal

from hollow_chain.causes.boot_records import boots_on_record
from hollow_chain.causes.sockets import Sockets
from hollow_chain.causes.standing import up_targets
from hollow_chain.facts.habits import own_names_of
from hollow_chain.facts.host import BootRecord, Event, File, Host, HostAccount
from hollow_chain.facts.service import Service
from hollow_chain.families import Family, family_of
from hollow_chain.wording.observed import records_of


class HostIndex:
    """Look-ups into one host, each built when it is first used."""

    def __init__(self, host: Host) -> None:
        self.host = host
        self.since_last_start: dict[str, list[Event]] = {}
        self.told: dict[str, list[Event]] = {}
        self.own: dict[str, list[Event]] = {}
        self.final: dict[str, list[Event]] = {}
        """What :meth:`Case.last_events` has found, by the name of the service."""
        self.outlived: dict[str, dict[int, Literal["another", "further"]]] = {}
        """Lines (by identity) that its last run went on after, by the name of the service."""
        self.before_main: dict[str, set[int]] = {}
        """Lines (by identity) of steps before its main program that this went on without, by the name of the service."""

    @cached_property
    def files(self) -> dict[str, File]:
        """Files by path, in the one form that the host's family tells apart (see :meth:`file`)."""
        return {self._form(file.path): file for file in self.host.files}

    @cached_property
    def own_names(self) -> dict[str, set[str]]:
        """The services of each name that is a service's own."""
        found: dict[str, set[str]] = {}
        for service in self.host.services:
            for name in own_names_of(service):
                found.setdefault(name, set()).add(service.name)
        return found

    @cached_property
    def fixed(self) -> dict[str, File]:
        """Those that a flag keeps from being changed, by path: hardly ever any."""
        return {file.path: file for file in self.host.files if file.fixed}

    def file(self, path: str) -> File | None:
        """What was seen at *path*. The control-manager family takes both slashes and any case of letters for the same."""
        return self.files.get(self._form(path))

    def _form(self, path: str) -> str:
        return self.family.path(path)

    @cached_property
    def events(self) -> dict[str, list[Event]]:
        """Records by service, oldest first."""
        by_service: dict[str, list[Event]] = {}
        seen = [record for one in self.host.observed or () for record in records_of(one)]
        for event in (*self.host.events, *seen):
            by_service.setdefault(event.service, []).append(event)
        for events in by_service.values():
            events.sort(key=lambda event: event.at)
        return by_service

    @cached_property
    def boots(self) -> list[BootRecord]:
        """The boots on record, the present one among them."""
        return boots_on_record(self.host)

    @cached_property
    def sockets(self) -> Sockets:
        """Who listens where, and who is set to."""
        return Sockets(self.host)

    @cached_property
    def family(self) -> Family:
        """The family of its manager."""
        return family_of(self.host)

    @cached_property
    def license_servers(self) -> frozenset[str]:
        """The services that are license servers."""
        return frozenset(server.service for server in self.host.license_servers)

    @cached_property
    def up_targets(self) -> frozenset[str]:
        """The targets that have been reached."""
        return up_targets(self.host)

    @cached_property
    def waiting(self) -> list[Service]:
        """The services whose job waits in the manager's queue."""
        return [s for s in self.host.services if s.job is not None and s.job.state == "waiting"]

    @cached_property
    def accounts(self) -> dict[tuple[str, str], HostAccount]:
        """Accounts by kind and name."""
        return {(account.kind, account.name): account for account in self.host.accounts}

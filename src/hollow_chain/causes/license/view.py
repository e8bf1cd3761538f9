"""One license server as a rule sees it: its facts, its file, and what is wanted of it."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta
from functools import cached_property

import msgspec

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import FITS, Evidence
from hollow_chain.causes.rule import NOT_UP
from hollow_chain.causes.standing import Standing
from hollow_chain.facts.host import Event
from hollow_chain.facts.license import Entitlement, LicenseFile, LicenseServer
from hollow_chain.facts.service import SeatWant

SERVER, FILE = "license server", "license file"
ENDS = (
    "exits-with-error",
    "exits-at-once",
    "crash-loop",
    "config-rejected",
    "start-rate-limited",
    "path-missing",
    "access-denied",
)
NEW_FILE = "Ask the publisher for a new license file{0}; nothing in the file can be edited for that."
ANY_STATE = ("running", *NOT_UP)


class ServerView(msgspec.Struct, frozen=True, dict=True):
    """One license server as a rule sees it: its facts, its file, and what is wanted of it."""

    case: Case
    server: LicenseServer

    @cached_property
    def file(self) -> LicenseFile | None:
        """What was seen of the license file that it is given."""
        known = self.case.host.license_files
        same = [f for f in known if f.path == self.server.file] if self.server.file else known[:1]
        return same[0] if same else None

    @cached_property
    def wants(self) -> list[SeatWant]:
        """What the service above wants of it."""
        above = self.case.needed_from
        service = above.service if above is not None else None
        return (
            [w for w in service.seats if not w.server or w.server == self.case.node.name] if service is not None else []
        )

    @property
    def up(self) -> bool:
        """Whether it runs and is not known to be silent."""
        return self.case.standing is Standing.UP and self.server.answers is not False

    @cached_property
    def denied(self) -> bool:
        """Whether the service above did not get what it wants: it is not well. Without one above: true."""
        above = self.case.needed_from
        return above is None or not self.case.facts.standing(above).well

    def of_file(self, want: SeatWant) -> list[Entitlement]:
        """The entitlements of the file for that product and feature."""
        return [e for e in self.file.entitlements if _is_for(e, want)] if self.file is not None else []

    def of_server(self, want: SeatWant) -> list[Entitlement]:
        """The entitlements that the server offers for that product and feature."""
        return [e for e in self.server.entitlements if _is_for(e, want)]

    def wanted(self) -> list[Entitlement]:
        """The entitlements of the file that bear on what is asked: those that are wanted, else all."""
        if self.wants:
            return [e for want in self.wants for e in self.of_file(want)]
        return list(self.file.entitlements) if self.file is not None else []


def _is_for(entitlement: Entitlement, want: SeatWant) -> bool:
    return (entitlement.product, entitlement.feature) == (want.product, want.feature)


def views(case: Case) -> Iterator[ServerView]:
    """The server behind the node, where it is one."""
    for server in case.host.license_servers:
        if server.service == case.node.name and case.registered:
            yield ServerView(case, server)


def title(entitlement: Entitlement | SeatWant) -> str:
    """An entitlement as it is spoken of."""
    feature = f"/{entitlement.feature}" if entitlement.feature else ""
    return f"{entitlement.product}{feature}{f'@{entitlement.version}' if entitlement.version else ''}"


def read(view: ServerView, fact: str, bears: str) -> Evidence:
    file = view.file
    return view.case.seen(
        fact, f"{FILE} {file.path}" if file is not None else FILE, file.changed_at if file else None, bears
    )


def told(view: ServerView, fact: str, bears: str) -> Evidence:
    return view.case.seen(fact, SERVER, view.server.served_at, bears)


def log_words(view: ServerView, *words: str) -> list[Evidence]:
    """The last line of the server's log (or of the application's) that has one of *words*."""
    above = view.case.needed_from
    events: list[Event] = [*view.case.last_events()]
    if above is not None and above.service is not None:
        events += Case(view.case.facts, above).last_events()
    said = [e for e in events if any(word in e.text.lower() for word in words)]
    return [view.case.quoted(said[-1], FITS)] if said else []


def last_moment(day: datetime) -> datetime:
    """An entitlement holds to the end of its last day."""
    return day + timedelta(days=1) if (day.hour, day.minute, day.second) == (0, 0, 0) else day


def issued_ahead(entitlement: Entitlement, now: datetime) -> bool:
    return entitlement.issued_at is not None and entitlement.issued_at > now + timedelta(days=1)


def matters(view: ServerView) -> bool:
    """Whether what the file or server offers is to be held against what is wanted: somebody did not get it, or asks."""
    return (bool(view.wants) and view.denied) or view.case.asked


def holds(entitlement: Entitlement, now: datetime) -> bool:
    return not (entitlement.ends_at is not None and last_moment(entitlement.ends_at) < now) and not (
        entitlement.starts_at is not None and entitlement.starts_at > now
    )

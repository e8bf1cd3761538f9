"""License facts of a host: files, entitlements, servers as they answer."""

from __future__ import annotations

from hollow_chain.facts.part import Listed, Moment, Part, Port


class PublisherDaemon(Part, gc=False):
    """A license daemon as the license file names it, or as the server reports it."""

    name: str
    program: str = ""
    port: Port | None = None
    """None: any free one."""
    up: bool | None = None
    service: str = ""
    says: str = ""
    """What the front process says of it."""


class Entitlement(Part, gc=False):
    """A right to use, as in ISO/IEC 19770-3: a product (and feature), how many seats, from when until when."""

    product: str
    feature: str = ""
    version: str = ""
    seats: int | None = None
    used: int | None = None
    starts_at: Moment | None = None
    ends_at: Moment | None = None
    host_bound: bool = False
    daemon: str = ""
    issued_at: Moment | None = None
    signature_holds: bool | None = None


class LicenseFile(Part):
    """One copy of a license file."""

    path: str
    exists: bool = True
    digest: str = ""
    changed_at: Moment | None = None
    error: str = ""
    server_host: str = ""
    host_ids: Listed[str] = []
    port: Port | None = None
    daemons: Listed[PublisherDaemon] = []
    entitlements: Listed[Entitlement] = []
    signature_holds: bool | None = None
    copies: Listed[str] = []
    """Other places where the same file should lie."""
    near_files: Listed[str] = []
    """Of an absent file: license files beside where it should be, under other names."""


class LicenseServer(Part):
    """A license server: what it was given, and what it answers."""

    service: str
    file: str = ""
    port: Port | None = None
    answers: bool | None = None
    served_digest: str = ""
    served_at: Moment | None = None
    daemons: Listed[PublisherDaemon] = []
    entitlements: Listed[Entitlement] = []
    log: Listed[str] = []

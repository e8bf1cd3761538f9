"""The boots of a host as they are on record, the present one included."""

from __future__ import annotations

from hollow_chain.causes.standing import failed_last
from hollow_chain.facts.host import BootRecord, Host

SAME_BOOT_SECONDS = 5.0
"""Two moments of boot this near are of one boot: the clock of a host is set right in its first seconds."""


def boots_on_record(host: Host) -> list[BootRecord]:
    """The recorded boots; the present one is made up from the last runs where it is not among them."""
    records = list(host.boots)
    if host.boot_at is None or any(abs((r.at - host.boot_at).total_seconds()) < SAME_BOOT_SECONDS for r in records):
        return records
    made = BootRecord(at=host.boot_at)
    for service in host.services:
        last = service.last
        if last is None:
            continue
        if last.started_at is not None and last.started_at >= host.boot_at:
            made.tried_seconds[service.name] = (last.started_at - host.boot_at).total_seconds()
            if service.state not in ("running", "done", "starting") and failed_last(service):
                made.failed.append(service.name)
                continue
        if last.up_at is not None and last.up_at >= host.boot_at:
            made.up_seconds[service.name] = (last.up_at - host.boot_at).total_seconds()
    return [*records, made]

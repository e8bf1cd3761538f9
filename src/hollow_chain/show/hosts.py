"""A file of hosts that was checked, for a person and as a document."""

from __future__ import annotations

from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document, when
from hollow_chain.show.page import Page, age
from hollow_chain.show.signs import SOLID, WEAK
from hollow_chain.sources.hosts_check import CheckedHost, CheckedHosts
from hollow_chain.wording.counts import counted

_MOST_UNREAD = 5
"""What could not be read of one host, listed line by line: more is counted."""


def show_hosts(page: Page, found: CheckedHosts) -> None:
    """Write each host, those that were not read first, and what leads nowhere."""
    away = [one for one in found.hosts if one.host is None]
    page.line((f"{counted(len(found.hosts), 'host')}, {len(found.hosts) - len(away)} read", "bold"))
    width = max((len(clean(one.name, 40)) for one in found.hosts), default=0)
    for one in [*away, *(one for one in found.hosts if one.host is not None)]:
        _show_host(page, one, width)
    if found.loose:
        page.heading("Leads nowhere")
        for loose in found.loose:
            page.line(
                f"{page.sign(WEAK)} ", (clean(loose.where, 80), "bold"), f": {clean(loose.what, 200)}", indent=2, hang=4
            )
    page.legend()


def _show_host(page: Page, one: CheckedHost, width: int) -> None:
    name = clean(one.name, 40).ljust(width)
    if one.host is None:
        page.line(
            f"{page.sign(WEAK)} ",
            (name, "bold"),
            f"  {clean(one.way, 120)}: {clean(one.why, 300)}",
            indent=2,
            hang=width + 4,
        )
        return
    host = one.host
    asked = f"as {clean(one.asked_as, 120)}" if one.asked_as else f"its snapshot, {age(host.read_at)}"
    about = ", ".join(word for word in (clean(host.system, 60), counted(len(host.services), "service")) if word)
    page.line(
        f"{page.sign(SOLID)} ",
        (name, "bold"),
        f"  {asked}; {about}; {one.seconds:.1f} s",
        (f"  {clean(one.way, 120)}", "dim"),
        indent=2,
        hang=width + 4,
    )
    for item in host.unread[:_MOST_UNREAD]:
        page.line(
            f"not read: {clean(item.what, 120)}{f' ({clean(item.why, 200)})' if item.why else ''}",
            indent=width + 6,
            hang=2,
        )
    if len(host.unread) > _MOST_UNREAD:
        page.line(f"and {len(host.unread) - _MOST_UNREAD} more; --json has them all", indent=width + 6)


def hosts_document(found: CheckedHosts) -> Document:
    """``hosts check --json``."""
    return {
        "format": "hollow-chain/hosts-check",
        "version": 1,
        "well": found.well,
        "hosts": [_entry(one) for one in found.hosts],
        "loose": [{"where": loose.where, "what": loose.what} for loose in found.loose],
    }


def _entry(one: CheckedHost) -> Document:
    host = one.host
    return {
        "host": one.name,
        "at": one.way,
        "read": host is not None,
        "why_not": one.why,
        "asked_as": one.asked_as,
        "calls_itself": host.name if host is not None else "",
        "system": host.system if host is not None else "",
        "services": len(host.services) if host is not None else 0,
        "unread": [f"{item.what}: {item.why}" if item.why else item.what for item in host.unread]
        if host is not None
        else [],
        "read_at": when(host.read_at) if host is not None else None,
        "seconds": round(one.seconds, 3),
    }

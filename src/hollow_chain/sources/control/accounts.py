"""The accounts that services run under: whether they are there, and may log on."""

from __future__ import annotations

from hollow_chain.facts.host import HostAccount, Unread
from hollow_chain.reach.control import Declined
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.reading import HostReading

BUILT_IN = ("LocalSystem", "LocalService", "NetworkService")
_MOST = 200
"""Accounts that are looked up: a host has a few of its own, and each may ask a domain."""


def add(reading: HostReading) -> None:
    """The accounts that services name; those that every system has need no look."""
    host, book = reading.host, control(reading).account_book
    names = {s.account.user for s in host.services if s.account is not None and s.account.user}
    for name in sorted(names)[:_MOST]:
        if name in BUILT_IN or name.casefold().startswith("nt service\\"):
            host.accounts.append(HostAccount(name=name, may_run_services=True))
            continue
        try:
            found = book.look_up(name)
        except Declined as declined:
            host.unread.append(Unread(what=f"the account {name}", why=declined.strerror or str(declined)))
            continue
        if found is None:
            host.accounts.append(HostAccount(name=name, exists=False))
            continue
        shut = None if found.disabled is None and found.locked is None else bool(found.disabled or found.locked)
        host.accounts.append(
            HostAccount(
                name=name,
                kind="group" if found.kind == "group" else "user",
                locked=shut,
                expires_at=found.expires_at,
                may_run_services=found.may_run_services,
            )
        )

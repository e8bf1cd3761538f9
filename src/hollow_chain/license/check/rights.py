"""The entitlements of a license file: their signatures, seats and days."""

from __future__ import annotations

from datetime import timedelta

from hollow_chain.license import file as form
from hollow_chain.license.check.keys import FITS, TEXTS, right_keys, tables_of
from hollow_chain.license.check.problems import (
    ALTERED,
    EDIT,
    MACHINE,
    MOST_SEATS,
    NEW_FILE,
    NOTHING,
    SOON_DAYS,
    FileLook,
    Table,
)
from hollow_chain.license.places import Way


def check_entitlements(look: FileLook, document: Table, keys: dict[str, str]) -> None:
    server = document.get("server")
    ids = server.get("host_ids") if isinstance(server, dict) else None
    host_ids = ids if ids is not None and FITS[TEXTS](ids) else []
    known = {str(d["name"]): str(d["key"]) for d in tables_of(document, "daemon") if "name" in d and "key" in d}
    known.update(keys)
    seen: dict[str, int] = {}
    for number, entitlement in enumerate(tables_of(document, "entitlement")):
        way: Way = ("entitlement", number)
        if not right_keys(look, "entitlement", entitlement, way):
            continue
        said = str(form.canonical(entitlement, host_ids))
        if said in seen:
            says = f"it is the same as number {seen[said] + 1}; its seats count once"
            look.told("duplicate", says, EDIT, way, True)
        seen.setdefault(said, number)
        _check_one(look, entitlement, host_ids, known, way)


def title(entitlement: Table) -> str:
    """An entitlement as it is spoken of: product, feature, version."""
    feature = f"/{entitlement['feature']}" if entitlement.get("feature") else ""
    version = f"@{entitlement['version']}" if entitlement.get("version") else ""
    return f"{entitlement.get('product')}{feature}{version}"


def _check_one(look: FileLook, entitlement: Table, host_ids: list[str], keys: dict[str, str], way: Way) -> None:
    what, daemon = title(entitlement), entitlement["daemon"]
    good = True
    if daemon not in keys:
        look.told(
            "daemon",
            f"{what}: no [[daemon]] of the name {daemon!r} is there",
            EDIT,
            (*way, "daemon"),
            cause="license-daemon-missing",
        )
        return
    if not form.holds(entitlement, host_ids, keys[daemon]):
        good = False
        says = f"{what}: what stands here is not what the publisher signed (the entitlement, or a host ID, was changed)"
        look.told("signature", says, NEW_FILE, (*way, "signature"), cause=ALTERED)
    seats = entitlement["seats"]
    if not 1 <= seats <= MOST_SEATS:
        good = False
        look.told(
            "seats", f"{what}: {str(seats)[:20]} seats; from 1 to {MOST_SEATS} are possible", NEW_FILE, (*way, "seats")
        )
    if entitlement.get("bound_to", form.FLOATING) not in (form.FLOATING, form.TO_HOST):
        good = False
        look.told(
            "bound",
            f"{what}: bound_to is {entitlement['bound_to']!r}, not 'floating' or 'host'",
            NEW_FILE,
            (*way, "bound_to"),
        )
    if _check_days(look, entitlement, what, way) and good:
        look.valid.append(entitlement)


def _check_days(look: FileLook, entitlement: Table, what: str, way: Way) -> bool:
    """Whether the entitlement holds today, by the clock of the machine."""
    today = look.now.date()
    begins, ends, issued = entitlement.get("from"), entitlement.get("until"), entitlement.get("issued")
    if begins and ends and ends < begins:
        look.told("days", f"{what}: it ends ({ends}) before it begins ({begins})", NEW_FILE, (*way, "until"))
        return False
    if issued and issued > today + timedelta(days=1):
        says = f"{what}: it was issued on {issued}, and the clock of this machine says {today}: the clock was set back"
        look.told("clock", says, MACHINE, (*way, "issued"), cause="license-clock-wrong")
        return False
    if ends and ends < today:
        says = f"{what}: it expired on {ends}, {_days(today - ends)} ago"
        look.told("expired", says, NEW_FILE, (*way, "until"), cause="license-expired")
        return False
    if begins and begins > today:
        look.told(
            "not-yet",
            f"{what}: it holds from {begins} on, in {_days(begins - today)}",
            NOTHING,
            (*way, "from"),
            cause="license-expired",
        )
        return False
    if ends and ends - today <= timedelta(days=SOON_DAYS):
        look.told(
            "expires-soon",
            f"{what}: it expires on {ends}, in {_days(ends - today)}",
            NEW_FILE,
            (*way, "until"),
            warning=True,
        )
    return True


def _days(span: timedelta) -> str:
    return f"{span.days} day{'' if span.days == 1 else 's'}"

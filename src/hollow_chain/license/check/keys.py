"""The form of a license file: which keys there have to be, and of which type."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date, datetime
from typing import Any

from hollow_chain.license import file as form
from hollow_chain.license.check.problems import EDIT, MOST_TABLES, NEW_FILE, FileLook, Table
from hollow_chain.license.places import Way

# Form: what keys there have to be, and of which type.
TEXT, WHOLE, _DAY, TEXTS, _PORT = "a text", "a whole number", "a date", "a list of texts", 'a port or "any"'
_KEYS: dict[str, dict[str, tuple[str, bool]]] = {
    "": {"format": (TEXT, True), "version": (WHOLE, True)},
    "server": {"host": (TEXT, True), "host_ids": (TEXTS, True), "port": (WHOLE, True), "copies": (TEXTS, False)},
    "daemon": {"name": (TEXT, True), "program": (TEXT, True), "key": (TEXT, True), "port": (_PORT, False)},
    "entitlement": {
        "daemon": (TEXT, True), "product": (TEXT, True), "seats": (WHOLE, True), "signature": (TEXT, True),
        "feature": (TEXT, False), "version": (TEXT, False), "from": (_DAY, False), "until": (_DAY, False),
        "bound_to": (TEXT, False), "issued": (_DAY, False),
    },
}  # fmt: skip
_SIGNED = ("entitlement",)
FITS: dict[str, Callable[[Any], bool]] = {
    TEXT: lambda value: isinstance(value, str) and len(value) <= 4096,
    WHOLE: lambda value: isinstance(value, int) and not isinstance(value, bool),
    _DAY: lambda value: isinstance(value, date) and not isinstance(value, datetime),
    TEXTS: lambda value: isinstance(value, list) and all(isinstance(one, str) and len(one) <= 4096 for one in value),
    _PORT: lambda value: value == form.ANY_PORT or (isinstance(value, int) and not isinstance(value, bool)),
}


def _stated(key: str, document: Table) -> str:
    return f"its {key} is {document[key]!r}" if key in document else f"it states no {key}"


def check_form(look: FileLook, document: Table) -> None:
    if document.get("format") != form.FORMAT:
        look.told("format", f"{_stated('format', document)}; it has to be {form.FORMAT!r}", EDIT, ("format",))
    if document.get("version") != form.VERSION:
        look.told("format", f"{_stated('version', document)}; version {form.VERSION} is read", EDIT, ("version",))
    for key in document:
        if key not in _KEYS and key not in _KEYS[""]:
            look.told(
                "unknown-key", f"{key!r} is no part of a license file{_near(key, [*_KEYS, *_KEYS['']])}", EDIT, (key,)
            )
    if not isinstance(document.get("server"), dict):
        look.told("missing", "the table [server] is missing", EDIT)
    for name in ("daemon", "entitlement"):
        if not tables_of(document, name):
            look.told("missing", f"no [[{name}]] is there", NEW_FILE if name in _SIGNED else EDIT)


def tables_of(document: Table, name: str) -> list[Table]:
    found = document.get(name)
    return [one for one in found[:MOST_TABLES] if isinstance(one, dict)] if isinstance(found, list) else []


def _near(key: str, known: list[str]) -> str:
    from hollow_chain.wording.near import nearest

    best = nearest(key, [name for name in known if name], 1, 70)
    return f"; {best[0].name!r} may be meant" if best else ""


def right_keys(look: FileLook, kind: str, table: Table, way: Way) -> bool:
    """Whether all keys of a table are there and of their types; what is not is noted."""
    right = True
    mend = NEW_FILE if kind in _SIGNED else EDIT
    for key, (wanted, needed) in _KEYS[kind].items():
        if key in table and not FITS[wanted](table[key]):
            right = False
            look.told("wrong-type", f"{key} is not {wanted}: {str(table[key])[:60]!r}", mend, (*way, key))
        elif key not in table and needed:
            right = False
            look.told("missing", f"{key} is missing in {_named(kind, way)}", mend, way)
    for key in table:
        if key not in _KEYS[kind]:
            look.told(
                "unknown-key",
                f"{key!r} is not known in {_named(kind, way)}{_near(key, list(_KEYS[kind]))}",
                mend,
                (*way, key),
            )
            right = right and kind not in _SIGNED
    return right


def _named(kind: str, way: Way) -> str:
    return f"[[{kind}]] number {int(way[-1]) + 1}" if way and isinstance(way[-1], int) else f"[{kind}]"

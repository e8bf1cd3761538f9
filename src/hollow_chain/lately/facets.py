"""What of a thing is compared between two readings: worked out from its type.

Every field that somebody sets is compared, and none that only tells a moment, a number of a process, a count or how it stands: the types
say of which kind each field is (:mod:`hollow_chain.facts.kinds`). Here stands only how some of them are called and written.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from datetime import datetime
from functools import cache
from typing import Any, NamedTuple

import msgspec

from hollow_chain.facts.host import File, Firewall, Host
from hollow_chain.facts.kinds import KIND, SET, STATE
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import (
    Account,
    Claim,
    Condition,
    Confinement,
    Definition,
    Limits,
    Program,
    Service,
    Trigger,
)
from hollow_chain.wording.counts import size

Text = Callable[[Any], str | None]


class Facet(NamedTuple):
    """One thing that is compared."""

    about: str
    text: Text
    """What it is; None where that is not known."""
    stands: bool = False
    """Whether it tells how the thing stands, which follows from the rest."""
    field: str = ""
    """The field that it is of, from the thing on: ``startup``, ``account.user``."""


def listed(words: Iterable[str]) -> str:
    """Words in one text, in an order that says nothing."""
    return ", ".join(sorted(set(words)))


def _links(kind: str) -> Text:
    return lambda service: listed(
        f"{link.to} on {link.host}" if link.host else link.to for link in service.links if link.kind == kind
    )


def _result(service: Service) -> str | None:
    last: LastRun | None = service.last
    if last is None or service.state not in ("failed", "stopped"):
        return ""
    number = last.exit_status if last.exit_status is not None else last.error_number
    return f"{last.result}{f', {number}' if number else ''}"


def _unmet(service: Service) -> str | None:
    """The conditions that do not hold; None where they were not tested."""
    if any(one.outcome == "untested" for one in service.conditions):
        return None
    return listed(f"{one.kind}={one.parameter}" for one in service.conditions if one.outcome == "unmet")


def _wall(wall: Firewall) -> str:
    kept = [
        f"{'passes' if rule.passes else 'drops'} {rule.protocol or 'all'} {rule.first_port}-{rule.last_port}"
        f"{f' from {rule.source}' if rule.source else ''}{f' to {rule.to}' if rule.to else ''}"
        for rule in wall.rules
    ]
    return f"{wall.name}: {'passes' if wall.passes_by_default else 'drops'} by default, {'; '.join(kept) or 'no rules'}"


_SPECIAL: dict[tuple[type, str], list[Facet]] = {
    (Service, "name"): [],
    (Service, "state"): [
        Facet("state", lambda one: one.state, True),
        Facet("last result", _result, True),
        Facet("conditions that do not hold", _unmet, True),
    ],
    (Service, "links"): [
        Facet("needs", _links("hard")),
        Facet("starts along", _links("soft")),
        Facet("starts after", _links("order")),
        Facet("cannot run beside", _links("clash")),
    ],
    (Program, "arguments"): [Facet("arguments", lambda one: " ".join(one.arguments[1:]))],
    (Definition, "file"): [Facet("definition files", lambda one: listed([one.file, *one.drop_ins]))],
    (Definition, "drop_ins"): [],
    (Program, "paths"): [],
}
"""Fields that are compared in words of their own; none: with another one."""
_CALLED: dict[tuple[Any, str], str] = {
    (Service, "startup"): "startup type", (Service, "wanted_by"): "started at boot by", (Service, "triggers"): "started by",
    (Service, "claims"): "ports claimed", (Definition, "load"): "definition", (Program, "path"): "program",
    (Program, "folder"): "working folder", (Limits, "start_seconds"): "start limit, s", (Limits, "stop_seconds"): "stop limit, s",
    (Limits, "rate_count"): "starts allowed", (Limits, "rate_seconds"): "starts allowed within, s",
    (Limits, "memory_bytes"): "memory limit, bytes", (Limits, "restart_seconds"): "restart after, s",
    (Limits, "lowered"): "lowered limits", (Host, "default_target"): "start-up target", (Host, "memory_bytes"): "memory",
    (Account, "user"): "account", (File, "acl"): "access list",
    (Limits, "run_seconds"): "run limit, s", (Limits, "watchdog_seconds"): "watchdog, s",
}  # fmt: skip
"""What fields are called whose names are not what people say."""
_ELSE = {"confinement": Confinement()}
"""Parts that are left out where they say nothing, and not where nothing is known of them."""
_UNDER = {"confinement": "confinement", "limits": "limit of all services", "definition": "definition"}
"""Fields whose parts are told with the whole."""
_WRITTEN: dict[type, Callable[[Any], str]] = {
    Trigger: lambda one: one.name or one.kind,
    Condition: lambda one: f"{one.kind}={'!' if one.negated else ''}{one.parameter}",
    Claim: lambda one: f"{one.address}:{one.port}/{one.protocol}",
    Firewall: _wall,
}
"""How one of a list is written."""


@cache
def facets_of(kind: type) -> tuple[Facet, ...]:
    """What is compared of a thing of that type; what follows from something else comes last."""
    return tuple(sorted(_facets(kind), key=lambda facet: facet.field in _LATE))


_LATE = ("aliases", "description", "display_name", "wanted_by", "claims")
"""What of a service follows from its startup type and its settings, or says the least."""


def _facets(kind: type) -> Iterator[Facet]:
    info: Any = msgspec.inspect.type_info(kind)
    for field in info.fields:
        special = _SPECIAL.get((kind, field.name))
        if special is not None:
            yield from (facet._replace(field=field.name) for facet in special)
            continue
        marked, inner = _bare(field.type)
        if marked is None:
            yield from _of_field(kind, field.name, inner)
        elif marked == STATE and not isinstance(inner, msgspec.inspect.ListType | msgspec.inspect.DictType):
            yield Facet(_about(kind, field.name), _scalar(field.name), True, field.name)


def _bare(info: Any) -> tuple[str | None, Any]:
    """The kind of a field, and its type without metadata and without None."""
    marked = None
    while True:
        if isinstance(info, msgspec.inspect.Metadata):
            marked = marked or (info.extra or {}).get(KIND)
            info = info.type
        elif isinstance(info, msgspec.inspect.UnionType):
            info = next(one for one in info.types if not isinstance(one, msgspec.inspect.NoneType))
        else:
            return (None if marked == SET else marked), info


def _of_field(kind: type, name: str, info: Any) -> Iterator[Facet]:
    if isinstance(info, msgspec.inspect.StructType):
        if not getattr(info.cls, "happens", False):
            for facet in facets_of(info.cls):
                about = (
                    facet.about
                    if name not in _UNDER or (kind is Service and name != "confinement")
                    else f"{facet.about} ({_UNDER[name]})"
                )
                yield Facet(about, _below(name, facet.text), facet.stands, f"{name}.{facet.field}")
        return
    about = _about(kind, name)
    if isinstance(info, msgspec.inspect.ListType):
        _, item = _bare(info.item_type)
        if isinstance(item, msgspec.inspect.StructType):
            if not getattr(item.cls, "happens", False):
                yield Facet(about, _list_of(name, _WRITTEN.get(item.cls) or _writer(item.cls)), field=name)
            return
        yield Facet(about, _list_of(name, str), field=name)
    elif isinstance(info, msgspec.inspect.DictType):
        yield Facet(about, _pairs(name), field=name)
    else:
        yield Facet(about, _scalar(name), field=name)


def _about(kind: type, name: str) -> str:
    return _CALLED.get((kind, name)) or name.replace("_", " ")


def _below(name: str, text: Text) -> Text:
    def found(thing: Any) -> str | None:
        inner = getattr(thing, name)
        if inner is None and name in _ELSE:
            inner = _ELSE[name]
        return text(inner) if inner is not None else None

    return found


def _scalar(name: str) -> Text:
    def found(thing: Any) -> str | None:
        value = getattr(thing, name)
        if value is None or value == "unknown":
            return None
        if isinstance(value, datetime):
            return f"{value:%Y-%m-%d %H:%M:%SZ}"
        if isinstance(value, bool):
            return "yes" if value else "no"
        if name.endswith("_bytes") and isinstance(thing, Host):
            return size(value)
        if value == -1:
            return "none"
        return f"{value:g}" if isinstance(value, float) else str(value)

    return found


def _list_of(name: str, write: Callable[[Any], str]) -> Text:
    def found(thing: Any) -> str | None:
        return listed(map(write, getattr(thing, name) or ()))

    return found


def _pairs(name: str) -> Text:
    def found(thing: Any) -> str | None:
        return listed(f"{key}={one}" for key, one in (getattr(thing, name) or {}).items())

    return found


def _writer(kind: type) -> Callable[[Any], str]:
    def write(thing: Any) -> str:
        texts = ((facet.about, facet.text(thing)) for facet in facets_of(kind) if not facet.stands)
        return " ".join(f"{about} {text}" for about, text in texts if text)

    return write

"""The host's own firewall, as its documented store has it: rules in the registry, a text each ([MS-GPFAS], 2.2.2.19, "Firewall Rule and
the Firewall Rule Grammar Rule")."""

from __future__ import annotations

from contextlib import suppress

from hollow_chain.facts.host import Firewall, FirewallRule
from hollow_chain.reach.control import SERVICES, Declined
from hollow_chain.sources.control.command_line import expand
from hollow_chain.sources.control.definitions import number_of, plain
from hollow_chain.sources.control.environment import variables
from hollow_chain.sources.control.reached import control
from hollow_chain.sources.reading import HostReading

_POLICY = rf"{SERVICES}\SharedAccess\Parameters\FirewallPolicy"
_PROFILES = ("StandardProfile", "PublicProfile", "DomainProfile")
_PROTOCOLS = {"6": "tcp", "17": "udp"}
_MOST_RULES = 5000
_LAST_PORT = 65535
"""Rules that are read, some hundreds more than any host has by default; and the last port."""


def add(reading: HostReading) -> None:
    """The rules for what comes in. Which profile is in force is not told there: a firewall that is off in all of them is none."""
    registry = control(reading).registry
    on = []
    for profile in _PROFILES:
        with suppress(Declined):
            key = registry.key(rf"{_POLICY}\{profile}")
            on.append((bool(number_of(key, "EnableFirewall")), number_of(key, "DefaultInboundAction")))
    if not any(is_on for is_on, _ in on):
        return
    try:
        values = registry.key(rf"{_POLICY}\FirewallRules").values
    except Declined:
        return
    known = variables(reading)
    rules = [rule for data, _ in list(values.values())[:_MOST_RULES] for rule in rules_of(plain(data), known)]
    # What blocks goes before what allows.
    rules.sort(key=lambda rule: rule.passes)
    blocks = all(action != 0 for is_on, action in on if is_on)
    reading.host.firewalls.append(
        Firewall(name=f"the firewall of {reading.host.name}", passes_by_default=not blocks, rules=rules)
    )


def rules_of(text: str, known: dict[str, str]) -> list[FirewallRule]:
    """The rules of ours that one rule of the store stands for: one for each range of ports."""
    fields: dict[str, list[str]] = {}
    for part in text.split("|")[1:]:
        name, equals, value = part.partition("=")
        if equals:
            fields.setdefault(name.casefold(), []).append(value)

    def one(name: str) -> str:
        return fields.get(name, [""])[0]

    protocol = one("protocol")
    comes_in = one("dir").casefold() == "in" and one("active").casefold() == "true"
    narrowed = any(name in fields for name in ("svc", "ra4", "ra6", "la4", "la6", "rport", "lport2_10", "if", "iftype"))
    if not comes_in or protocol not in ("", "6", "17") or narrowed:
        return []  # a rule for some partners only says nothing about all
    ranges = [found for value in fields.get("lport", [f"0-{_LAST_PORT}"]) if (found := _range(value)) is not None]
    return [
        FirewallRule(
            passes=one("action").casefold() == "allow",
            protocol=_PROTOCOLS.get(protocol, ""),
            first_port=first,
            last_port=last,
            program=expand(one("app"), known),
        )
        for first, last in ranges
    ]


def _range(text: str) -> tuple[int, int] | None:
    first, dash, last = text.partition("-")
    if not first.isdigit() or (dash and not last.isdigit()) or len(text) > 11:
        return None
    found = int(first), int(last) if dash else int(first)
    return found if found[0] <= found[1] <= _LAST_PORT else None

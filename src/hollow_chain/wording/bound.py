"""What a program was about when a name of a host was not found: to listen there, or to call."""

from __future__ import annotations

from hollow_chain.facts.host import Event
from hollow_chain.lazy import pattern

_LISTENS = pattern(
    r"(?i)(?<![a-z])(?:bind|listen|do_?listen|lookup_?and_?listen|create_server|start_server|serve)(?:_\w{1,30})?(?:\(|\b(?= tcp| udp| \[as ))"
)
"""Calls by which a program takes an endpoint of its own, as traces of calls and messages of libraries name them (bind(2), listen(2))."""
_BINDS_OTHERWISE = pattern(r"(?i)ldap|simple_bind|\bbind\(this\b")
"""A bind to a directory, as somebody (RFC 4511, section 4.2), or of a function to its object (ECMAScript, ``Function.prototype.bind``)."""
_AROUND = 6
"""Lines of a trace on both sides of the error in which the call stands: most languages tell it before, some behind."""


def call_to_listen(events: list[Event], event: Event) -> Event | None:
    """The record by which a name was looked up in order to listen there: then it is a place of its own host that is not found, and no
    other host. None where it was for something else, or nobody tells."""
    if _listens(event):
        return event
    at = next((number for number, one in enumerate(events) if one is event), None)
    if at is None:
        return None
    near = (*_in_trace(events[max(0, at - _AROUND) : at][::-1]), *_in_trace(events[at + 1 : at + 1 + _AROUND]))
    return next((one for one in near if _listens(one)), None)


def _listens(event: Event) -> bool:
    return _LISTENS.search(event.text) is not None and _BINDS_OTHERWISE.search(event.text) is None


def _in_trace(events: list[Event]) -> list[Event]:
    """The lines next to it that are set in, as those of a trace of calls are."""
    found: list[Event] = []
    for event in events:
        if not event.text[:1].isspace():
            break
        found.append(event)
    return found

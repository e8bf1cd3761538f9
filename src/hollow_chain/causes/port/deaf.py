"""Services that are up, and by their own words without an endpoint that they wanted: borne out by the table of sockets."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from hollow_chain.causes.case import Case
from hollow_chain.facts.endpoints import Endpoint, of_listener, overlap
from hollow_chain.facts.host import Event, Listener
from hollow_chain.wording import lines
from hollow_chain.wording.forms import says


class Lacked(NamedTuple):
    """An endpoint that a running service could not have when it came up, and has not got since."""

    event: Event
    address: str
    port: int


def may_be_deaf(case: Case) -> bool:
    """Whether the service is up and was asked about, so that its words of this run were read, and all sockets are known."""
    return case.asked and case.state == "running" and case.service.kind == "service" and case.index.sockets.known


def lacked(case: Case, *what: str) -> Iterator[Lacked]:
    """The endpoints that lines of the present run which say one of *what* name, and on which the service has no socket now."""
    if not may_be_deaf(case):
        return
    events = case.own_events()
    chosen = [
        event
        for event in lines.saying(events, *what)
        if says(event.text, "endpoint", "in use", "no address", "no endpoint") and not says(event.text, "unreached")
    ]
    for event, address, port in lines.endpoints_in(chosen, events):
        if event.call is not None and any(one.port == port for one in case.index.sockets.of(case.service)):
            continue  # one socket for both families of addresses makes the second call fail, and is all that it needs
        if not _has(case.index.sockets.of(case.service), address, port) or (not address and _halved(case, port)):
            yield Lacked(event, address, port)


def _halved(case: Case, port: int) -> bool:
    """Whether others hold the port on a family of addresses on which the service has no socket of its own."""
    own = case.index.sockets.of(case.service)
    families = {":" in listener.address for listener in own if listener.port == port}
    others = [listener for listener in case.index.sockets.at(port) if listener not in own]
    return any((":" in listener.address) not in families for listener in others)


def _has(own: Iterable[Listener], address: str, port: int) -> bool:
    there = [listener for listener in own if listener.port == port]
    if not address:
        return bool(there)
    wanted_family = ":" in address
    return any(
        overlap(Endpoint(port, listener.protocol, address), of_listener(listener))
        and (":" in listener.address) == wanted_family
        for listener in there
    )

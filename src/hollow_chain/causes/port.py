"""Port: the endpoint that it wants is taken, not allowed, or of no adapter of this host."""

from __future__ import annotations

import re
from collections.abc import Iterator
from ipaddress import ip_address

from hollow_chain.causes import lines
from hollow_chain.causes.case import SOCKETS, Case
from hollow_chain.causes.rule import NOT_UP, Evidence, Finding, Mend, cause
from hollow_chain.causes.words import failed_last, numbered
from hollow_chain.facts.host import Listener
from hollow_chain.facts.service import Claim

_ANY = ("", "*", "0.0.0.0", "::")
_IN_USE_NUMBERS = (98, 10048)
_BIND = re.compile(r"(?i)\b(?:bind|binding|listen(?:ing)?|socket|port|address)\b")
UNPRIVILEGED = 1024
"""First port that any account may take, where the host does not say otherwise (ip(7))."""


def endpoint(address: str, port: int, protocol: str = "tcp") -> str:
    """An endpoint as it is said in a sentence."""
    where = "all addresses" if address in _ANY else address
    return f"{protocol[:3]} port {port} on {where}"


def overlaps(claim: Claim, held: Listener) -> bool:
    """Whether two endpoints cannot both be held: same protocol and port, and addresses that meet.

    A listener on all addresses meets every single one of its family; one on all IPv6 addresses meets IPv4 too,
    unless it is held to IPv6 (ipv6(7), ``IPV6_V6ONLY``; the socket table does not show that, so it is assumed not).
    """
    if claim.port != held.port or claim.protocol[:3] != held.protocol[:3]:
        return False
    one, other = claim.address.strip("[]"), held.address.strip("[]")
    if one in ("", "*") or other in ("", "*", "::") or one == "::":
        return True
    if one == "0.0.0.0" or other == "0.0.0.0":
        return _family(one) == _family(other)
    return _plain(one) == _plain(other)


def _plain(address: str) -> str:
    return "127.0.0.1" if address == "localhost" else address.casefold()


def _family(address: str) -> int:
    try:
        return ip_address(_plain(address)).version
    except ValueError:
        return 4


def _wanted(case: Case) -> list[tuple[Claim, Evidence | None]]:
    """Endpoints that a log line calls taken; where a line does not say which, those that the service claims."""
    events = case.last_events()
    quoted = [
        (Claim(port=port, address=address, protocol=_protocol(event.text)), case.quoted(event))
        for event, address, port in lines.endpoint_in_use(events)
    ]
    if quoted:
        return list({(c.address, c.port, c.protocol): (c, e) for c, e in quoted}.values())
    said = [e for e in events if lines.says_in_use(e.text) or e.number in _IN_USE_NUMBERS]
    last = case.service.last
    if not said and not (last and last.error_number in _IN_USE_NUMBERS):
        return []
    return [(claim, case.quoted(said[-1]) if said else None) for claim in case.service.claims]


def _protocol(text: str) -> str:
    return "udp" if re.search(r"(?i)\budp\b", text) else "tcp"


@cause("port-held", states=("running", *NOT_UP))
def port_held(case: Case) -> Iterator[Finding]:
    """Another process has the endpoint that it wants.

    Looks at: log lines that call an address taken; the claims of the service; the table of sockets with the process
    and the service behind each, also where one process hosts several services or the manager holds the socket.
    Convinced by: the line, and a holder that is not the service itself.
    Against: nobody holding the endpoint by now.
    Mend: stop the holder and keep it from coming back, or move one of the two.
    """
    service = case.service
    if case.standing.well:
        return
    wanted = _wanted(case)
    certain = bool(wanted)
    if not wanted and failed_last(service):
        wanted = [(claim, None) for claim in service.claims]
    held: set[tuple[int, int]] = set()
    for claim, line in wanted:
        for listener in case.host.listeners:
            who = (listener.port, listener.process)
            if who not in held and overlaps(claim, listener) and not _is_own(case, listener):
                held.add(who)
                yield _held(case, claim, line, listener, certain)
                break
    if certain and not held:
        yield _was_held(case, *wanted[0])
    told = numbered(case, *_IN_USE_NUMBERS)
    if told and not held and not wanted:
        yield Finding(
            says=f"{case.service.name} found the port that it wants taken; which one is not recorded.",
            evidence=tuple(told),
            mends=(Mend(f"See which port {case.service.name} is set to, and who holds it ('roster PORT' tells)."),),
            sure=0.7,
        )


def _is_own(case: Case, listener: Listener) -> bool:
    """Whether the socket is the service's own: held by it, or by the unit that starts it on a request."""
    if listener.service == case.node.name:
        return case.service.state == "running"
    return listener.service in {trigger.name for trigger in case.service.triggers}


def _held(case: Case, claim: Claim, line: Evidence | None, listener: Listener, certain: bool) -> Finding:
    holder = (
        listener.service
        or listener.program
        or (f"process {listener.process}" if listener.process else "an unknown process")
    )
    shared = f", which hosts {', '.join(listener.shared_with)}" if listener.shared_with else ""
    whose = f" of {listener.service}" if listener.service else ""
    program = listener.program.rpartition("/")[2] or "a process"
    return Finding(
        says=f"{case.service.name} cannot listen on {endpoint(claim.address, claim.port, claim.protocol)}: "
        f"{holder}{shared} has it.",
        evidence=(
            *((line,) if line else ()),
            case.seen(
                f"{endpoint(listener.address, listener.port, listener.protocol)} is held by {program} "
                f"(process {listener.process or 'unknown'}){whose}{shared}",
                SOCKETS,
            ),
        ),
        mends=(
            Mend(f"Stop {holder}, and keep it from starting at boot, if it is not the one that should have the port."),
            Mend(f"Or give one of the two another port; {_neighbor(case, claim)} is free.", "after its restart"),
        ),
        sure=0.96 if certain and listener.process else 0.8 if certain else 0.55,
        holder=holder,
        explains=(
            "exits-with-error",
            "exits-at-once",
            "crash-loop",
            "killed",
            "config-rejected",
            "lock-held",
            "start-rate-limited",
        ),
    )


def _neighbor(case: Case, claim: Claim) -> int:
    taken = {listener.port for listener in case.host.listeners}
    return next((port for port in range(claim.port + 1, 65536) if port not in taken), claim.port)


def _was_held(case: Case, claim: Claim, line: Evidence | None) -> Finding:
    place = endpoint(claim.address, claim.port, claim.protocol)
    unread = " (the processes behind some sockets could not be read)" if case.host.unread else ""
    return Finding(
        says=f"{case.service.name} found {place} taken; nobody holds it by now{unread}.",
        evidence=(*((line,) if line else ()), case.seen(f"no other socket on {place}", SOCKETS)),
        mends=(Mend(f"Start {case.service.name}; if it fails again, look who has the port at that moment."),),
        sure=0.5,
        residual=True,
    )


@cause("address-missing", states=("running", *NOT_UP))
def address_missing(case: Case) -> Iterator[Finding]:
    """It wants to listen on an address that no adapter of the host has.

    Looks at: log lines that say so; the addresses of the adapters.
    Convinced by: such a line, and the address being on no adapter.
    Against: the address being there by now (then it came too late).
    Mend: correct the address, or bring the adapter up before the service.
    """
    if case.standing.well:
        return
    for event, address, port in lines.address_not_there(case.last_events()):
        there = address in case.host.addresses
        where = address or "the address that it wants"
        yield Finding(
            says=f"{case.service.name} wants to listen on {where}"
            + (f", port {port}" if port else "")
            + (", which came up too late for it." if there else ", which no adapter of this host has."),
            evidence=(
                case.quoted(event),
                case.seen(
                    f"addresses of this host: {', '.join(sorted(set(case.host.addresses))) or 'none known'}", "adapters"
                ),
            ),
            mends=(
                Mend(
                    f"Correct the address in the configuration of {case.service.name}, or give {where} to an adapter.",
                    "at the next start",
                ),
            ),
            sure=0.8 if there else 0.95,
            explains=("exits-with-error", "crash-loop", "config-rejected", "start-rate-limited"),
        )
        return
    told = numbered(case, 10049)
    if told:
        yield Finding(
            says=f"{case.service.name} wants to listen on an address that no adapter of this host has.",
            evidence=tuple(told),
            mends=(Mend(f"Correct the address in the configuration of {case.service.name}.", "at the next start"),),
            sure=0.8,
        )


@cause("port-forbidden", states=("running", *NOT_UP))
def port_forbidden(case: Case) -> Iterator[Finding]:
    """Its account may not take that port, or the system keeps the port for itself.

    Looks at: log lines that refuse a bind; the port against the range that any account may take; the account.
    Convinced by: a refused bind of a port below that range by an account without the right.
    Against: a service that runs with all rights.
    Mend: the one right to take low ports, or a port above the range.
    """
    if case.standing.well:
        return
    limits = case.host.limits
    first = limits.unprivileged_port if limits and limits.unprivileged_port is not None else UNPRIVILEGED
    refused = [e for e in lines.denied(case.last_events()) if _BIND.search(e.text)]
    for event, address, port in lines.endpoints_in(refused, case.last_events()):
        user = case.service.account.user if case.service.account else ""
        if port >= first or user == "root":
            continue
        yield Finding(
            says=f"{case.service.name} may not listen on {endpoint(address, port)}: "
            f"ports below {first} need a right that {user or 'it'} does not have.",
            evidence=(case.quoted(event), case.seen(f"first port that any account may take: {first}")),
            mends=(
                Mend(f"Give {case.service.name} the single right to take low ports (CAP_NET_BIND_SERVICE), or have the "
                     "manager hold the socket for it.", "after a reload and a restart"),
                Mend(f"Or let it use a port from {first} on.", "after a restart"),
            ),
            sure=0.93,
            explains=("exits-with-error", "crash-loop", "access-denied", "config-rejected", "start-rate-limited"),
        )  # fmt: skip
        return
    told = numbered(case, 10013)
    if told:
        yield Finding(
            says=f"{case.service.name} may not use the port that it wants.",
            evidence=tuple(told),
            mends=(
                Mend(f"Give {case.service.name} a port that is not reserved and that nobody holds for himself alone."),
            ),
            sure=0.65,
        )


@cause("port-claimed-twice", states=("running", "stopped", "failed"))
def port_claimed_twice(case: Case) -> Iterator[Finding]:
    """Two definitions claim one endpoint: only one can win. A warning while one is off.

    Looks at: the claims of all services that start at boot.
    Convinced by: two claims that meet, of services that both start at boot.
    Against: different addresses.
    Mend: move one of the two.
    """
    service = case.service
    if not service.claims or service.startup not in ("automatic", "delayed") or not case.asked:
        return
    for other in case.host.services:
        if other.name == service.name or other.startup not in ("automatic", "delayed"):
            continue
        for claim in service.claims:
            for rival in other.claims:
                listener = Listener(port=rival.port, protocol=rival.protocol, address=rival.address)
                if not claim.free_choice and not rival.free_choice and overlaps(claim, listener):
                    yield Finding(
                        says=f"{service.name} and {other.name} both claim {endpoint(claim.address, claim.port, claim.protocol)} "
                        "and both start at boot: only one can win.",
                        evidence=(
                            case.seen(f"{service.name} claims port {claim.port} ({claim.source or 'definition'})"),
                            case.seen(f"{other.name} claims port {rival.port} ({rival.source or 'definition'})"),
                        ),
                        mends=(
                            Mend(
                                f"Give one of the two another port; {_neighbor(case, claim)} is free.",
                                "after its restart",
                            ),
                        ),
                        note=True,
                        holder=other.name,
                    )
                    return

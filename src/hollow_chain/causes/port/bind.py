"""Endpoints that it may not listen on, or whose address is not here."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from itertools import pairwise

from hollow_chain.causes.acts import Act, allow
from hollow_chain.causes.case import SOCKETS, Case
from hollow_chain.causes.finding import AFTER_RESTART, DOUBT, FITS, HINT, SAID, TELLS, Finding, Mend
from hollow_chain.causes.nature import ACCOUNT, PORT, Boot
from hollow_chain.causes.port.deaf import lacked
from hollow_chain.causes.port.holder import held_by_others
from hollow_chain.causes.rights import ALL_RIGHTS_ACCOUNTS, account_of
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.sockets import among_arguments, claims_tcp, protocol_in
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import numbered
from hollow_chain.facts.endpoints import ANY, first_for_all, free_neighbor, in_ranges, of_claim
from hollow_chain.facts.endpoints import said as said_endpoint
from hollow_chain.facts.host import TOLD, Event
from hollow_chain.lazy import pattern
from hollow_chain.wording import lines
from hollow_chain.wording.forms import read, says
from hollow_chain.wording.things import addresses_in


@cause("address-missing", Boot.STAYS, answered_by=(PORT,), states=("running", *NOT_UP))
def address_missing(case: Case) -> Iterator[Finding]:
    """It wants to listen on an address that no adapter of the host has.

    Looks at: log lines that say so; the addresses of the adapters.
    Convinced by: such a line, and the address being on no adapter.
    Against: the address being there by now (then it came too late).
    Mend: correct the address, or bring the adapter up before the service.
    """
    here = set(case.host.addresses)
    if case.standing.well:
        yield from _address_missing_while_up(case, here)
        return
    said = lines.saying(case.told_events(), "no address") or _bound_in_vain(case, ANY | here)
    claimed = [
        (said[-1], c.address, c.port)
        for c in case.service.claims
        if said and not c.unsure and c.address not in ANY | here
    ]
    near = [one for one in lines.endpoints_in(said, case.told_events()) if one[1] not in ANY]
    argued = [(event, address, 0) for event in said[-1:] for address in _bound_by_arguments(case, ANY | here)]
    of_words = list(lines.address_not_there(said)) or near or claimed
    found = of_words or argued or [(event, "", 0) for event in said[-1:]]
    for event, address, port in sorted(found, key=lambda one: one[1] in ANY or one[1] in here):
        there = address in here
        where = address or "an address that its log does not name"
        yield Finding(
            says=f"{case.service.name} wants to listen on {where}"
            + (f", port {port}" if port else "")
            + (", which came up too late for it." if there else ", which no adapter of this host has."),
            evidence=(
                case.quoted(event, SAID if says(event.text, "no address") else FITS),
                case.seen(
                    f"addresses of this host: {', '.join(sorted(set(case.host.addresses))) or 'none known'}",
                    "adapters",
                    # An address that nobody named was not looked for.
                    bears=DOUBT if there else FITS if here and address and of_words else TELLS,
                ),
            ),
            mends=(
                Mend(
                    f"Correct the address in the configuration of {case.service.name}, or give {address or 'that address'} to an adapter.",
                    "at the next start",
                ),
            ),
            explains=(
                "exits-with-error",
                "crash-loop",
                "config-rejected",
                "start-rate-limited",
                "exits-at-once",
                "killed",
            ),
        )
        return
    told = numbered(case, 10049, bears=SAID)
    if told:
        gone = [c for c in case.service.claims if here and not c.unsure and c.address not in ANY | here]
        yield Finding(
            says=f"{case.service.name} wants to listen on {gone[0].address if gone else 'an address'}"
            f"{f', port {gone[0].port},' if gone else ''} that no adapter of this host has.",
            evidence=(
                *told,
                *(
                    case.seen(f"{c.address} is none of {', '.join(sorted(here))}", "adapters", bears=FITS)
                    for c in gone[:1]
                ),
            ),
            mends=(Mend(f"Correct the address in the configuration of {case.service.name}.", "at the next start"),),
        )


def _address_missing_while_up(case: Case, here: set[str]) -> Iterator[Finding]:
    """It is up without an address that it wanted: its own words of this run, the adapters, and the table of sockets."""
    for event, address, port in lacked(case, "no address"):
        if not here or not address or address in ANY | here:
            continue
        yield Finding(
            says=f"{case.service.name} runs without {said_endpoint(address, port)}: no adapter of this host has that address.",
            evidence=(
                case.quoted(event, SAID),
                case.seen(f"addresses of this host: {', '.join(sorted(here))}", "adapters", bears=FITS),
                case.seen(f"no socket of {case.service.name} on port {port} there", SOCKETS, bears=HINT),
            ),
            mends=(
                Mend(
                    f"Correct the address in the configuration of {case.service.name}, or give {address} to an adapter.",
                    AFTER_RESTART,
                ),
            ),
        )
        return


_BINDS_ELSEWHERE = pattern(r"(?i)ldap|credentials|remote|upstream|peer|\bserver\b|\bas (?:user|dn|cn)\b|\bdn\b")
"""Words of a line about a bind to another host: to a directory one binds as somebody (RFC 4511, section 4.2)."""


def _bound_in_vain(case: Case, here: Collection[str]) -> list[Event]:
    """Lines that say without a reason that it could not listen at an address, where that is not *here*."""
    said = lines.saying(case.told_events(), "no endpoint") if case.host.addresses else []
    said = [event for event in said if not _BINDS_ELSEWHERE.search(event.text)]
    return [event for event, address, _ in lines.endpoints_in(said, said) if address and address not in here][-1:]


_LOW_PORTS = "CAP_NET_BIND_SERVICE"


_BINDS = pattern(
    r"^--?(?:(?:dev|web|https?|api|admin|rpc|grpc|metrics|ui|control|tcp|udp|public|private|console|debug)[_\-.])?"
    r"(?:b|l|i|a|addr(?:ess)?|host|ip|bind|listen|local|interface)(?:[_\-](?:addr(?:ess)?|ip|host|on|to))?=?$"
)
"""Options that say where a program listens, as most write them; what is before the word says of what."""


def _bound_by_arguments(case: Case, here: Collection[str]) -> list[str]:
    """Addresses that its arguments have it listen on, and that are not *here*."""
    words = case.service.program.arguments[1:] if case.service.program is not None else []
    parts = [part for word in words for part in re.split(r"(?<==)", word, maxsplit=1)]
    after = (part for option, part in pairwise(parts) if _BINDS.match(option))
    return [address for part in after for address in addresses_in(part) if address not in here][:1]


def _may_bind_low(case: Case) -> bool:
    """Whether the service has the right to low ports: by its account, unless the definition takes it away, or by the definition."""
    confinement = case.service.confinement
    if confinement is not None and _LOW_PORTS in confinement.granted:
        return True
    kept = confinement.capabilities if confinement is not None else None
    return account_of(case) in ALL_RIGHTS_ACCOUNTS and (kept is None or _LOW_PORTS in kept)


def _is_of_an_endpoint(case: Case, event: Event) -> bool:
    """Whether a record speaks of listening: in its own words, and not in the name of the service or of its program, nor of a step that
    the manager takes before the program."""
    if event.call is not None:
        return event.call.kind == "bind" and not event.call.thing.startswith("/")
    text = event.text
    names = (
        case.service.name.rpartition(".")[0],
        case.service.program.path.rpartition("/")[2] if case.service.program else "",
    )
    for name in filter(None, names):
        text = text.replace(name, "it")
    return says(text, "endpoint") and not read(text).named("step", "step")


def _let_bind(case: Case, event: Event, port: int) -> tuple[Act, ...]:
    """The one right to take low ports, and nothing more (capabilities(7); systemd.exec(5), "AmbientCapabilities="); where more than
    words of the service itself says that it is to have that port."""
    is_set = any(claim.port == port and not claim.told for claim in case.service.claims)
    if not case.family.low_ports_need_right or (event.trust in TOLD and not is_set):
        return ()
    kept = case.service.confinement.capabilities if case.service.confinement else None
    within = (f"CapabilityBoundingSet={_LOW_PORTS}",) if kept is not None and _LOW_PORTS not in kept else ()
    return tuple(allow(case.node.name, setting) for setting in (*within, f"AmbientCapabilities={_LOW_PORTS}"))


@cause("port-forbidden", Boot.STAYS, answered_by=(ACCOUNT, PORT), states=("running", *NOT_UP))
def port_forbidden(case: Case) -> Iterator[Finding]:
    """Its account may not take that port, or the system keeps the port for itself.

    Looks at: log lines that refuse a bind; the port against the range that any account may take; the account.
    Convinced by: a refused bind of a port below that range by an account without the right.
    Against: a service that runs with all rights.
    Mend: the one right to take low ports, or a port above the range.
    """
    limits = case.host.limits
    first = first_for_all(limits)
    if case.standing.well:
        found = [(one.event, one.address, one.port) for one in lacked(case, "denied")]
    else:
        told_of = case.told_events()
        refused = [
            e
            for e in lines.saying(told_of, "denied")
            if _is_of_an_endpoint(case, e) or (not e.by_manager and lines.listens_in_trace(told_of, e))
        ]
        found = list(lines.endpoints_in(refused, told_of))
        if refused and not found and not _may_bind_low(case):  # it does not say which: those that it is set to
            found = [(refused[-1], c.address, c.port) for c in claims_tcp(case.service) if c.port < first]
            found = found or [(refused[-1], "", port) for port in among_arguments(case.service) if port < first]
            # Where nothing tells the port: what else but such a right could a bind of its own lack?
            found = found or ([(refused[-1], "", 0)] if not claims_tcp(case.service) else [])
    for event, address, port in found:
        user = account_of(case)
        if port >= first or _may_bind_low(case):
            continue
        here = f"no socket of {case.service.name} on port {port}"
        without = (case.seen(here, SOCKETS, bears=FITS),) if case.standing.well else ()
        yield Finding(
            says=f"{case.service.name} {'may not listen on ' if port else 'most likely may not listen on its port'}"
            f"{said_endpoint(address, port, protocol_in(event.text)) if port else ''}: "
            f"ports below {first} need a right that {user} does not have here.",
            # Whoever does not say which may have been refused a socket in the file system.
            evidence=(case.quoted(event, SAID if port else HINT), *without,
                      case.seen(f"first port that any account may take: {first}", bears=FITS if port else HINT)),
            mends=(
                Mend(f"Give {case.service.name} the single right to take low ports (CAP_NET_BIND_SERVICE), or have the "
                     "manager hold the socket for it.", "after a reload and a restart",
                     _let_bind(case, event, port)),
                Mend(f"Or let it use a port from {first} on.", "after a restart", instead=True),
            ),
            residual=not port,
            explains=("exits-with-error", "crash-loop", "access-denied", "config-rejected", "start-rate-limited"),
        )  # fmt: skip
        return
    if case.standing.well:
        return
    told = numbered(case, 10013, bears=SAID)
    kept = [
        (c, r)
        for c in case.service.claims
        if not c.unsure and (r := in_ranges(c.port, limits.reserved_ports if limits else ()))
    ]
    if kept and (told or (case.family.kept_ports_refused and failed_last(case.service))):
        claim, ports = kept[0]
        yield Finding(
            says=f"{case.service.name} may not use port {claim.port}: the system keeps {ports} for itself.",
            evidence=(*told, case.seen(f"ports that the system keeps: {ports}", bears=SAID)),
            mends=(Mend(f"Give {case.service.name} another port; {free_neighbor(case.host, of_claim(claim))} is free.", AFTER_RESTART),),
            explains=("exits-with-error", "crash-loop"),
        )  # fmt: skip
    elif told and not any(held_by_others(case, c) for c in case.service.claims):
        yield Finding(
            says=f"{case.service.name} may not use the port that it wants.",
            evidence=tuple(told),
            mends=(
                Mend(f"Give {case.service.name} a port that is not reserved and that nobody holds for himself alone."),
            ),
        )

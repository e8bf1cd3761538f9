"""Endpoints that are taken."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from hollow_chain.causes import looked
from hollow_chain.causes.case import SOCKETS, Case
from hollow_chain.causes.finding import FITS, HINT, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import CLAIMS, PORT, Boot, Shown
from hollow_chain.causes.port.deaf import lacked, may_be_deaf
from hollow_chain.causes.port.holder import IN_USE_NUMBERS, held_by, held_by_others, was_held
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.sockets import among_arguments, claims_tcp, protocol_in, protocol_is_said
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import came_to_nothing, numbered
from hollow_chain.facts.endpoints import ANY, of_claim, of_listener
from hollow_chain.facts.host import Event, Listener
from hollow_chain.facts.service import Claim
from hollow_chain.wording import lines
from hollow_chain.wording.forms import says
from hollow_chain.wording.observed import SURE
from hollow_chain.wording.things import endpoints_of

_REFUSED_NUMBER = 10013
"""Control-manager error number: not permitted, which a port in exclusive use of another gives too."""


def _is_sure(event: Event) -> bool:
    """Whether a record is of the program's own words, or of a call that ended it most likely."""
    return event.call is None or event.call.weight >= SURE


def _wanted(case: Case) -> list[tuple[Claim, Evidence | None]]:
    """Endpoints that a log line calls taken; where a line does not say which, those that the service claims."""
    # A call that is one of several that may have ended it says less than a line of its own.
    events = [event for event in case.told_events() if _is_sure(event)]
    quoted: list[tuple[Claim, Evidence | None]] = [
        (Claim(port=port, address=address, protocol=protocol_in(event.text)), case.quoted(event, SAID))
        for event, address, port in lines.endpoint_in_use(events)
    ]
    if quoted:
        told = list({(c.address, c.port, c.protocol): (c, e) for c, e in quoted}.values())
        # Many lines do not say of which protocol: the one whose endpoint somebody has.
        unsaid = [(replace(c, protocol="udp"), e) for c, e in told if e is not None and not protocol_is_said(e.fact)]
        return told if any(held_by_others(case, c) for c, _ in told) else [*told, *unsaid]
    said = [e for e in events if says(e.text, "in use") or e.number in IN_USE_NUMBERS]
    last = case.service.last
    if not said and not (last and last.error_number in IN_USE_NUMBERS):
        return []
    claims = [c for c in case.service.claims if not c.unsure] or list(case.service.claims)
    given = [] if claims else [Claim(port=port) for port in among_arguments(case.service)]
    claims += [claim for claim in given if held_by_others(case, claim)]
    return [(claim, case.quoted(said[-1], SAID) if said else None) for claim in claims]


def held_from_daemons(case: Case) -> Iterator[Finding]:
    """A license server that is up, one of whose license daemons cannot have its fixed port."""
    for server in case.host.license_servers:
        if server.service != case.node.name:
            continue
        ports = {d.name: d.port for f in case.host.license_files if f.path == server.file for d in f.daemons}
        for daemon in server.daemons:
            port = daemon.port or ports.get(daemon.name)
            claim = Claim(port=port or 0, address="127.0.0.1")
            holder = next(iter(held_by_others(case, claim)), None) if port and daemon.up is False else None
            if holder is not None:
                line = case.seen(
                    f"daemon {daemon.name}: {daemon.says or 'not up'}", "license server", server.served_at, SAID
                )
                found = held_by(case, claim, line, holder, True)
                yield replace(found, explains=(*found.explains, "license-daemon-down"))
                return


def _spoken_of(case: Case) -> list[tuple[Claim, Evidence | None]]:
    """Endpoints that it was about to listen on by its own words, in a run that failed without calling any of them taken."""
    said = [e for e in case.own_events() if says(e.text, "listening") and not says(e.text, "no address")]
    return [
        (Claim(port=port, address=address, protocol=protocol), case.quoted(event, FITS))
        for event in said
        for address, port in endpoints_of(event.text)
        for protocol in (("udp",) if protocol_in(event.text) == "udp" else ("tcp", "udp"))
    ]


@cause(
    "port-held",
    Boot.RIVALRY,
    answered_by=(PORT,),
    put_right=(CLAIMS,),
    states=("running", *NOT_UP),
    shown=Shown(1067, "exit-code", "bind to port {port} failed: address already in use (10048)", 1),
)
def port_held(case: Case) -> Iterator[Finding]:
    """Another process has the endpoint that it wants.

    Looks at: log lines that call an address taken; the claims of the service; the table of sockets with the process
    and the service behind each, also where one process hosts several services or the manager holds the socket.
    Convinced by: the line, and a holder that is not the service itself.
    Against: nobody holding the endpoint by now.
    Mend: stop the holder and keep it from coming back, or move one of the two.
    """
    service = case.service
    yield from held_from_daemons(case)
    if service.state == "stopped" and not came_to_nothing(case):
        yield from _foreseen(case)
        return
    if case.standing.well:
        yield from _held_while_up(case)
        return
    wanted = _wanted(case)
    certain = bool(wanted)
    if not wanted and failed_last(service):
        wanted = [*((c, None) for c in service.claims if not c.unsure), *_spoken_of(case)]
    held: set[tuple[int, int]] = set()
    number = next(iter(numbered(case, *IN_USE_NUMBERS, _REFUSED_NUMBER, bears=SAID)), None)
    for claim, line in wanted:
        listener = next(iter(held_by_others(case, claim)), None)
        if listener is not None and (listener.port, listener.process) not in held:
            held.add((listener.port, listener.process))
            found = held_by(case, claim, line or number, listener, certain)
            # Where the program speaks of something else, this is worth knowing, and no more.
            others = not (certain or line or number) and _speaks_of_other_things(case)
            yield replace(found, note=True, explains=()) if others else found
    if not held and not certain and failed_last(service):
        yield from _held_by_copy(case)
    if certain and not held:
        yield was_held(case, *wanted[0])
    said = [case.quoted(e, SAID) for e in case.told_events() if says(e.text, "in use") and _is_sure(e)][-1:]
    told = said or numbered(case, *IN_USE_NUMBERS)
    if told and not held and not wanted:
        yield Finding(
            says=f"{case.service.name} found the port that it wants taken; which one is not recorded.",
            evidence=(*told, *_strangers(case)),
            mends=(
                Mend(
                    f"See which port {case.service.name} is set to, and who holds it ('hollow-chain ports' tells).",
                    seeks=True,
                ),
            ),
            explains=("exits-with-error", "exits-at-once", "crash-loop", "start-rate-limited"),
        )


def _speaks_of_other_things(case: Case) -> bool:
    """Whether it ended with words of its own, none of which is about an endpoint of its own."""
    said = [event for event in case.own_events() if not event.by_manager and not lines.of_trace(event.text)]
    about = [
        e
        for e in said
        if says(e.text, "in use", "listening", "no endpoint", "endpoint") and not says(e.text, "unreached")
    ]
    return bool(said) and not about


def _held_while_up(case: Case) -> Iterator[Finding]:
    """It is up without an endpoint that it wanted: its own words of this run, and the table of sockets."""
    seen: set[tuple[int, int]] = set()
    for event, address, port in lacked(case, "in use", "no endpoint"):
        claim = Claim(port=port, address=address, protocol=protocol_in(event.text))
        mine = {":" in s.address for s in case.index.sockets.of(case.service) if s.port == port}
        holders = [s for s in held_by_others(case, claim) if (":" in s.address) not in mine or address]
        holder = next(iter(holders), None)
        if holder is not None and (holder.port, holder.process) not in seen:
            seen.add((holder.port, holder.process))
            found = held_by(case, claim, case.quoted(event, SAID), holder, True)
            yield replace(found, says=f"{case.service.name} runs without {of_listener(holder)}: {found.holder} has it.")
    if not seen:
        yield from _held_in_silence(case)


def _held_in_silence(case: Case) -> Iterator[Finding]:
    """It is up, and another service's process has an endpoint that it is set to and has not got; it said nothing of it."""
    if not may_be_deaf(case):
        return
    own = case.index.sockets.of(case.service)
    for claim in claims_tcp(case.service):
        mine = [s for s in own if s.port == claim.port]
        others = [s for s in held_by_others(case, claim) if not any(_same_family(s, one) for one in mine)]
        others = [s for s in others if not _is_a_part(case, s.service)]
        if claim.told or not others or (mine and claim.address not in ANY):
            continue
        found = held_by(case, claim, None, others[0], False)
        lacks = case.seen(
            f"{case.node.name} has {', '.join(str(of_listener(s)) for s in mine) or 'no socket'} there",
            SOCKETS,
            bears=HINT,
        )
        evidence = (
            *found.evidence,
            lacks,
            case.seen(f"it is set to {of_claim(claim)} ({claim.source or 'definition'})", "definition", bears=TELLS),
        )
        yield replace(
            found,
            says=f"{case.service.name} runs without {of_listener(others[0])}: {found.holder} has it.",
            evidence=evidence,
        )
        return


def _is_a_part(case: Case, holder: str) -> bool:
    """Whether who has the endpoint belongs to the service: one needs the other, or goes down with it. Then it listens for both."""
    other = case.graph.find(case.node.host, holder) if holder else None
    down = (link for link in case.service.links if link.to == holder)
    up = (link for link in other.links if link.to == case.node.name) if other is not None else ()
    return any(link.kind == "hard" or link.stops for link in (*down, *up))


def _foreseen(case: Case) -> Iterator[Finding]:
    """It is down for another reason, and its start would meet somebody else's socket: told before it is tried. A note."""
    for claim in case.service.claims if case.asked or case.needed_from is not None else ():
        others = held_by_others(case, claim)
        if claim.told or not claim.counts or not others:
            continue
        found = held_by(case, claim, None, others[0], True)
        yield replace(
            found,
            says=f"{case.service.name} would not get {of_claim(claim)} if it were started now: {found.holder} has it.",
            evidence=(
                *found.evidence,
                case.seen(f"it is set to {of_claim(claim)} ({claim.source or 'definition'})", "definition", bears=FITS),
            ),
            note=True,
            explains=(),
        )
        return


def _same_family(one: Listener, other: Listener) -> bool:
    return (":" in one.address) == (":" in other.address)


def _strangers(case: Case) -> list[Evidence]:
    """The sockets of processes that belong to no service: the first to look at where no port is named."""
    found = [s for s in case.host.listeners if s.process and not s.service.endswith((".service", ".socket"))]
    named = ", ".join(f"{of_listener(s)} by {s.program.rpartition('/')[2] or s.process}" for s in found[:4])
    return (
        [case.seen(f"held by processes of no service: {named}", SOCKETS)]
        if named and case.family.names_tell_kinds
        else []
    )


def _held_by_copy(case: Case) -> Iterator[Finding]:
    """It ends without saying that something is taken, and its own program runs outside of the manager, with sockets that it would want."""
    path = case.service.program.path if case.service.program is not None else ""
    shares = [s for s in case.host.services if s.program is not None and s.program.path == path]
    if not path or len(shares) > 1 or not looked.is_silent(case):
        return
    for listener in case.host.listeners:
        if listener.program == path and not listener.service and listener.process:
            place, name = of_listener(listener), case.service.name
            yield Finding(
                says=f"{name} most likely cannot listen on {place}: process {listener.process}, which runs its own program outside of it, "
                "has it.",
                evidence=(
                    case.seen(f"{place} is held by process {listener.process}: {path}, started by nobody that is known", SOCKETS, bears=FITS),
                    looked.ended(case),
                ),
                mends=(Mend(f"Stop process {listener.process}, then start {name}."),),
                holder=path,
                explains=("exits-with-error", "exits-at-once", "crash-loop"),
            )  # fmt: skip
            return

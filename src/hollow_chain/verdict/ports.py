"""Who claims which port, who holds it, and where two cannot both have it."""

from __future__ import annotations

from collections.abc import Iterator

import msgspec

from hollow_chain.causes.port.claimed import rivals
from hollow_chain.causes.sockets import Sockets
from hollow_chain.facts.endpoints import first_for_all, free_neighbor, in_ranges, of_claim, of_listener, overlap
from hollow_chain.facts.host import Host, Listener
from hollow_chain.facts.service import Claim, Service
from hollow_chain.families import family_of

_AT_BOOT = ("automatic", "delayed")
_UP = ("running", "starting")


class PortRow(msgspec.Struct):
    """One port of one protocol on one host."""

    host: str
    port: int
    protocol: str
    claims: list[tuple[Service, Claim]] = msgspec.field(default_factory=list)
    holders: list[Listener] = msgspec.field(default_factory=list)
    clash: str = ""
    """``held``: a service that should run cannot get it; ``twice``: two that should run claim it; ``reserved``: the system
    keeps it for itself. Empty: none."""
    says: str = ""
    remarks: list[str] = msgspec.field(default_factory=list)
    """What is worth knowing though it is no clash."""
    free: int = 0
    """The nearest free port after it; told with a clash. 0: not looked for."""


def port_rows(host: Host) -> list[PortRow]:
    """Every port that somebody claims or holds, in order."""
    rows: dict[tuple[int, str], PortRow] = {}

    def row(port: int, protocol: str) -> PortRow:
        key = port, protocol[:3]
        return rows.setdefault(key, PortRow(host.name, port, protocol[:3]))

    for listener in host.listeners:
        row(listener.port, listener.protocol).holders.append(listener)
    for service in host.services:
        for claim in service.claims:
            if claim.counts or claim.unsure:
                row(claim.port, claim.protocol).claims.append((service, claim))
    sockets = Sockets(host)
    for one in rows.values():
        _judge(host, sockets, one)
    return [rows[key] for key in sorted(rows)]


def _judge(host: Host, sockets: Sockets, row: PortRow) -> None:
    kept = in_ranges(row.port, host.limits.reserved_ports) if host.limits else ""
    for service, claim in (pair for pair in row.claims if pair[1].counts):
        holder = _in_the_way(host, sockets, service, claim)
        if holder is not None and _should_run(service) and service.state not in _UP:
            row.clash = "held"
            row.says = f"{service.name} cannot have {of_claim(claim)}: {_who(holder)} has it"
            break
        if holder is not None:
            row.remarks.append(
                f"{service.name} is set to it too, and {'runs' if service.state in _UP else 'is not to run'}"
            )
        if kept and _should_run(service) and family_of(host).kept_ports_refused:
            row.clash, row.says = "reserved", f"{service.name} cannot have it: the system keeps {kept} for itself"
    if not row.clash:
        row.says = next(_twice(host, row), "")
        row.clash = "twice" if row.says else ""
    row.remarks += _remarks(host, row, kept)
    if row.clash:
        row.free = free_neighbor(host, of_claim(row.claims[0][1]))


def _should_run(service: Service) -> bool:
    return service.startup in _AT_BOOT or service.state in ("failed", "starting")


def _in_the_way(host: Host, sockets: Sockets, service: Service, claim: Claim) -> Listener | None:
    """Somebody else's socket where *claim* wants to be; None where there is none, or the service has a socket there itself."""
    own = sockets.of(service)
    wanted = of_claim(claim)
    if any(overlap(wanted, of_listener(s)) for s in own):
        return None
    triggered = {other.name for other in host.services if any(t.name == service.name for t in other.triggers)}
    triggered |= {other.name for other in host.services if any(_of_one_file(claim, c) for c in other.claims)}
    return next(
        (s for s in host.listeners if s not in own and s.service not in triggered and overlap(wanted, of_listener(s))),
        None,
    )


def _who(holder: Listener) -> str:
    name = holder.service or holder.program.rpartition("/")[2] or f"process {holder.process or 'unknown'}"
    return f"{name} (which hosts {', '.join(holder.shared_with)})" if holder.shared_with else name


def _twice(host: Host, row: PortRow) -> Iterator[str]:
    for service, mine in row.claims:
        if not _should_run(service):
            continue
        for claim, other, rival in rivals(host, service):
            if claim is mine and _should_run(other) and not _of_one_file(claim, rival):
                yield f"{service.name} and {other.name} both claim {of_claim(claim)}: only one can have it"


def _of_one_file(claim: Claim, rival: Claim) -> bool:
    """Whether both were read from one configuration file: then it is one setting, which two services share."""
    return claim.source == rival.source and claim.source.startswith("configuration")


def _remarks(host: Host, row: PortRow, kept: str) -> Iterator[str]:
    if kept and row.clash != "reserved":
        yield f"the system keeps {kept} for itself"
    for service, claim in (pair for pair in row.claims if pair[1].counts):
        account = service.account.user if service.account else ""
        if (
            row.port < first_for_all(host.limits)
            and account not in ("", "root")
            and family_of(host).low_ports_need_right
        ):
            granted = service.confinement.granted if service.confinement else []
            if "CAP_NET_BIND_SERVICE" not in granted and not row.holders:
                yield f"{account} needs a right to take ports below {first_for_all(host.limits)}"
        if (
            service.state == "running"
            and host.listeners
            and not any(overlap(of_claim(claim), of_listener(s)) for s in row.holders)
        ):
            yield f"{service.name} runs, and nobody listens on {of_claim(claim)}"

"""Endpoints that two services are set to."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.acts import moved
from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import Finding, Mend
from hollow_chain.causes.nature import PORT, Boot
from hollow_chain.causes.rule import cause
from hollow_chain.facts.endpoints import free_neighbor, of_claim, overlap
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Claim, Service


@cause("port-claimed-twice", Boot.ANEW, answered_by=(PORT,), states=("running", "stopped", "failed"))
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
    for claim, other, rival in rivals(case.host, service):
        if other.startup not in ("automatic", "delayed"):
            continue
        neighbor = free_neighbor(case.host, of_claim(claim))
        yield Finding(
            says=f"{service.name} and {other.name} both claim {of_claim(claim)} and both start at boot: only one can win.",
            evidence=(
                case.seen(f"{service.name} claims port {claim.port} ({claim.source or 'definition'})"),
                case.seen(f"{other.name} claims port {rival.port} ({rival.source or 'definition'})"),
            ),
            mends=(
                Mend(
                    f"Give one of the two another port; {neighbor} is free.",
                    "after its restart",
                    means=(moved(service.name, neighbor),),
                ),
            ),
            note=True,
            holder=other.name,
        )
        return


def rivals(host: Host, service: Service) -> Iterator[tuple[Claim, Service, Claim]]:
    """Claims of other services of the host that clash with one of *service*: its claim, the other, its claim."""
    for other in host.services:
        if other.name == service.name or not other.claims or _starts(service, other) or _starts(other, service):
            continue
        for claim in service.claims:
            for rival in other.claims:
                if claim.counts and rival.counts and overlap(of_claim(claim), of_claim(rival)):
                    yield claim, other, rival


def _starts(one: Service, other: Service) -> bool:
    """Whether *one* holds a socket for *other*: then both claim it, and nothing clashes."""
    return any(trigger.name == one.name for trigger in other.triggers)

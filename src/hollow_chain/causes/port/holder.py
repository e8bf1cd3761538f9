"""Who has an endpoint, what is said of him, and how he gives way."""

from __future__ import annotations

from hollow_chain.causes.acts import give_way, moved, start
from hollow_chain.causes.case import SOCKETS, Case
from hollow_chain.causes.finding import DOUBT, FITS, SAID, Evidence, Finding, Mend
from hollow_chain.facts.endpoints import free_neighbor, of_claim, of_listener, overlap
from hollow_chain.facts.host import OF_SOCKETS, Listener
from hollow_chain.facts.service import Claim, Service

IN_USE_NUMBERS = (98, 10048)
"""The error numbers of a taken endpoint in either family (``EADDRINUSE``, ``WSAEADDRINUSE``)."""


def held_by_others(case: Case, claim: Claim) -> list[Listener]:
    """The sockets of others that stand in the way of *claim*."""
    wanted = of_claim(claim)
    return [s for s in case.host.listeners if overlap(wanted, of_listener(s)) and not _is_own(case, s)]


def _is_own(case: Case, listener: Listener) -> bool:
    """Whether the socket is the service's own: held by it, or by the unit that starts it on a request."""
    if case.node.name in (listener.service, *listener.shared_with):
        return True
    if not (listener.service or listener.process or listener.program) and case.service.state == "running":
        # Whose it is the system does not tell: of one that runs and is set to it, most likely.
        return any(overlap(of_claim(claim), of_listener(listener)) for claim in case.service.claims)
    return listener.service in {trigger.name for trigger in case.service.triggers}


NOBODY_KNOWN = "an unknown process"
"""The holder of a socket of which the system tells neither service nor process."""


_MOST_BEHIND = 4
"""Services that are named behind a socket of the kernel's."""


def _behind_the_kernel(case: Case, listener: Listener) -> list[Service]:
    """The services that run and for which the kernel may hold a socket: those that need a driver, and are set to have that port; where
    none is set so, all that need a driver which others need too, for a driver that listens does so for several."""
    if listener.service or listener.process not in case.family.kernel_processes:
        return []
    drivers = {s.name for s in case.host.services if s.kind == "driver" and s.state == "running"}
    needing = [
        s
        for s in case.host.services
        if s.state == "running" and any(link.kind == "hard" and link.to in drivers for link in s.links)
    ]
    claiming = [
        s for s in needing if any(claim.port == listener.port for claim in s.claims) and s.name != case.node.name
    ]
    return claiming or [s for s in needing if s.name != case.node.name]


def held_by(case: Case, claim: Claim, line: Evidence | None, listener: Listener, certain: bool) -> Finding:
    """Somebody has what is claimed. *line* is what says that it was in vain, *certain* whether the service itself says so."""
    told = listener.service or listener.process or listener.program
    likely = None if told else case.index.sockets.likely_holder(listener)
    behind = _behind_the_kernel(case, listener) if likely is None else []
    holder = (
        listener.service
        or (likely.name if likely is not None else "")
        or (behind[0].name if len(behind) == 1 else "")
        or listener.program
        or (f"process {listener.process}" if listener.process else NOBODY_KNOWN)
    )
    shared = f", which hosts {', '.join(listener.shared_with)}" if listener.shared_with else ""
    whose = f" of {listener.service}" if listener.service else ""
    if behind:
        whose = f", the kernel, for a driver that listens for {' or '.join(one.name for one in behind[:_MOST_BEHIND])}"
    if likely is not None:
        whose = f", which the system does not tell; {likely.name} runs and is set to it"
    program = listener.program.replace("\\", "/").rpartition("/")[2] or "a process"
    return Finding(
        says=f"{case.service.name} cannot listen on {of_claim(claim)}: {holder}{shared} {'most likely ' if likely or behind else ''}has it.",
        evidence=(
            *((line,) if line else ()),
            case.seen(
                f"{of_listener(listener)} is held by {program} "
                f"(process {listener.process or 'unknown'}){whose}{shared}",
                SOCKETS,
                bears=SAID if certain and listener.process else FITS,
            ),
        ),
        mends=(
            _giving_way(case, claim, line, listener, holder),
            _moving(case, claim),
        ),
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


def _moving(case: Case, claim: Claim) -> Mend:
    """The other way: the port of the two that is asked about moves, so that nothing has to stop."""
    free = free_neighbor(case.host, of_claim(claim))
    return Mend(
        f"Or give one of the two another port: {free} is free for {case.service.name}.",
        "after its restart",
        instead=True,
        means=(moved(case.node.name, free),),
    )


def _giving_way(case: Case, claim: Claim, line: Evidence | None, listener: Listener, holder: str) -> Mend:
    """Have the holder give way; by a machine where more than words of the service itself says that the endpoint is to be its own:
    its definition, or a configuration that only root writes."""
    # Who share a process share its sockets: it goes on holding them until the last of them has stopped.
    together = listener.shared_with or [holder]
    who = " and ".join(together)
    it, which = ("them", holder) if len(together) > 1 else ("it", "it")
    does = f"Stop {who}, and keep {it} from starting at boot, if {which} is not the one that should have the port."
    means = tuple(act for name in together for act in give_way(case.graph.find(case.node.host, name)))
    set_to = any(overlap(of_claim(one), of_claim(claim)) and not one.told for one in case.service.claims)
    if line is not None and line.told and not set_to:
        doubt = f"See first whether {case.service.name} is meant to have {of_claim(claim)}: only its own words say so"
        return Mend(f"{doubt}. If it is: {does[0].lower()}{does[1:]}", means=means)
    if holder == NOBODY_KNOWN:
        look = f"Find out whose socket port {listener.port} is: the system does not tell"
        return Mend(
            f"{look}. Then stop that, and keep it from starting at boot, if it is not the one that should have the port.",
            seeks=True,
        )
    if not listener.service and not listener.process and holder:
        look = f"See first that {holder} has it: stop it, and whether 'hollow-chain ports {listener.port}' still shows the socket"
        return Mend(f"{look}. If it is gone: {does[0].lower()}{does[1:]}", means=means)
    acts = () if listener.shared_with else give_way(case.graph.find(case.node.host, listener.service))
    return Mend(does, acts=acts, means=() if acts else means)


def was_held(case: Case, claim: Claim, line: Evidence | None) -> Finding:
    """It was told that somebody has what is claimed, and nobody has it by now."""
    place = of_claim(claim)
    unread = (
        " (the processes behind some sockets could not be read)"
        if any(item.part == OF_SOCKETS for item in case.host.unread)
        else ""
    )
    return Finding(
        says=f"{case.service.name} found {place} taken; nobody holds it by now{unread}.",
        evidence=(*((line,) if line else ()), case.seen(f"no other socket on {place}", SOCKETS, bears=DOUBT)),
        mends=(
            Mend(
                f"Start {case.service.name}; if it fails again, look who has the port at that moment.",
                acts=(start(case.node.name),),
            ),
        ),
        residual=True,
        # Its end is the consequence of these very words, whoever had the port then.
        explains=("exits-with-error", "exits-at-once", "crash-loop") if line else (),
    )

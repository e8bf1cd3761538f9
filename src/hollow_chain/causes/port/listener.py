"""Listeners that are off, reach no further than the own machine, or have no fixed port."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from hollow_chain.causes.case import MANAGER, SOCKETS, Case
from hollow_chain.causes.finding import AFTER_RELOAD, AFTER_RESTART, FITS, HINT, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot
from hollow_chain.causes.reached import Sought, answers, sought, unanswered, waits_in_vain
from hollow_chain.causes.rule import cause
from hollow_chain.causes.sockets import claims_tcp
from hollow_chain.causes.words import clock
from hollow_chain.facts.confined import CALLS, kept_from_sockets, may_not_listen
from hollow_chain.facts.endpoints import ANY, is_loopback, of_claim, of_listener
from hollow_chain.facts.host import Listener
from hollow_chain.facts.service import Claim
from hollow_chain.wording import lines
from hollow_chain.wording.things import endpoints_of, paths_in

_SETTLED_SECONDS = 5.0
"""A service that came up a moment ago may still be about to open its socket."""


@cause("listener-off", Boot.STAYS, states=("running",))
def listener_off(case: Case) -> Iterator[Finding]:
    """It runs, but its network listener is switched off, listens on loopback only, or waits for another that does not listen.

    Looks at: what needs it and from which host, the words about the endpoint that did not answer; its sockets; the
    endpoints that it is set to listen on, or that are switched off.
    Convinced by: a running service whose claimed endpoint has no socket; a call from another host to a socket on loopback; one without any
    socket that says again and again, until now, that it cannot reach a place at which nobody listens.
    Against: a socket that would have answered; sockets that could not be read; a start a moment ago; nobody who needs it.
    Mend: switch the listener on, on an address that its clients reach.
    """
    if not case.standing.well or case.service.kind != "service" or _just_up(case) or not case.index.sockets.known:
        return
    own = [s for s in case.index.sockets.of(case.service) if s.protocol[:3] == "tcp"]
    calls = _calls(case)
    if not own and case.own_events():
        yield from _went_without(case)
        if case.asked:
            yield from _waits(case)
    if not own and case.asked:
        yield from _may_not_listen(case)
    if not calls and not case.service.claims and not any(is_loopback(s.address) for s in own):
        return  # nobody calls in vain, and it is set to nothing that it could lack
    if any(answers(s, one, caller) for s in own for caller, one in calls):
        return
    off = [c for c in case.service.claims if c.switched_off]
    unheld = case.index.sockets.unheld_claims(case.service)
    afar = case.needed_from is not None and case.needed_from.host != case.node.host
    near_only = [s for s in own if is_loopback(s.address) and (not calls or s.port in {one.port for _, one in calls})]
    far_claims = [c for c in unheld if not any(s.port == c.port for s in own)]
    if near_only and len(near_only) == len(own) and (afar or any(c != case.node.host for c, _ in calls)):
        yield _off(case, f"listens on loopback only ({_listed(near_only)})", calls, off, near_only, unheld)
    elif near_only and calls and not any(s.port == one.port for s in own if s not in near_only for _, one in calls):
        yield _off(case, f"listens on {_listed(near_only)} only", calls, off, near_only, unheld)
    elif off and (calls or afar) and not _held_elsewhere(own, calls):
        yield _off(case, f"has its listener switched off ({off[0].source or 'definition'})", calls, off, own, unheld)
    elif far_claims and (case.asked or case.needed_from is not None):
        found = _off(
            case, f"has no socket on {of_claim(far_claims[0])}, where it should listen", calls, off, own, unheld
        )
        # Settings say more than what is meant now: where nobody calls in vain and it listens elsewhere, this is no trouble yet.
        yield replace(found, note=bool(own) and not calls and not afar)
    elif unheld and (afar or calls):
        yield _off(case, f"listens on {_listed(own)} only, not on {of_claim(unheld[0])}", calls, off, own, unheld)
    elif calls and not own and _is_only_one(case):
        yield _off(case, "runs without any listening socket", calls, off, own, unheld)
    elif off and case.asked:
        yield _note(case, off[0])


def _went_without(case: Case) -> Iterator[Finding]:
    """It says in this run that an address which it wanted is in use, without a word about which, and has no socket at all."""
    said = [event for event in lines.saying(case.own_events(), "in use") if not endpoints_of(event.text)]
    if said and not case.index.sockets.of(case.service) and not paths_in(said[-1].text):
        name = case.node.name
        yield Finding(
            says=f"{name} runs without any listening socket: an address that it wanted was in use.",
            evidence=(
                case.quoted(said[-1], FITS),
                case.seen(f"no socket belongs to {name}", SOCKETS, bears=FITS),
            ),
            mends=(
                Mend(
                    f"See in its settings where {name} is to listen, and who has that; then start {name} anew.",
                    seeks=True,
                ),
            ),
        )


def _may_not_listen(case: Case) -> Iterator[Finding]:
    """Its definition refuses it the calls or the kinds of sockets of listening, and a place of its settings, which may be what it is to
    listen on, is held by nobody."""
    confinement, name, by = case.service.confinement, case.node.name, kept_from_sockets(case.service)
    claim = next((c for c in case.service.claims if _may_be_of_its_own(case, c, by)), None)
    if claim is None or confinement is None or not by or (by == CALLS and not may_not_listen(case.service)):
        return
    if case.index.sockets.unheld_claims(case.service):
        return
    told = f"its {claim.source} name" if claim.source == "arguments" else f"{claim.source} names"
    refuses = ", ".join(confinement.calls_refused or ()) if by == CALLS else "all sockets of a network"
    yield Finding(
        says=f"{name} runs without any listening socket, and {by} of its definition lets it have none; {told} port {claim.port}, "
        "at which nobody listens.",
        evidence=(
            case.seen(f"{by} of {name} refuses it {refuses}", "definition", bears=FITS),
            case.seen(f"{name} has no socket, and nobody has port {claim.port}", SOCKETS, bears=HINT),
        ),
        mends=(Mend(f"Widen {by} in the definition of {name} by what it needs to listen, and no more.", AFTER_RELOAD),),
    )


def _may_be_of_its_own(case: Case, claim: Claim, by: str) -> bool:
    """Whether a port that settings name without saying for what may be one of its own: at an address of this host, and held by nobody.
    Who may use no network at all has settings of others, too, more often than not: there the address has to be told."""
    near = is_loopback(claim.address) or claim.address in ANY or claim.address in case.host.addresses
    is_told = bool(claim.address) or by == CALLS
    return claim.unsure and not claim.told and near and is_told and not case.index.sockets.at(claim.port)


def _waits(case: Case) -> Iterator[Finding]:
    """What it calls again and again does not answer, and nobody who is known is to listen there: most likely it does not get on."""
    alone = unanswered(case) if waits_in_vain(case) else None
    if alone is not None:
        name = case.node.name
        yield Finding(
            says=f"{name} runs without a socket of its own, and says again and again that it {alone.says}.",
            # Some do much else beside what they call in vain.
            evidence=(case.quoted(case.own_events()[-1], HINT), alone.evidence),
            mends=(Mend(f"{alone.does.partition('; then start')[0]}: {name} tries again by itself.", seeks=True),),
        )


def _just_up(case: Case) -> bool:
    last, now = case.service.last, case.host.read_at
    since = last.up_at or last.started_at if last else None
    return since is not None and now is not None and 0 <= (now - since).total_seconds() < _SETTLED_SECONDS


def _calls(case: Case) -> list[tuple[str, Sought]]:
    """Endpoints of this host that the service above, or the user, could not reach, with the host that called."""
    above = case.needed_from
    found = [(above.host, one) for one in sought(Case(case.facts, above))] if above is not None else []
    if case.asked:
        found += [(case.node.host, one) for one in sought(case)]
    return [(caller, one) for caller, one in found if one.host == case.node.host]


def _held_elsewhere(own: list[Listener], calls: list[tuple[str, Sought]]) -> bool:
    return not calls and any(not is_loopback(s.address) for s in own)


def _is_only_one(case: Case) -> bool:
    """Whether it is the only need of the service above that could have answered."""
    above = case.needed_from
    if above is None:
        return False
    edges = case.graph.needs(above, ("hard", "soft", "order"))
    candidates = {
        e.head.name
        for e in edges
        if e.head.host == case.node.host and e.head.service is not None and e.head.service.kind == "service"
    }
    return candidates == {case.node.name}


def _listed(sockets: list[Listener]) -> str:
    return ", ".join(dict.fromkeys(str(of_listener(s)) for s in sockets[:3])) or "nothing"


def _off(
    case: Case, how: str, calls: list[tuple[str, Sought]], off: list[Claim], own: list[Listener], unheld: list[Claim]
) -> Finding:
    name = case.node.name
    evidence: list[Evidence] = [calls[0][1].evidence(case)] if calls else []
    evidence += [case.seen(f"switched off: {c.source or 'definition'}", "configuration", bears=SAID) for c in off[:2]]
    evidence += [
        case.seen(
            f"{name} is set to listen on {of_claim(c)} ({c.source or 'definition'})",
            "definition",
            bears=_surely(c, calls),
        )
        for c in unheld[:2]
    ]
    up = case.service.last.up_at if case.service.last else None
    evidence.append(case.seen(f"{name} runs{f' since {clock(up)}' if up else ''}", MANAGER, bears=HINT))
    evidence.append(case.seen(f"its sockets: {_listed(own)}", SOCKETS, bears=FITS if own or calls else HINT))
    mend = Mend(f"Switch the network listener of {name} on, on an address that its clients reach.", AFTER_RESTART)
    if (by := "" if own else kept_from_sockets(case.service)) and not off:
        set_to = f"{by} is set for {name}" + ("" if by == CALLS else ", and lets it use no socket of a network")
        # Who was kept from all networks on purpose has settings, too.
        guess = by == CALLS or (bool(unheld) and all(_surely(c, calls) == HINT for c in unheld))
        evidence.append(case.seen(set_to, "definition", bears=HINT if guess else FITS))
        keeps = "keeps" if by != CALLS or may_not_listen(case.service) else "may keep"
        how += f"; {by} of its definition {keeps} it from that"
        mend = Mend(f"Widen {by} in the definition of {name} by what it needs to listen, and no more.", AFTER_RELOAD)
    return Finding(
        says=f"{name} runs, but {how}.",
        evidence=tuple(evidence),
        mends=(mend,),
        explains=("port-not-fixed",),
    )


def _surely(claim: Claim, calls: list[tuple[str, Sought]]) -> str:
    """What it is worth that it is set to listen somewhere: settings may speak of what another program of the same package does, as long as
    nobody calls there."""
    return FITS if calls or not claim.source.startswith("configuration") else HINT


def _note(case: Case, claim: Claim) -> Finding:
    return Finding(
        says=f"{case.node.name} has a network listener that is switched off; only programs of its own host can reach it.",
        evidence=(case.seen(f"switched off: {claim.source or 'definition'}", "configuration", bears=SAID),),
        mends=(Mend(f"Switch it on, if other hosts need {case.node.name}.", AFTER_RESTART),),
        note=True,
    )


@cause("port-not-fixed", Boot.STAYS, states=("running",))
def port_not_fixed(case: Case) -> Iterator[Finding]:
    """A port is given out dynamically where a fixed one is needed.

    Looks at: endpoints that are free choice by its definition; who needs it from another host; declared firewalls.
    Convinced by: a need from another host that fails, a firewall between that passes single ports only.
    Against: no need from afar (then it is only noted); a fixed port beside it.
    Mend: give it a fixed port, and open that one.
    """
    free = [c for c in case.service.claims if c.free_choice]
    if not free or claims_tcp(case.service):
        return
    above = case.needed_from
    afar = above is not None and above.host != case.node.host
    walls = [f for f in (*case.graph.document.firewalls, *case.host.firewalls) if not f.passes_by_default]
    own = [s for s in case.index.sockets.of(case.service) if s.protocol[:3] == "tcp" and not is_loopback(s.address)]
    if not (afar or case.asked):
        return
    evidence = [
        case.seen(f"its port is given out dynamically ({free[0].source or 'definition'})", "definition", bears=SAID)
    ]
    if own:
        evidence.append(case.seen(f"its port at this moment: {own[0].port}", SOCKETS, bears=HINT))
    if walls:
        evidence.append(case.seen(f"{walls[0].name} passes only what a rule names", "firewall", bears=FITS))
    evidence += [one.evidence(case) for _, one in _calls(case)[:1]]
    yield Finding(
        says=f"The port of {case.node.name} is given out dynamically; a client on another host, or a firewall, needs a fixed one.",
        evidence=tuple(evidence),
        mends=(Mend(f"Give {case.node.name} a fixed port, and open that one in each firewall on the way.", AFTER_RESTART),),
        note=not (afar and walls),
    )  # fmt: skip

"""Order: two services that must not start as they do, though nothing declares it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import timedelta

from msgspec.structs import replace

from hollow_chain.causes.acts import give_way, start, wait
from hollow_chain.causes.case import SOCKETS, Case
from hollow_chain.causes.finding import AFTER_REBOOT, AFTER_RELOAD, FITS, HINT, PROOF, SAID, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot, Shown, When
from hollow_chain.causes.order_of_boots import Order, orders
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.words import clock, numbered
from hollow_chain.chain import reach
from hollow_chain.facts.host import Event, Listener
from hollow_chain.facts.service import Service
from hollow_chain.wording import lines
from hollow_chain.wording.forms import says
from hollow_chain.wording.things import endpoints_of

_STILL_OPENING = timedelta(seconds=60)
"""For so long a provider that is called up may still be about to open its socket."""
_ENOUGH_BOOTS = 3
"""Boots on record that make an order speak for itself, where no word of the service points at the other."""
_UNSHARED = (32, 33)
"""Control-manager error numbers: another process has the file, or a part of it, for itself."""
_EXPLAINS = ("exits-with-error", "exits-at-once", "crash-loop", "start-timeout", "killed", "start-rate-limited")


@cause(
    "start-race",
    Boot.USES,
    states=("running", *NOT_UP),
    when=When.FAILED,
    shown=Shown(1067, "exit-code", "connect to {endpoint} failed: connection refused", 7),
)
def start_race(case: Case) -> Iterator[Finding]:
    """It uses what another provides, without waiting for it, and came first.

    Looks at: what its log says that it could not reach, who provides that now and since when; the records of boots: who
    came first when it worked, who when it failed; the declared order.
    Convinced by: a refused endpoint that a service has held only since; an order that tells all good boots from all bad.
    Against: the other being up before the try; too few boots, where its own words do not point at the other.
    Mend: declare the wait, or delay it.
    """
    by_boots = [order for order in orders(case) if not order.first_when_bad]
    for event, listener, provider in _came_later(case):
        known = next((order for order in by_boots if order.other.name == provider.name), None)
        words = [case.quoted(event, FITS), *_held_since(case, listener, provider), *_boots(case, known)]
        found = _race(case, provider, words, known)
        yield replace(found, explains=(*found.explains, "held-by-peer"))
        return
    pointed = [order for order in by_boots if _points_at(case, order.other)]
    chosen = pointed or [
        order for order in by_boots if order.good + order.bad >= _ENOUGH_BOOTS and not _waits_for(case, order.other)
    ]
    if len(chosen) == 1 or pointed:
        order = chosen[0]
        yield _race(case, order.other, _boots(case, order), order)


def _came_later(case: Case) -> Iterator[tuple[Event, Listener, Service]]:
    """Endpoints of this host that its log could not reach, and that a service holds since after that."""
    # Where nothing listens yet, a try on the own host is refused at once: whoever was silent was there, and hangs.
    said = [e for e in lines.saying(case.own_events(), "unreached") if not says(e.text, "silent")]
    local = ("", "localhost", "127.0.0.1", "::1", *case.host.addresses)
    for event, address, port in lines.endpoints_in(said, case.own_events()):
        for listener in case.host.listeners:
            provider = case.graph.find(case.node.host, listener.service) if listener.service else None
            if listener.port != port or address not in local or provider is None or provider.name == case.node.name:
                continue
            up = provider.last.up_at or provider.last.started_at if provider.last else None
            if up is not None and up > event.at - _STILL_OPENING:
                yield event, listener, provider


def _held_since(case: Case, listener: Listener, provider: Service) -> list[Evidence]:
    up = provider.last.up_at or provider.last.started_at if provider.last else None
    held = f"port {listener.port} is held by {provider.name}, which is up since {clock(up)}"
    return [
        case.seen(held, SOCKETS, bears=SAID),
        case.seen(
            f"at the time of that try nothing answered there: {provider.name} came up after it, or only just before it",
            at=up,
            bears=FITS,
        ),
    ]


def _boots(case: Case, order: Order | None) -> list[Evidence]:
    if order is None:
        return []
    name, other = case.node.name, order.other.name
    when_good, when_bad = ("later", "first") if order.first_when_bad else ("first", "later")
    many = order.good + order.bad >= _ENOUGH_BOOTS
    return [
        case.seen(
            f"in {order.good} boots {name} worked, and {other} was up {when_good}",
            "records of boots",
            bears=FITS if many else HINT,
        ),
        case.seen(
            f"in {order.bad} boots {name} failed, and {other} was up {when_bad}",
            "records of boots",
            bears=FITS if many else HINT,
        ),
    ]


def _race(case: Case, provider: Service, evidence: list[Evidence], order: Order | None) -> Finding:
    name = case.node.name
    waits = _waits_for(case, provider)
    # An order is enough only where "up" means that it answers.
    enough = not waits and _answers_when_up(case, provider)
    boots = f" ({order.good + order.bad} boots speak for it)" if order else ""
    how = "is called up before it answers" if waits else "does not wait for it"
    return Finding(
        says=f"{name} uses what {provider.name} provides, {'which ' if waits else ''}{how}, and came first{boots}.",
        evidence=(*evidence, case.seen(f"declared order: {name} {'starts after' if waits else 'does not wait for'} {provider.name}", bears=HINT)),
        mends=(
            Mend(f"Start {name} now that {provider.name} is up.", acts=(start(name),) if enough else ()),
            Mend(f"Let {provider.name} report that it is up only when it answers.", AFTER_RELOAD)
            if waits
            else Mend(f"Declare that {name} needs {provider.name} and starts after it, or delay {name}.", AFTER_RELOAD,
                      (wait(name, provider.name),) if enough else ()),
            *(() if waits or enough else (Mend(f"And let {provider.name} report that it is up only when it answers.", AFTER_RELOAD),)),
        ),
        holder=provider.name,
        explains=_EXPLAINS,
    )  # fmt: skip


_REPORTS = ("notify", "notify-reload", "forking", "dbus", "oneshot")


def _answers_when_up(case: Case, provider: Service) -> bool:
    """Whether the other counts as up no sooner than it answers, as far as that can be known: it says so itself (systemd.service(5),
    "Type="), and was not called up already when it was tried in vain."""
    if case.family.up_means_ready:
        return True
    style = provider.program.style if provider.program else ""
    up = provider.last.up_at or provider.last.started_at if provider.last else None
    tried = case.service.last.ended_at if case.service.last else None
    return style in _REPORTS and not (up is not None and tried is not None and up < tried)


def _waits_for(case: Case, other: Service) -> bool:
    """Whether an order, direct or over others, lets the service start only after *other*."""
    kinds = case.family.waits_by
    ahead = reach(case.node, lambda node: [edge.head for edge in case.graph.needs(node, kinds) if not edge.crosses])
    return any(node.name == other.name for node, _ in ahead)


def _points_at(case: Case, other: Service) -> bool:
    """Whether the service's own words or links name the other: its name, its program, or a port that it holds."""
    if any(link.to == other.name for link in case.service.links if link.kind in ("hard", "soft")):
        return True
    stem = other.name.rpartition(".")[0] or other.name
    words = [re.escape(word) for word in (stem, other.display_name) if len(word) > 3]
    ports = {listener.port for listener in case.host.listeners if listener.service == other.name} | {
        c.port for c in other.claims
    }
    for event in case.own_events():
        if words and re.search(rf"(?i)(?<!\w)(?:{'|'.join(words)})(?!\w)", event.text):
            return True
        if any(port in ports for _, port in endpoints_of(event.text)):
            return True
    return False


@cause(
    "held-by-peer",
    Boot.RIVALRY,
    states=("running", *NOT_UP),
    when=When.FAILED,
    shown=Shown(32, "exit-code", "cannot open {thing}: it is in use by another process", 1),
)
def held_by_peer(case: Case) -> Iterator[Finding]:
    """Another service holds something that only one can have (not a port) until it is stopped.

    Looks at: log lines and error numbers that call a thing busy or in exclusive use; which process has it; the records
    of boots: who came first when it worked, who when it failed.
    Convinced by: a process of another service behind the busy thing; an order that tells all good boots from all bad.
    Against: nobody having it; a lock or PID file (then ``lock-held``), a port (then ``port-held``).
    Mend: stop the other, start this one, start the other; lastingly, delay the holder.
    """
    by_boots = [order for order in orders(case) if order.first_when_bad]
    said = [*lines.busy(case.own_events())]
    told = numbered(case, *_UNSHARED, bears=FITS)
    for event, paths in said:
        for path in paths:
            holder = _holder_of(case, path)
            if holder:
                order = next((o for o in by_boots if o.other.name == holder), None)
                look = case.seen(f"{path} is open in {holder}", "processes", bears=PROOF)
                yield _held(case, holder, path, [case.quoted(event, FITS), look, *_boots(case, order)], order)
                return
    words = [case.quoted(event, FITS) for event, _ in said[-1:]] or told
    running = [order for order in by_boots if order.other.state == "running"] or by_boots
    pointed = [order for order in running if _points_at(case, order.other)]
    enough = [order for order in running if order.good + order.bad >= _ENOUGH_BOOTS]
    chosen = pointed or (enough if len(enough) == 1 or words else [])
    if chosen and (words or pointed or len(chosen) == 1):
        yield _held(case, chosen[0].other.name, "", [*words, *_boots(case, chosen[0])], chosen[0])
    elif words and not _has_lock_words(said):
        yield from _held_by_somebody(case, words, next((paths[0] for _, paths in said if len(paths) == 1), ""))


def _has_lock_words(said: list[tuple[Event, list[str]]]) -> bool:
    return any(re.search(r"(?i)\block|\bpid\b", event.text) for event, _ in said)


def _holder_of(case: Case, path: str) -> str:
    """The service (else the program) behind a busy *path* that is no lock file; empty where nobody is known."""
    file = case.file(path)
    if file is None or not file.held_by or file.kind == "file":
        return ""
    for process in case.host.processes:
        if process.process == file.held_by and process.service != case.node.name:
            return process.service or process.program or f"process {process.process}"
    return ""


def _held(case: Case, holder: str, path: str, evidence: list[Evidence], order: Order | None) -> Finding:
    name = case.node.name
    what = path or "something that only one can have"
    boots = f" ({order.good + order.bad} boots speak for it)" if order else ""
    return Finding(
        says=f"{name} cannot get {what} while {holder} has it{boots}.",
        evidence=tuple(evidence),
        mends=(
            Mend(
                f"Stop {holder}, start {name}, then start {holder} again.",
                acts=give_way(case.graph.find(case.node.host, holder)),
            ),
            Mend(f"Lastingly, let {holder} start late, after {name}.", AFTER_REBOOT),
        ),
        holder=holder,
        explains=(
            *_EXPLAINS,
            "config-rejected",
            *(("start-race",) if any(e.bears == FITS for e in evidence[:1]) else ()),
        ),
    )


def _held_by_somebody(case: Case, words: list[Evidence], path: str) -> Iterator[Finding]:
    """The words alone, and the *path* that they name: who has it is not known, and is the next thing to look at."""
    declared = [
        edge.head.name
        for edge in case.graph.needs(case.node, ("clash",))
        if case.facts.standing(edge.head).value == "up"
    ]
    who = f"; {', '.join(declared)} is declared to clash with it" if declared else "; who has it is not recorded"
    what = f"{path}, which" if path else "something that"
    yield Finding(
        says=f"{case.node.name} cannot get {what} somebody else has for himself alone{who}.",
        evidence=tuple(words),
        mends=(Mend(f"Find who has it, stop that, and start {case.node.name}.", seeks=True),),
        holder=declared[0] if declared else "",
        residual=True,
    )

"""Order: a start that was asked for, and waits in the manager's queue; and two that wait for each other there."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.acts import start
from hollow_chain.causes.case import Case, Facts
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, PROOF, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import Boot
from hollow_chain.causes.rule import cause
from hollow_chain.causes.words import clock, span
from hollow_chain.chain import Node, reach
from hollow_chain.facts.host import Process
from hollow_chain.families.times import NO_LIMIT, start_limit

LONG = 90.0
"""Seconds after which a start without a limit has gone on for long: those with one have it from the manager, which is this long
where nobody set another (systemd-system.conf(5), ``DefaultTimeoutStartSec=``)."""
_INSTEAD = ("never-started", "manual-not-started", "stopped", "event-pending")
"""What is said of a service that nobody has tried to start, or has not since it ended."""
_MOST_NAMED = 3
"""Services that are named in one sentence."""


def behind(facts: Facts, node: Node) -> list[Node]:
    """What the start of *node* waits for in the queue: what has to be done first, and is not itself waiting for that."""
    job = node.service.job if node.service is not None else None
    return [facts.graph.node(node.host, name) for name in job.behind] if job is not None else []


def waiter(facts: Facts, node: Node) -> tuple[Process, Node] | None:
    """The process of *node*, whose start is under way, that has asked for the start of another which waits in the queue until that of
    *node* is done; and that other. None where there is none."""
    job = node.service.job if node.service is not None else None
    if job is None or job.state != "running":
        return None
    index = facts.index(node.host)
    others = {one.name: facts.graph.node(node.host, one.name) for one in index.waiting if one.name != node.name}
    for process in index.host.processes if others else ():
        if process.service != node.name:
            continue
        for argument in process.arguments[1:]:
            other = others.get(argument) or others.get(f"{argument}.service")
            if other is not None and _waits_for(facts, other, node):
                return process, other
    return None


def _waits_for(facts: Facts, node: Node, other: Node) -> bool:
    return any(one.key == other.key for one, _ in reach(node, lambda at: behind(facts, at)))


@cause("waiting-loop", Boot.STAYS, states=("starting",))
def waiting_loop(case: Case) -> Iterator[Finding]:
    """Its program waits for the start of another, which the manager begins only when this one is up.

    Looks at: the manager's queue; the processes of a start that is under way, and the services that they name.
    Convinced by: a process of this start that asks for another, whose job waits for this one.
    Against: nothing: neither can be done before the other.
    Mend: let the program not wait for the other, or take the order away.
    """
    found = waiter(case.facts, case.node)
    if found is None:
        return
    process, other = found
    name, asks = case.node.name, " ".join(process.arguments)[:200]
    begun = case.service.last.started_at if case.service.last is not None else None
    yield Finding(
        says=f"{name} and {other.name} wait for each other: a process of {name} asks for the start of {other.name} and waits for it, "
        f"and that start is held back until {name} is up.",
        evidence=(
            case.seen(f"the start of {other.name} waits in the manager's queue for that of {name}", bears=SAID),
            case.seen(f"process {process.process} of {name} is: {asks}", "processes", process.started_at, PROOF),
            case.seen(f"{name} has been starting since {clock(begun)}", at=begun),
        ),
        mends=(
            Mend(f"Let the program of {name} ask for {other.name} without waiting for it, or leave that to a need of {name}."),
            Mend(f"Or take the order away that lets {other.name} start only after {name}.", AFTER_RELOAD, instead=True),
        ),
        loop=(name, other.name),
        explains=("start-timeout", "never-reports", "start-waits"),
    )  # fmt: skip


@cause("start-waits", Boot.OVER, states=("stopped", "failed", "unknown"))
def start_waits(case: Case) -> Iterator[Finding]:
    """Its start was asked for and waits in the manager's queue, or was given up there.

    Looks at: the manager's queue; what has to be done first, since when that is under way, and with which limit.
    Convinced by: a job that waits; the manager's record that one ran out of time before it began.
    Against: what it waits for being within its time: then this is no fault.
    Mend: what it waits for; then a start.
    """
    job = case.service.job
    if job is None or job.kind not in ("start", "restart"):
        return
    if job.state == "waiting":
        yield from _waiting(case)
    elif job.state != "running":
        yield _given_up(case, job.state)


def _waiting(case: Case) -> Iterator[Finding]:
    name, ahead = case.node.name, behind(case.facts, case.node)
    first = ahead[:_MOST_NAMED]
    what = ", ".join(node.name for node in first) + (
        f" and {len(ahead) - len(first)} more" if len(ahead) > len(first) else ""
    )
    endless = [node for node in ahead if _goes_on_without_limit(case, node)]
    last = _in_the_end(case)
    behind_all = f", and in the end for {last.name}" if last is not None and last not in ahead else ""
    yield Finding(
        says=f"the start of {name} was asked for and waits in the manager's queue until {what or 'the jobs before it'} "
        f"{'are' if len(ahead) > 1 else 'is'} done{behind_all}.",
        evidence=(
            case.seen(f"job for {name}: {case.service.job.kind if case.service.job else 'start'}, waiting", bears=SAID),
            *(_under_way(case, node, HINT if node in endless else TELLS) for node in first),
            *((_under_way(case, last, TELLS),) if behind_all and last is not None else ()),
        ),
        mends=(Mend(f"Wait for {what}, or see why that takes so long." if what else "Wait, and look again.", seeks=True),),
        note=not endless,
        residual=True,
        holder=endless[0].name if endless else "",
        explains=_INSTEAD,
    )  # fmt: skip


def _in_the_end(case: Case) -> Node | None:
    """What is under way, and not waiting itself, at the end of what the start waits for."""
    far = [node for node, _ in reach(case.node, lambda at: behind(case.facts, at)) if _state(node) == "starting"]
    return far[-1] if far else None


def _goes_on_without_limit(case: Case, node: Node) -> bool:
    taken = _taken(case, node)
    return taken is not None and taken > LONG and node.service is not None and _limit(case, node) is None


def _state(node: Node) -> str:
    return node.service.state if node.service is not None else "not registered"


def _limit(case: Case, node: Node) -> float | None:
    limit = start_limit(node.service, case.host) if node.service is not None else None
    return None if limit is None or limit.seconds == NO_LIMIT else limit.seconds


def _taken(case: Case, node: Node) -> float | None:
    """For how long its start has been under way."""
    last = node.service.last if node.service is not None else None
    if _state(node) != "starting" or last is None or last.started_at is None or case.host.read_at is None:
        return None
    return (case.host.read_at - last.started_at).total_seconds()


def _under_way(case: Case, node: Node, bears: str) -> Evidence:
    taken, limit = _taken(case, node), _limit(case, node)
    for_how_long = f" for {span(taken)}" if taken is not None else ""
    within = f", limit {span(limit)}" if limit is not None else ", without a limit" if taken is not None else ""
    return case.seen(f"{node.name}: {_state(node)}{for_how_long}{within}", bears=bears)


def _given_up(case: Case, came_to: str) -> Finding:
    name, job = case.node.name, case.service.job
    at = job.at if job is not None else None
    needs = case.graph.needs(case.node, frozenset(("hard", "order")))
    ahead = list({e.head.key: e.head for e in needs if not e.crosses and _state(e.head) == "starting"}.values())
    still = ", ".join(node.name for node in ahead[:_MOST_NAMED])
    how = "its job waited for longer than a job may" if came_to == "timeout" else "its job was canceled"
    said = [event for event in case.events() if event.by_manager and at is not None and event.at == at]
    return Finding(
        says=f"the start of {name} was given up in the manager's queue at {clock(at)}, before its program was run: {how}"
        + (f"; it starts after {still}, which is starting still." if still else "."),
        evidence=(
            *(case.quoted(event, SAID) for event in said[:1]),
            case.seen(f"the last job for {name} came to: {came_to}", at=at, bears=FITS),
            *(_under_way(case, node, FITS) for node in ahead[:_MOST_NAMED]),
        ),
        mends=(
            *((Mend(f"See why {still} does not come up.", seeks=True),) if still else ()),
            Mend(f"Start {name}.", acts=() if still else (start(name),), only_starts=True),
        ),
        holder=ahead[0].name if ahead else "",
        explains=_INSTEAD,
    )


def holds_up(facts: Facts, node: Node) -> bool:
    """Whether *node*, for which another waits in the queue, is an obstacle and not merely busy."""
    return not facts.standing(node).well or waiter(facts, node) is not None

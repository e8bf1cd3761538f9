"""The links themselves: loops and clashes."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from hollow_chain.causes.acts import give_way
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, PROOF, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import CLASHES, Boot, Shown
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import Standing, failed_last
from hollow_chain.causes.words import clock
from hollow_chain.chain import Edge, Node, loop_through, reach
from hollow_chain.facts.service import LinkKind

_CYCLE_WORDS = ("ordering cycle", "order is cyclic", "break ordering")
_SAME_MOMENT = 5.0
"""Seconds within which an end and a start that caused it are recorded."""
_PULLING: tuple[LinkKind, ...] = ("hard", "soft")


@cause(
    "dependency-cycle",
    Boot.ANEW,
    states=NOT_UP,
    shown=Shown(1059, "dependency", "{name} was not started: it waits for itself over others"),
)
def dependency_cycle(case: Case) -> Iterator[Finding]:
    """A loop of needs and order: each waits for the next, and the last for the first.

    Looks at: the links, where order counts as a link between services of one start; the manager's own words.
    Convinced by: a loop that closes. Order without need counts only among services that one start pulls in.
    Against: a loop of needs alone where the manager starts both at once (systemd without an order).
    Mend: cut the weakest link: an order before a need.
    """
    loop = _loop(case)
    if not loop:
        return
    names = [node.name for node in loop]
    spoken = [e for e in case.events() if any(words in e.text.lower() for words in _CYCLE_WORDS)]
    weakest = _weakest(case, loop)
    yield Finding(
        says=f"{case.node.name} stands in a loop: {' → '.join([*names, names[0]])}; each waits for the next.",
        evidence=(
            case.seen(f"the needs and orders close a loop of {len(names)}", bears=PROOF),
            *(case.seen(_link_words(edge)) for edge in _edges_of(case, loop)[:12]),
            *(case.quoted(event, SAID) for event in spoken[-1:]),
        ),
        mends=(
            Mend(
                f"Cut the link from {weakest.tail.name} to {weakest.head.name} ({_kind(weakest)}).",
                AFTER_RELOAD,
            ),
        )
        if weakest
        else (),
        loop=tuple(names),
        explains=("never-started", "stopped", "manual-not-started"),
    )


def _loop(case: Case) -> list[Node]:
    """The loop through the node that its manager cannot start, if there is one."""
    graph = case.graph
    waits: tuple[LinkKind, ...] = (case.family.loops_over,)
    if case.node.name not in graph.tangled(case.node.host, waits[0]):
        return []
    pulled = {case.node.key} | {
        node.key
        for node, _ in reach(
            case.node, lambda n: [e.head for e in graph.needs(n, _PULLING) if not e.crosses and e.link.pulls]
        )
    }

    def step(node: Node) -> list[Node]:
        return [e.head for e in graph.needs(node, waits) if not e.crosses and e.head.key in pulled and e.head.service]

    return loop_through(case.node, step)


def _edges_of(case: Case, loop: list[Node]) -> list[Edge]:
    edges: list[Edge] = []
    for node, following in zip(loop, [*loop[1:], loop[0]], strict=True):
        edges += [e for e in case.graph.needs(node, ("hard", "soft", "order")) if e.head.key == following.key]
    return edges


def _weakest(case: Case, loop: list[Node]) -> Edge | None:
    """The link whose loss costs least: an order without a need, then a soft need, then a hard one."""
    best: Edge | None = None
    best_rank = 9
    for node, following in zip(loop, [*loop[1:], loop[0]], strict=True):
        between = [e for e in case.graph.needs(node, ("hard", "soft", "order")) if e.head.key == following.key]
        kinds = {e.link.kind for e in between}
        rank = 2 if "hard" in kinds else 1 if "soft" in kinds else 0
        waits = [e for e in between if e.link.kind == "order"] or between
        if waits and rank <= best_rank:
            best, best_rank = waits[0], rank
    return best


def _kind(edge: Edge) -> str:
    return edge.link.word or edge.link.kind


def _link_words(edge: Edge) -> str:
    verb = "starts after" if edge.link.kind == "order" else "needs"
    return f"{edge.tail.name} {verb} {edge.head.name} ({_kind(edge)})"


@cause("stopped-by-conflict", Boot.ANEW, put_right=(CLASHES,), states=("stopped", "failed", "unknown"))
def stopped_by_conflict(case: Case) -> Iterator[Finding]:
    """A start of another service ended it, as one of the two declares.

    Looks at: links of the kind clash in both directions; whether the other one is up; when this one ended and
    when that one started.
    Convinced by: the other being up, and its start falling together with this one's end.
    Against: the other being down; an end long before the other's start.
    Mend: choose one of the two, or remove the clash.
    """
    service = case.service
    if failed_last(service) or service.startup == "disabled":
        return
    if service.startup == "automatic" and service.triggers and case.standing is Standing.NOT_YET:
        return  # its socket waits for the next that comes
    for edge, other in _clashes(case):
        if case.facts.standing(other) is not Standing.UP or other.service is None or other.service.kind == "target":
            continue
        last, rival = service.last, other.service.last
        ended = (last.left_up_at or last.ended_at) if last else None
        began = (rival.started_at or rival.up_at) if rival else None
        together = _close(ended, began) or (ended is not None and _close(ended, rival.up_at if rival else None))
        if ended is not None and began is not None and not together and ended < began:
            continue
        yield Finding(
            says=f"{service.name} cannot run beside {other.name}, which is up"
            + (
                f"; the start of {other.name} at {clock(began)} ended it."
                if together
                else "; the two are declared to clash."
            ),
            evidence=(
                case.seen(
                    f"{edge.tail.name} declares that it clashes with {edge.head.name} ({_kind(edge)})", bears=FITS
                ),
                case.seen(f"{other.name} is up", MANAGER, rival.up_at if rival else None, HINT),
                *((Evidence(f"{service.name} ended", MANAGER, ended, FITS if together else TELLS),) if ended else ()),
            ),
            mends=(
                Mend(
                    f"Choose: stop {other.name} and start {service.name}, or leave it as it is.",
                    acts=give_way(other.service),
                ),
                Mend(
                    f"If both are to run, remove the clash from the definition of {edge.tail.name}.",
                    AFTER_RELOAD,
                ),
            ),
            holder=other.name,
            explains=("stopped", "never-started", "manual-not-started"),
        )


def _clashes(case: Case) -> Iterator[tuple[Edge, Node]]:
    """Every declared clash of the node, whichever side declares it, with the other side."""
    for edge in case.graph.needs(case.node, ("clash",)):
        yield edge, edge.head
    for edge in case.graph.needed_by(case.node, ("clash",)):
        yield edge, edge.tail


def _close(one: datetime | None, other: datetime | None) -> bool:
    return one is not None and other is not None and abs((one - other).total_seconds()) <= _SAME_MOMENT

"""Dependency: the links themselves do not hold: loops, clashes, file systems and devices."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from hollow_chain.causes.acts import give_way
from hollow_chain.causes.case import FILES, MANAGER, Case
from hollow_chain.causes.finding import AFTER_RELOAD, FITS, HINT, PROOF, SAID, TELLS, Evidence, Finding, Mend
from hollow_chain.causes.nature import CLASHES, RUNNING, Boot, Shown
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import Standing, failed_last
from hollow_chain.causes.words import clock
from hollow_chain.chain import Edge, Node, loop_through, reach
from hollow_chain.facts.service import LinkKind, Program
from hollow_chain.wording import lines
from hollow_chain.wording.forms import read

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


@cause("mount-failed", Boot.STAYS, states=("failed", "stopped", "starting"))
def mount_failed(case: Case) -> Iterator[Finding]:
    """A file system that it needs is not mounted.

    Looks at: mounts that are needed and not up; their last result; what the log says of them.
    Convinced by: a failed mount.
    Against: the device below the mount being absent (then that is the cause).
    Mend: mend what the log names, then mount it.
    """
    service = case.service
    if service.kind not in ("mount", "automount", "swap") or service.startup == "disabled":
        return
    failed = service.state == "failed" or failed_last(service)
    if not failed and case.needed_from is None and not case.asked:
        return
    said = case.events()[-3:]
    where = service.program.paths[0] if service.program and service.program.paths else service.name
    what = service.program.paths[1] if service.program and len(service.program.paths) > 1 else ""
    source = case.file(what) if what else None
    absent = source is not None and not source.exists
    yield Finding(
        says=f"The file system {where}{f' (from {what})' if what else ''} is not mounted{f', {what} is not there' if absent else ''}.",
        evidence=(
            case.seen(
                f"state of {service.name}: {service.detail or service.state}, result {service.last.result if service.last else 'not known'}",
                bears=PROOF if failed else SAID,
            ),
            *((case.seen(f"{what} does not exist", FILES),) if absent else ()),
            *(case.quoted(event) for event in said),
        ),
        mends=(
            Mend(f"See what the mount says, put {what or 'its source'} right, then start {service.name}.", seeks=True),
        ),
        residual=True,
        explains=("exits-with-error", "stopped", "manual-not-started", "never-started"),
    )


@cause("device-missing", Boot.ANEW, put_right=(RUNNING,), states=("absent", "stopped", "failed", "unknown", "starting"))
def device_missing(case: Case) -> Iterator[Finding]:
    """A device that it needs is not there.

    Looks at: devices that are needed and have not appeared; network adapters that its last words call absent.
    Convinced by: a hard need of a device that is not there; an adapter that the host does not have.
    Against: the device being there.
    Mend: connect the device, or correct its name where it is needed.
    """
    if case.host.adapters and case.node.service is not None and case.node.service.kind == "service":
        yield from _adapter_missing(case)
    if not case.node.name.endswith(".device") or (case.needed_from is None and not case.asked):
        return
    service = case.node.service
    name = service.description if service and service.description else case.node.name
    state = service.detail or service.state if service else "not known to the manager"
    yield Finding(
        says=f"The device {name} is not there.",
        evidence=(
            case.seen(f"state of {case.node.name}: {state}", bears=PROOF),
            *(case.quoted(event) for event in case.events()[-2:]),
        ),
        mends=(
            Mend(f"Connect the device behind {case.node.name}."),
            Mend("Or correct the device's name where it is needed.", AFTER_RELOAD, instead=True),
        ),
    )


def _adapter_missing(case: Case) -> Iterator[Finding]:
    """A network adapter that its last words call absent, and that the host does not have."""
    here = {one.name for one in case.host.adapters}
    if not here or case.standing.well or not failed_last(case.service):
        return
    own = {case.service.name.partition(".")[0], (case.service.program or Program()).path.rpartition("/")[2]}
    for event in lines.saying(case.final_events(), "adapter missing")[::-1]:
        named = [name for name in read(event.text).named("adapter missing", "adapter") if name not in own]
        name = next((one for one in named if any(map(str.isdigit, one)) or f"{one}:" not in event.text), "")
        if name and name not in here:
            yield Finding(
                says=f"{case.service.name} needs the network adapter {name}, which {case.host.name} does not have.",
                evidence=(
                    case.quoted(event, SAID),
                    case.seen(
                        f"network adapters of {case.host.name}: {', '.join(sorted(here)[:12])}", "adapters", bears=FITS
                    ),
                ),
                mends=(
                    Mend(
                        f"Correct the name of the adapter where {case.service.name} names it, or bring {name} up before it."
                    ),
                ),
                explains=("exits-with-error", "exits-at-once", "crash-loop", "config-rejected", "path-missing"),
            )
            return

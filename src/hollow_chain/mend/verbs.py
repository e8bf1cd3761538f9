"""The acts, in words: what each is called, what it changes, when that takes effect, what it costs, how it is taken back.

Nothing is carried out here; ``supposing`` carries acts out on a copy of the facts, ``hands`` on hosts.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from hollow_chain.boot.making import UP
from hollow_chain.causes import Facts
from hollow_chain.causes.acts import Act
from hollow_chain.causes.words import span
from hollow_chain.chain import Node, starves, stop_takes
from hollow_chain.facts.host import File, Host
from hollow_chain.facts.service import Service
from hollow_chain.families import family_of
from hollow_chain.mend.plan import AFTER_REBOOT, AFTER_RESTART, AT_ONCE

MOST_SHOWN = 30
"""Services that a step interrupts and that are named; the number of all is told."""
Look = Callable[[str], File | None]


@dataclass(frozen=True)
class ActView:
    """The facts of one host as an act sees them."""

    facts: Facts
    host: Host
    look: Look

    def service(self, act: Act) -> Service | None:
        """What the act is done to."""
        return self.facts.graph.find(self.host.name, act.service)

    def node(self, act: Act) -> Node:
        """The same as a node."""
        return self.facts.graph.node(self.host.name, act.service)

    def dependents(self, act: Act) -> list[str]:
        """What runs now and ends with a stop of the service; and what runs on another host and is no longer served then."""
        node = self.node(act)
        ended = [n.name for n in stop_takes(self.facts.graph, node) if n.service and n.service.state in UP]
        left = [n for n in starves(self.facts.graph, node) if n.service and n.service.state in UP]
        return ended + [f"{n.name} on {n.host}" for n in left]


def view_of(facts: Facts, host: str) -> ActView:
    """A view that looks at files in the facts only."""
    return ActView(facts, facts.graph.hosts[host], facts.index(host).file)


@dataclass(frozen=True)
class Verb:
    """One verb."""

    rank: int
    """How much it disrupts; of equal mends the least disruptive comes first."""
    cost: float
    """Minutes."""
    does: Callable[[ActView, Act], str]
    old: Callable[[ActView, Act], str]
    new: Callable[[ActView, Act], str]
    undo: Callable[[ActView, Act], str]
    effect: Callable[[ActView, Act], str] = lambda view, act: AT_ONCE
    touches: Callable[[ActView, Act], list[str]] = lambda view, act: []
    interrupts: Callable[[ActView, Act], list[str]] = lambda view, act: []


# What stands there now.


def _state(view: ActView, act: Act) -> str:
    service = view.service(act)
    return service.state if service is not None else "not registered"


def _startup(view: ActView, act: Act) -> str:
    service = view.service(act)
    return service.startup if service is not None else "not registered"


def _limit(view: ActView, act: Act) -> str:
    limits = view.host.limits if not act.service else (service.limits if (service := view.service(act)) else None)
    known = limits.start_seconds if limits else None
    if known is None:
        return "as for all" if act.service else "the one of the system"
    return "none" if known < 0 else span(known)


def _waits(view: ActView, act: Act) -> str:
    service = view.service(act)
    kinds = {link.kind for link in service.links if link.to == act.value} if service is not None else set()
    if {"order"} & kinds or ("hard" in kinds and "hard" in family_of(view.host).waits_by):
        return f"starts after {act.value}"
    return f"does not wait for {act.value}"


def _allowed(view: ActView, act: Act) -> str:
    name, _, value = act.value.partition("=")
    service = view.service(act)
    confinement = service.confinement if service is not None else None
    known: list[str] = []
    if confinement is not None:
        known = {
            "ReadWritePaths": confinement.writable,
            "AmbientCapabilities": confinement.granted,
            "CapabilityBoundingSet": confinement.capabilities or [],
        }.get(name, [])
    return f"with {value}" if value in known else f"without {value}"


def _loaded(view: ActView, act: Act) -> str:
    service = view.service(act)
    stale = service is not None and service.definition is not None and service.definition.needs_reload
    return "an older definition than on disk" if stale else "the definition on disk"


def _mode(view: ActView, act: Act) -> str:
    file = view.look(act.path)
    return f"{int(file.mode, 8):04o}" if file is not None and file.exists and file.mode else "not there"


def _owner(view: ActView, act: Act) -> str:
    file = view.look(act.path)
    return f"{file.owner}:{file.group}" if file is not None and file.exists else "not there"


def _there(view: ActView, act: Act) -> str:
    file = view.look(act.path)
    return f"a {file.kind}" if file is not None and file.exists else "not there"


def _run(view: ActView, act: Act) -> str:
    service = view.service(act)
    if service is None or service.state not in UP:
        return _state(view, act)
    began = service.last.started_at or service.last.up_at if service.last else None
    return f"running since {began:%Y-%m-%d %H:%M:%SZ}" if began else "running"


def _defined(view: ActView, act: Act) -> str:
    """Whether there is a definition: a file, or an entry of the manager."""
    if act.path:
        file = view.look(act.path)
        exists = file.exists if file is not None else act.verb != "define"  # only what is there is taken away
        return "a definition" if exists else "not there"
    service = view.service(act)
    gone = service is None or (service.definition is not None and service.definition.load == "missing")
    return "not there" if gone else "a definition"


def _define_words(view: ActView, act: Act) -> str:
    return f"Write the definition {act.path}" if act.path else f"Register {act.service} with the service manager"


def _amend_words(view: ActView, act: Act) -> str:
    return f"Change the definition {act.path}" if act.path else f"Change how {act.service} is registered"


def _undefine_words(view: ActView, act: Act) -> str:
    return f"Take away the definition {act.path}" if act.path else f"Take {act.service} off the service manager"


def _account(view: ActView, act: Act) -> str:
    service = view.service(act)
    return service.account.user if service is not None and service.account is not None else "not known"


def _recovery(view: ActView, act: Act) -> str:
    service = view.service(act)
    return "; ".join(service.failure_actions) if service is not None and service.failure_actions else "none"


# What it touches besides.


def _needs_it(view: ActView, act: Act) -> list[str]:
    edges = view.facts.graph.needed_by(view.node(act), ("hard",))
    return [edge.tail.name for edge in edges if edge.tail.service is not None and edge.tail.service.kind != "target"]


def _clashing(view: ActView, act: Act) -> list[str]:
    """What is up and is ended by a start of the service."""
    graph, node = view.facts.graph, view.node(act)
    near = [edge.head for edge in graph.needs(node, ("clash",))] + [
        edge.tail for edge in graph.needed_by(node, ("clash",))
    ]
    return [one.name for one in near if one.service is not None and one.service.state in UP]


def _sharers(view: ActView, act: Act) -> list[str]:
    """Other services that are known to use the path."""
    users = []
    for service in view.host.services:
        program = service.program
        if program is not None and act.path in (program.path, program.folder, *program.paths, *program.log_files):
            users.append(service.name)
    return users


def _all(view: ActView, act: Act) -> list[str]:
    if act.service:
        return []
    return [f"all {len(view.host.services)} services of {view.host.name}, which share the one limit"]


def _own_and_dependents(view: ActView, act: Act) -> list[str]:
    service = view.service(act)
    return [act.service, *view.dependents(act)] if service is not None and service.state in UP else []


def _all_running(view: ActView, act: Act) -> list[str]:
    return [service.name for service in view.host.services if service.state in UP and service.kind == "service"]


def _start_words(view: ActView, act: Act) -> str:
    last = service.last if (service := view.service(act)) else None
    barred = last is not None and (
        last.result == "start-limit-hit" or (last.restarts > 0 and _state(view, act) == "failed")
    )
    along = _brought_up(view, act)
    more = f", and with it {', '.join(along[:4])}{' and more' if len(along) > 4 else ''}" if along else ""
    return (
        f"{'Reset the failed state of' if barred else 'Start'} {act.service}{' and start it' if barred else ''}{more}"
    )


def _brought_up(view: ActView, act: Act) -> list[str]:
    """What is down and hard-needed, so that the start starts it too; the deepest first."""
    found: dict[str, None] = {}
    first = view.node(act)
    stack = [first]
    while stack and len(found) < MOST_SHOWN:
        for edge in view.facts.graph.needs(stack.pop(), ("hard",)):
            one = edge.head
            if not edge.crosses and edge.link.pulls and one.service is not None and one.service.state not in UP:
                if one.name not in found and one.service.kind in ("service", "socket", "mount"):
                    stack.append(one)
                found[one.name] = None
    return [name for name in list(found)[::-1] if name != first.name]


def _startup_words(view: ActView, act: Act) -> str:
    masked = _startup(view, act) == "disabled"
    return f"Let {act.service} be started again, as {act.value}" if masked else f"Set {act.service} to {act.value}"


def _startup_effect(view: ActView, act: Act) -> str:
    return AT_ONCE if "disabled" in (_startup(view, act), act.value) else AFTER_REBOOT


def _limit_words(view: ActView, act: Act) -> str:
    whose = f"the start limit of {act.service}" if act.service else f"the one start limit of {view.host.name}"
    return f"Set {whose} to {span(float(act.value))}"


def _back_to_old(of: Callable[[ActView, Act], str], words: str) -> Callable[[ActView, Act], str]:
    return lambda view, act: words.format(old=of(view, act), **act._asdict())


_HOW = "the drop-in file that this step makes is removed, and the definitions are loaded anew"
_TRANSIENT = "/run/systemd/transient/"
"""Where the manager keeps what was started without a file: it is gone once that has ended (org.freedesktop.systemd1(5),
"StartTransientUnit()")."""


def _stop_undo(view: ActView, act: Act) -> str:
    service = view.service(act)
    definition = service.definition if service is not None else None
    if definition is not None and definition.file.startswith(_TRANSIENT):
        return f"by hand: {act.service} was started without a definition that stays; note how, to start it anew"
    return f"{act.service} is started again, and what ended with it"


_NOTHING = "nothing is left to undo"


def _drop_in_undo(what: Callable[[ActView, Act], str]) -> Callable[[ActView, Act], str]:
    def undo(view: ActView, act: Act) -> str:
        return _HOW if family_of(view.host).defined_in_files else f"back to {what(view, act)}"

    return undo


def _said(words: str) -> Callable[[ActView, Act], str]:
    return lambda view, act: words.format(**act._asdict())


VERBS: dict[str, Verb] = {
    "define": Verb(4, 0.5, _define_words, _defined, _said("a definition"), _said("the definition is taken away again")),
    "amend": Verb(4, 0.5, _amend_words, lambda view, act: "as it is", _said("as shown"),
                  _said("the definition is put back, byte for byte"), lambda view, act: AFTER_RESTART),
    "undefine": Verb(8, 0.5, _undefine_words, _defined, _said("not there"), _said("the definition is put back, byte for byte"),
                     touches=_needs_it),
    "reload": Verb(1, 0.2, _said("Load the definitions anew, that of {service} among them"), _loaded,
                   _said("the definition on disk"),
                   _said("the definition on disk stays loaded: the older one is not on record")),
    "renew": Verb(2, 0.5, _said("Have {service} read its own file anew"), lambda view, act: "an older file than on disk",
                  _said("the file on disk"), _said("what was served before is not on disk any more")),
    "startup": Verb(2, 0.5, _startup_words, _startup, _said("{value}"), _back_to_old(_startup, "back to {old}"), _startup_effect,
                    touches=_needs_it),
    "start": Verb(3, 0.5, _start_words, _state, _said("running"), _said("{service} is stopped again, and what came up with it"),
                  touches=_needs_it, interrupts=_clashing),
    "continue": Verb(3, 0.5, _said("Continue {service}"), _state, _said("running"), _said("{service} is paused again"), touches=_needs_it),
    "pause": Verb(6, 3.0, _said("Pause {service}"), _state, _said("paused"), _said("{service} is continued"), touches=_needs_it,
                  interrupts=_own_and_dependents),
    "recovery": Verb(4, 1.0, _said("After failures of {service}: {value}"), _recovery, _said("{value}"), _back_to_old(_recovery, "back to {old}")),
    "account": Verb(6, 3.0, _said("Let {service} run as {value}"), _account, _said("{value}"), _back_to_old(_account, "back to {old}"),
                    lambda view, act: AFTER_RESTART),
    "mode": Verb(4, 1.0, _said("Set the mode of {path} to {value}"), _mode, _said("{value}"), _back_to_old(_mode, "back to {old}"),
                 touches=_sharers),
    "owner": Verb(5, 1.5, _said("Give {path} to {value}"), _owner, _said("{value}"), _back_to_old(_owner, "back to {old}"),
                  touches=_sharers),
    "owners": Verb(5, 1.5, _said("Give {path}, and all of root's in it, to {value}"), _owner, _said("{value}"),
                   _back_to_old(_owner, "back to {old}, each file to whom it belonged"), touches=_sharers),
    "folder": Verb(4, 1.0, _said("Make the folder {path}, for {value}"), _there, _said("a folder"), _said("removed again, if it is empty"),
                   touches=_sharers),
    "remove": Verb(6, 2.0, _said("Remove the left-over {path}"), _there, _said("not there"), _said("put back as it was"), touches=_sharers),
    "limit": Verb(5, 2.0, _limit_words, _limit, lambda view, act: span(float(act.value)), _drop_in_undo(_limit),
                  lambda view, act: AFTER_RESTART if act.service else AFTER_REBOOT, touches=_all),
    "wait": Verb(5, 2.0, _said("Let {service} start after {value}, and start that along"), _waits, _said("starts after {value}"),
                 _drop_in_undo(_waits), lambda view, act: AFTER_REBOOT, touches=lambda view, act: [act.value]),
    "allow": Verb(6, 2.0, _said("Add to the definition of {service}: {value}"), _allowed,
                  lambda view, act: f"with {act.value.partition('=')[2]}", _drop_in_undo(_allowed), lambda view, act: AFTER_RESTART),
    "reboot": Verb(10, 60.0, lambda view, act: f"Reboot {view.host.name}", lambda view, act: "up", lambda view, act: "booted anew",
                   _said("a reboot cannot be undone"), interrupts=_all_running),
    "restart": Verb(7, 3.0, _said("Restart {service}"), _run, _said("running anew"), _said(_NOTHING), interrupts=_own_and_dependents),
    "stop": Verb(9, 15.0, _said("Stop {service}"), _state, _said("stopped"), _stop_undo,
                 touches=_needs_it, interrupts=_own_and_dependents),
}  # fmt: skip
BY_PERSON = 30.0
"""Minutes that a step of a person's is taken to cost."""
INTERRUPTED = 10.0
"""Minutes that each interrupted service is taken to cost."""

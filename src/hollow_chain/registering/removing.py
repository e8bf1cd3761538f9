"""The plan that takes a service off: who needs it, what stops, what is taken away, and what is left behind."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from hollow_chain.boot.engine import Progress
from hollow_chain.boot.making import UP
from hollow_chain.causes import Facts, acts
from hollow_chain.causes.acts import Act
from hollow_chain.chain import Node, stop_takes
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.families import family_of
from hollow_chain.mend.plan import Plan, Step, Try
from hollow_chain.mend.proving import Trial
from hollow_chain.mend.supposing import Expectations, Runs
from hollow_chain.mend.verbs import ActView
from hollow_chain.registering.making_steps import step_of
from hollow_chain.registering.systemd_form import PLACE
from hollow_chain.trouble import wrong_call

_EVENT_KINDS = ("socket", "timer", "path")


@dataclass
class Removal:
    """A service on its way off."""

    plan: Plan
    needed_by: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)
    """What stays on the host: files are never deleted."""


def removal_of(
    facts: Facts, node: Node, given_up: tuple[str, ...], runs: Runs, progress: Progress | None = None
) -> Removal:
    """The plan that takes *node* off. Raises :class:`~hollow_chain.trouble.Trouble` where it is not ours to take."""
    host, service = facts.graph.hosts[node.host], node.service
    if service is None:
        raise wrong_call(f"{node.name} is not registered on {node.host}; there is nothing to take off")
    if service.kind != "service":
        raise wrong_call(f"{node.name} is a {service.kind}; only services are taken off")
    files = _files(host, service)
    view = ActView(facts, host, facts.index(host.name).file)
    events = [
        s
        for s in host.services
        if s.kind in _EVENT_KINDS and any(t.name == s.name for t in service.triggers) and _is_own(s)
    ]
    steps = [*_stops(view, events, service, given_up), *_startups(view, [*events, service])]
    files = [f for one in events for f in _files(host, one)] + files
    if family_of(host).defined_in_files:
        steps += [step_of(view, Act("undefine", service.name, path)) for path in dict.fromkeys(files)]
    else:
        steps.append(step_of(view, Act("undefine", service.name)))
    known = Expectations(facts, [host.name], progress)
    trial = Trial(facts, known, node, [], [], runs=runs)
    own_units = [service.name, *(one.name for one in events)]
    trial.given_up = frozenset((*given_up, *own_units))
    proof = trial.prove(steps)
    own = {f"{one} on {host.name}" for one in own_units}
    proof = replace(proof, minimal=True, needless=(), gives_way=tuple(one for one in proof.gives_way if one not in own))
    plan = Plan(node, host.read_at, [Try(steps, (), 1.0, proof=proof)], given_up=given_up, does="unregister")
    needers = [edge.tail.name for edge in facts.graph.needed_by(node, ("hard",)) if edge.tail.service is not None]
    return Removal(plan, list(dict.fromkeys(needers)), list(_left(facts, host, service)))


def _is_own(service: Service) -> bool:
    definition = service.definition
    return definition is not None and definition.file.startswith(f"{PLACE}/")


def _files(host: Host, service: Service) -> list[str]:
    """The files of a definition that lie in the place for own ones. Raises where the definition is somebody else's."""
    if not family_of(host).defined_in_files:
        return []
    definition = service.definition
    file = definition.file if definition is not None else ""
    drop_ins = [
        path for path in (definition.drop_ins if definition is not None else []) if path.startswith(f"{PLACE}/")
    ]
    if _is_own(service):
        template = "@" in file.rpartition("/")[2] and file.rpartition("/")[2] != service.name
        return [*drop_ins, *([] if template else [file])]
    if service.template_of:
        return drop_ins
    whose = definition.made_from if definition is not None and definition.made_from else file
    raise wrong_call(
        f"{service.name} is defined in {whose or 'no file'}, which is not one of your own in {PLACE}: remove what brought it; "
        f"to keep it from starting: hollow-chain suppose startup {service.name} disabled"
    )


def _stops(view: ActView, events: list[Service], service: Service, given_up: tuple[str, ...]) -> list[Step]:
    found = [step_of(view, Act("stop", one.name)) for one in events if _runs(one)]
    if _runs(service):
        step = step_of(view, Act("stop", service.name))
        node = view.facts.graph.node(view.host.name, service.name)
        ended = [
            n.name
            for n in stop_takes(view.facts.graph, node)
            if n.service and n.service.state in UP and n.name != node.name
        ]
        asked = [name for name in ended if name not in given_up]
        found.append(replace(step, choice=asked[0]) if asked else step)
    return found


def _runs(service: Service) -> bool:
    """Whether there is anything to stop: a job that is done and does not stay is over."""
    stays = service.program is not None and service.program.stays
    return service.state in ("running", "starting", "paused") or (service.state == "done" and stays)


def _startups(view: ActView, services: list[Service]) -> list[Step]:
    in_files = family_of(view.host).defined_in_files
    set_to = [one for one in services if _hangs(one)] if in_files else []
    return [step_of(view, acts.startup(one.name, "manual")) for one in set_to]


def _hangs(service: Service) -> bool:
    """Whether a definition that is taken away would leave links to it behind."""
    by_device = any(trigger.kind == "device" for trigger in service.triggers)
    return bool(service.wanted_by) or by_device or service.startup in ("automatic", "delayed")


def _left(facts: Facts, host: Host, service: Service) -> list[str]:
    program = service.program
    if program is None:
        return []
    places = [
        program.path,
        program.folder,
        *program.environment_files,
        *program.own_folders,
        *program.log_files,
        *program.paths,
    ]
    index = facts.index(host.name)
    found = [
        path
        for path in dict.fromkeys(places)
        if path and path != "/" and (f := index.file(path)) is not None and f.exists
    ]
    user = service.account.user if service.account is not None else ""
    dynamic = service.account is not None and service.account.dynamic
    if user and not dynamic and user not in ("root", "LocalSystem", "LocalService", "NetworkService"):
        found.append(f"the account {user}")
    return found

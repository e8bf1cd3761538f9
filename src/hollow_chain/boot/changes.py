"""Changes that are only supposed, in a plain little language, and what a host would be with them.

The grammar is one table: a verb, what follows it, and a function that carries it out on a copy of the facts. Nothing is
ever changed on a host.
"""

from __future__ import annotations

import re
from collections.abc import Callable

import msgspec
from msgspec.structs import replace

from hollow_chain.boot.making import Expected
from hollow_chain.boot.plan import Fault, Work
from hollow_chain.causes import named, rule_of
from hollow_chain.causes.nature import ACCOUNT, PORT
from hollow_chain.chain import Graph, best, search
from hollow_chain.facts.host import Host, HostLimits
from hollow_chain.facts.service import Claim, Limits, Link, Service, Trigger
from hollow_chain.families import family_of
from hollow_chain.lazy import pattern

_DURATION = pattern(r"(?i)^(\d+(?:\.\d+)?)\s*(ms|s|sec|min|m|h)?$")
_UNITS = {"ms": 0.001, "s": 1.0, "sec": 1.0, "min": 60.0, "m": 60.0, "h": 3600.0}
_LONGEST = 1e7
"""Seconds, nearly four months: far beyond any start, and far within what the arrays can add up without losing the milliseconds."""
STARTUPS = ("automatic", "delayed", "manual", "event", "on-need", "disabled")
_SUPPOSED_SPREAD = 0.15
"""Spread of a supposed duration where none was recorded."""


class NotUnderstood(ValueError):
    """A change that cannot be read or carried out; the text says which and what to do."""


class World(msgspec.Struct):
    """What a change may touch: a host (a copy), and what is expected of its boot."""

    graph: Graph
    host: Host
    expected: Expected

    def service(self, words: str) -> Service:
        """The one service that *words* mean. Raises :class:`NotUnderstood`."""
        exact = self.graph.find(self.host.name, words)
        if exact is not None:
            return exact
        matches = best(search(self.graph, words, [self.host.name]))
        if len(matches) == 1 and matches[0].node.service is not None:
            return matches[0].node.service
        names = ", ".join(match.node.name for match in matches[:5])
        raise NotUnderstood(f"{words!r} fits {len(matches)} services: {names}" if matches else f"no service {words!r}")

    def put(self, old: Service, new: Service) -> None:
        """Put *new* in the place of *old*."""
        self.host.services = [new if one is old else one for one in self.host.services]
        self.graph = Graph(self.graph.document)

    def forget(self, name: str, setting: str = "") -> None:
        """The fault of a service is gone, if a change of *setting* is an answer to it (or whatever it is)."""
        fault = self.expected.faults.get(name)
        if fault is not None and (not setting or setting in rule_of(fault.cause).answered_by):
            del self.expected.faults[name]


Act = Callable[[World, list[str]], str]


class ChangeVerb(msgspec.Struct, frozen=True):
    """One sentence of the language."""

    form: str
    example: str
    act: Act


def seconds(text: str) -> float:
    """A duration such as ``45s``, ``1.5min`` or ``300ms``; a bare number is seconds. Raises :class:`NotUnderstood`."""
    found = _DURATION.match(text)
    value = float(found[1]) * _UNITS[(found[2] or "s").lower()] if found else -1.0
    if not 0 <= value <= _LONGEST:
        raise NotUnderstood(f"{text!r} is no duration; write 45s, 1.5min or 300ms")
    return value


def _number(text: str, low: float, high: float, what: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = float("nan")
    if not low <= value <= high:
        raise NotUnderstood(f"{text!r} is no {what}; write a number from {low:g} to {high:g}")
    return value


def _startup(world: World, words: list[str]) -> str:
    name, kind = words
    if kind not in STARTUPS:
        raise NotUnderstood(f"{kind!r} is no startup type; there are: {', '.join(STARTUPS)}")
    old = world.service(name)
    new = msgspec.structs.replace(old, startup=kind)
    if new.definition is not None and kind != "disabled" and new.definition.load == "masked":
        new.definition = msgspec.structs.replace(new.definition, load="loaded")
    if kind in ("manual", "disabled", "on-need"):
        _unwanted(world, old)
    world.put(old, new)
    return f"{old.name}: startup type {old.startup} -> {kind}"


def _unwanted(world: World, service: Service) -> None:
    """Targets no longer want it: they want what is set to start at boot."""
    for target in [one for one in world.host.services if one.kind == "target" and one.name in service.wanted_by]:
        kept = [link for link in target.links if not (link.to == service.name and link.kind in ("soft", "hard"))]
        world.put(target, msgspec.structs.replace(target, links=kept))


def _limit(world: World, words: list[str]) -> str:
    limit = seconds(words[1])
    if words[0] == "all":
        world.host.limits = msgspec.structs.replace(world.host.limits or HostLimits(), start_seconds=limit)
        if not family_of(world.host).limit_of_all_waits_for_boot:
            for one in list(world.host.services):
                if one.limits and (one.limits.start_seconds or 0) > 0:
                    world.put(one, msgspec.structs.replace(one, limits=_limited(one, limit)))
        return f"the limit for all starts -> {limit:g} s"
    old = world.service(words[0])
    world.put(old, msgspec.structs.replace(old, limits=_limited(old, limit)))
    before = old.limits.start_seconds if old.limits and old.limits.start_seconds is not None else None
    return f"{old.name}: start limit {f'{before:g} s' if before else 'as for all'} -> {limit:g} s"


def _limited(service: Service, limit: float) -> Limits:
    return msgspec.structs.replace(service.limits or Limits(), start_seconds=limit)


def _need(world: World, words: list[str]) -> str:
    old, other = world.service(words[0]), world.service(words[1])
    links = [*old.links, Link(to=other.name, kind="hard"), Link(to=other.name, kind="order", pulls=False)]
    world.put(old, msgspec.structs.replace(old, links=links))
    world.expected.uses = {
        n: [u for u in many if (n, u) != (old.name, other.name)] for n, many in world.expected.uses.items()
    }
    return f"{old.name} needs {other.name}, and starts after it"


def _after(world: World, words: list[str]) -> str:
    old, other = world.service(words[0]), world.service(words[1])
    world.put(old, msgspec.structs.replace(old, links=[*old.links, Link(to=other.name, kind="order", pulls=False)]))
    return f"{old.name} starts after {other.name}"


def _cut(world: World, words: list[str]) -> str:
    old = world.service(words[0])
    found = world.graph.find(world.host.name, words[1])
    name = found.name if found else words[1]
    kept = [link for link in old.links if name not in (link.to, world.graph.head(world.host.name, link).name)]
    if len(kept) == len(old.links):
        raise NotUnderstood(
            f"{old.name} has no link to {name!r}; it has: {', '.join(sorted({x.to for x in old.links})) or 'none'}"
        )
    world.put(old, msgspec.structs.replace(old, links=kept))
    return f"{old.name} no longer needs {name}, nor waits for it"


def _delay(world: World, words: list[str]) -> str:
    old, moment = world.service(words[0]), seconds(words[1])
    return _at(world, old, moment, 0.0, f"{old.name} starts not before {moment:g} s after boot")


def _at(world: World, old: Service, moment: float, spread: float, says: str) -> str:
    world.expected.moments[old.name] = (moment, spread)
    return says


def _event(world: World, words: list[str]) -> str:
    old, moment = world.service(words[0]), seconds(words[1])
    spread = seconds(words[2]) if len(words) > 2 else 0.0
    trigger = Trigger(kind="event", after_boot=moment, spread=spread)
    world.put(old, msgspec.structs.replace(old, triggers=[*old.triggers, trigger]))
    says = f"the event of {old.name} comes at {moment:g} s" + (f", up to {spread:g} s later" if spread else "")
    return _at(world, old, max(moment, 1e-3), spread, says)


def _port(world: World, words: list[str]) -> str:
    old, port = world.service(words[0]), int(_number(words[1], 1, 65535, "port"))
    claims = [msgspec.structs.replace(old.claims[0], port=port)] if old.claims else [Claim(port=port)]
    world.put(old, msgspec.structs.replace(old, claims=claims))
    world.host.listeners = [one for one in world.host.listeners if one.service != old.name]
    world.host.sockets_read = False  # what was read of its sockets no longer says where it will listen
    world.forget(old.name, PORT)
    world.expected.rivals = [
        one for one in world.expected.rivals if old.name not in one[:2] or PORT not in rule_of(one[2]).answered_by
    ]
    return f"{old.name}: port {', '.join(str(c.port) for c in old.claims) or 'none'} -> {port}"


def _account(world: World, words: list[str]) -> str:
    old = world.service(words[0])
    known = [a for a in world.host.accounts if a.name == words[1] and a.kind == "user"]
    if known and (not known[0].exists or known[0].may_run_services is False or known[0].locked):
        lack = "does not exist" if not known[0].exists else "may not run services"
        world.expected.faults[old.name] = Fault(named.ACCOUNT_MISSING if not known[0].exists else named.ACCOUNT_BARRED)
        return f"{old.name}: account -> {words[1]}, which {lack}"
    world.forget(old.name, ACCOUNT)
    return f"{old.name}: account -> {words[1]} (taken to have the rights it needs)"


def _takes(world: World, words: list[str]) -> str:
    from hollow_chain.boot.durations import work_of

    old, took = world.service(words[0]), seconds(words[1])
    known = world.expected.works.get(old.name) or work_of(old, world.host)
    spread = known.spread if known.records else _SUPPOSED_SPREAD
    supposed = replace(known, seconds=took, spread=spread) if known.seconds else Work(took, spread)
    world.expected.works[old.name] = supposed
    return f"{old.name}: a start takes {known.seconds:.3g} s -> {took:g} s"


def _cores(world: World, words: list[str]) -> str:
    cores = _number(words[0], 0.1, 4096, "number of cores")
    world.expected.cores = cores
    return f"cores {world.host.cores or 'not known'} -> {cores:g}"


def _mended(world: World, words: list[str]) -> str:
    name = world.service(words[0]).name
    fault = world.expected.faults.get(name)
    world.forget(name)
    world.expected.rivals = [rivalry for rivalry in world.expected.rivals if name not in rivalry[:2]]
    world.expected.uses.pop(name, None)
    return f"{name}: what is wrong with it now ({fault.cause if fault else 'nothing known'}) is mended"


def _fails(world: World, words: list[str]) -> str:
    name = world.service(words[0]).name
    world.expected.faults[name] = Fault(named.EXITS_WITH_ERROR)
    return f"{name} fails to start"


VERBS: dict[str, ChangeVerb] = {
    "startup": ChangeVerb("startup SERVICE TYPE", "startup PriceList automatic", _startup),
    "limit": ChangeVerb("limit SERVICE|all DURATION", "limit ChartRender 60s", _limit),
    "need": ChangeVerb("need SERVICE OTHER", "need LaneCount PlateStore", _need),
    "after": ChangeVerb("after SERVICE OTHER", "after LaneCount PlateStore", _after),
    "cut": ChangeVerb("cut SERVICE OTHER", "cut FogHorn RelayBoard", _cut),
    "delay": ChangeVerb("delay SERVICE DURATION", "delay LaneCount 90s", _delay),
    "event": ChangeVerb("event SERVICE AT [WITHIN]", "event CardReader 20s 10s", _event),
    "port": ChangeVerb("port SERVICE NUMBER", "port BoardWeb 8081", _port),
    "account": ChangeVerb("account SERVICE USER", "account FuelDock LocalService", _account),
    "takes": ChangeVerb("takes SERVICE DURATION", "takes PlateStore 10s", _takes),
    "cores": ChangeVerb("cores NUMBER", "cores 8", _cores),
    "mended": ChangeVerb("mended SERVICE", "mended LogBook", _mended),
    "fails": ChangeVerb("fails SERVICE", "fails PlateStore", _fails),
}


def sentences(arguments: list[str]) -> list[str]:
    """The changes in the words of a call: one an argument, or all words one after the other; ``and``, commas and semicolons
    part them too."""
    texts = arguments if any(" " in one.strip() for one in arguments) else [" ".join(arguments)]
    parts = [part.strip() for text in texts for part in re.split(r"\sand\s|[,;]", text)]
    return [part for part in parts if part]


def carry_out(world: World, text: str) -> str:
    """Carry out one change on *world*; what it does is returned in words. Raises :class:`NotUnderstood`."""
    verb, *words = [word.strip("'\"") for word in text.split()]
    known = VERBS.get(verb.lower())
    if known is None:
        forms = "; ".join(one.form for one in VERBS.values())
        raise NotUnderstood(f"{verb!r} is no change; write one of: {forms}")
    least, most = known.form.split(" [")[0].count(" "), known.form.count(" ")
    if not least <= len(words) <= most:
        raise NotUnderstood(
            f"{text!r} is not complete, or has a word too many: write {known.form!r}, such as {known.example!r}"
        )
    try:
        return known.act(world, words)
    except NotUnderstood as problem:
        raise NotUnderstood(f"{text!r}: {problem}") from None

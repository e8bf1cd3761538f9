"""The framework of the catalogue: what a rule is, what it finds, and how it is registered.

A rule is a pure function from a :class:`~hollow_chain.causes.case.Case` to findings. Decorating it with
:func:`cause` in any module of this package is all that the rest of the program needs: the verdict runs it, the
command line and the documentation list it.
"""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable, Iterator
from functools import cache
from types import CodeType
from typing import Any, Protocol

import msgspec
from msgspec.structs import replace

from hollow_chain.causes.case import Case
from hollow_chain.causes.finding import AFTER_RELOAD, AT_NEXT_START, EFFECTS, Finding, Mend
from hollow_chain.causes.nature import Boot, Shown, When
from hollow_chain.facts.service import Service
from hollow_chain.families import Family


class RuleFunction(Protocol):
    """What a rule is made of: a function of one node's case."""

    __code__: CodeType
    __module__: str

    def __call__(self, case: Case, /) -> Iterable[Finding]: ...


class Rule(msgspec.Struct, frozen=True):
    """One cause of the catalogue."""

    cause: str
    family: str
    look: RuleFunction
    boot: Boot
    """What it means for the next boot."""
    states: frozenset[str] = frozenset()
    """States of a service in which this rule has anything to say; empty: in all."""
    when: When = When.ANY
    """What else has to be true of the node for that."""
    stays_if: Callable[[Service], bool] | None = None
    """Where this is true of the service, a reboot does not put it right after all."""
    lacks_only_a_start: bool = False
    """Nothing is wrong but that it is not started."""
    comes_along: bool = False
    """No cause where a start of what stands above starts this one too."""
    of_the_next_boot: bool = False
    """All is well now, and will not be after a boot."""
    last_resort: bool = False
    """Told only where nothing else is."""
    assumes: str = ""
    """What a mend of it takes for granted, and no look proves; with the place of ``{service}``."""
    answered_by: tuple[str, ...] = ()
    """Settings whose change may be the answer."""
    put_right: tuple[str, ...] = ()
    """What of the service a person's mend puts right, beside what the mend says."""
    shown: Shown | None = None
    """How a start that fails by it shows on a host of the control-manager family."""

    @property
    def documentation(self) -> str:
        """What it looks at, what convinces it, what speaks against it, how it is mended."""
        return self.look.__doc__ or ""

    def is_over(self, service: Service | None) -> bool:
        """Whether a reboot of its host puts it right."""
        stays = self.stays_if is not None and service is not None and self.stays_if(service)
        return self.boot is Boot.OVER and not stays

    @property
    def is_simulated(self) -> bool:
        """Whether it shows in a simulated start by itself, as long as it is there."""
        return self.lacks_only_a_start or self.boot is Boot.ANEW

    def findings(self, case: Case) -> Iterator[Finding]:
        """What the rule finds, stamped with its cause and place."""
        for found in self.look(case):
            mends = found.mends if found.is_borne_out else tuple(map(_by_hand, found.mends))
            family = case.family
            if family.mended_by_machine is not None:
                mends = tuple(_as_on_such_a_host(mend, family) for mend in mends)
            if limits_mends(case.node.service):
                mends = tuple(_as_it_can_be_done(mend, case) for mend in mends)
            yield replace(found, cause=self.cause, host=case.node.host, service=case.node.name, mends=mends)


def limits_mends(service: Service | None) -> bool:
    """Whether the definition of a service is one that mends have to heed."""
    return service is not None and (
        service.refuses_hand or (service.definition is not None and bool(service.definition.made_from))
    )


def _by_hand(mend: Mend) -> Mend:
    """A mend that no machine carries out: what it would have done is what a person who follows it has done."""
    return replace(mend, acts=(), means=mend.acts or mend.means)


def _as_on_such_a_host(mend: Mend, family: Family) -> Mend:
    """A mend as hosts of *family* know it: what no machine does there is for a person, and what has no reload takes effect without."""
    kept = family.mended_by_machine
    if kept is not None and any(act.verb not in kept for act in mend.acts):
        mend = _by_hand(mend)
    if not family.defined_in_files and mend.moment == EFFECTS[AFTER_RELOAD]:
        mend = replace(mend, effect=AT_NEXT_START)
    return mend


def _as_it_can_be_done(mend: Mend, case: Case) -> Mend:
    """A mend in the words of what its definition allows: what refuses a start by hand is started by what needs it; a definition that is
    generated is changed where it comes from."""
    service = case.node.service
    if service is None:
        return mend
    if service.refuses_hand and any(act.verb == "start" and act.service == service.name for act in mend.acts):
        return replace(
            mend, does=f"Start what needs {service.name}: its definition refuses a start of it by hand.", acts=()
        )
    made_from = service.definition.made_from if service.definition is not None else ""
    if made_from and not mend.acts and mend.moment == EFFECTS[AFTER_RELOAD]:
        return replace(mend, does=f"{mend.does} That is generated from {made_from}: change it there.")
    return mend


_RULES: dict[str, Rule] = {}
NOT_UP = ("stopped", "failed", "starting", "stopping", "paused", "unknown")


def cause(name: str, boot: Boot, states: Iterable[str] = (), **nature: Any) -> Callable[[RuleFunction], RuleFunction]:
    """Register the decorated function as the rule for the cause *name*; its module (or package) names the family.

    *boot* says what the cause means for the next boot; *nature*: the other fields of :class:`Rule`, where they are not as usual.
    """

    def register(look: RuleFunction) -> RuleFunction:
        if name in _RULES:
            raise ValueError(f"two rules for the cause {name}")
        family = look.__module__.split(".causes.")[1].partition(".")[0]
        _RULES[name] = Rule(name, family, look, boot, frozenset(states), **nature)
        return look

    return register


@cache
def catalogue() -> tuple[Rule, ...]:
    """All rules, from all family modules of this package."""
    package = importlib.import_module(__package__ or "hollow_chain.causes")
    for found in sorted(pkgutil.walk_packages(package.__path__, f"{package.__name__}."), key=lambda m: m.name):
        importlib.import_module(found.name)
    # In the order of the source, whatever imported a module first.
    return tuple(sorted(_RULES.values(), key=lambda rule: (rule.look.__module__, rule.look.__code__.co_firstlineno)))


@cache
def rules_for(state: str, true: When) -> tuple[Rule, ...]:
    """The rules that have anything to say about a service in *state* of which that is *true*."""
    return tuple(rule for rule in catalogue() if (not rule.states or state in rule.states) and rule.when in true)


@cache
def _by_cause() -> dict[str, Rule]:
    return {rule.cause: rule for rule in catalogue()}


def rule_of(cause: str) -> Rule:
    """The rule for a cause. Raises :class:`KeyError` where the catalogue has none of that name."""
    return _by_cause()[cause]

"""What ``observe`` and ``mend`` share: a start that is watched, and what it says."""

from __future__ import annotations

import sys
from contextlib import contextmanager
from typing import TYPE_CHECKING

from hollow_chain.cli import common, finding
from hollow_chain.trouble import FACTS_UNREADABLE, Trouble, wrong_call

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from hollow_chain.causes import Facts
    from hollow_chain.chain import Node
    from hollow_chain.facts.observed import Observation
    from hollow_chain.mend.plan import Step
    from hollow_chain.observing.course import Seen
    from hollow_chain.verdict import Verdict


class NotStarted(Trouble):
    """The manager refuses a start; the facts as they are may say why."""


def start_of(facts: Facts, node: Node, attach: bool, restart: bool) -> Step:
    """The start as a step, with what it takes along. Raises :class:`Trouble` where there is nothing to start."""
    from hollow_chain.boot.making import UP
    from hollow_chain.causes import acts
    from hollow_chain.causes.standing import Standing
    from hollow_chain.mend.verbs import ActView
    from hollow_chain.registering.making_steps import step_of

    service = node.service
    name = common.shown(node.name)
    if service is None:
        raise wrong_call(
            f"no service {name!r} on {common.shown(node.host)}; 'hollow-chain roster {name}' finds what is near"
        )
    if service.kind not in ("service", "mount", "socket") or service.template:
        raise wrong_call(
            f"{name} is a {'template' if service.template else service.kind}; a service is what is observed"
        )
    # What is restarted again and again is begun anew at whatever moment of that it is met.
    restart = restart or facts.standing(node) is Standing.UNSTABLE
    if service.state in UP and service.kind == "service" and not (attach or restart) and _stays(service.program):
        raise wrong_call(f"{name} runs; --restart stops it first, --attach waits for its next try")
    if service.state == "starting" and _BETWEEN_TRIES not in service.detail and not (attach or restart):
        raise wrong_call(
            f"{name} is being started already, and its first steps are over; --restart ends that start, and begins anew"
        )
    view = ActView(facts, facts.graph.hosts[node.host], facts.index(node.host).file)
    return step_of(view, (acts.restart if restart else acts.start)(node.name))


_BETWEEN_TRIES = "auto-restart"
"""The manager's word for a service that waits for its next try (systemctl(1), "sub-state")."""


def _stays(program: object) -> bool:
    style = getattr(program, "style", "")
    return style != "oneshot" or bool(getattr(program, "stays", False))


def watched(
    source: common.Source,
    node: Node,
    step: Step,
    tell: Callable[[Seen], None],
    seconds: float | None,
    attach: bool,
    restart: bool,
) -> tuple[Observation, ...]:
    """What was seen of the start of *node*, and behind it of services that came along and to nothing."""
    from hollow_chain.families import SYSTEMD
    from hollow_chain.mend.hands import NotDone

    assert node.service is not None
    try:
        if not source and _family_here() == SYSTEMD.name:
            from hollow_chain.observing.course import WatchWish
            from hollow_chain.observing.watching import observed

            program = node.service.program
            programs = (program.path,) if program is not None and program.path else ()
            logs = tuple(program.log_files) if program is not None else ()
            with interrupts_kept() as interrupted:
                return observed(WatchWish(node.name, programs, seconds, attach, restart, logs), tell, interrupted)
        if attach:
            raise wrong_call("--attach is for systemd hosts: elsewhere the manager does not tell of its next try")
        from hollow_chain.observing import by_hands

        return (by_hands.observed(common.hands_of(source, node.name), step, node.name, seconds or _LONG, tell),)
    except NotDone as problem:
        raise NotStarted(f"{common.shown(node.name)} was not started: {problem}", FACTS_UNREADABLE) from None


@contextmanager
def interrupts_kept() -> Iterator[Callable[[], None]]:
    """Within this, a Ctrl-C is not lost where it comes while a finalizer or the callback of a weak reference runs, which drop what is raised
    in them ("Exception ignored in ..."): calling what is given raises it once more."""
    import signal
    import threading

    asked: list[int] = []

    def note(number: int, _: object) -> None:
        asked.append(number)
        raise KeyboardInterrupt

    def again() -> None:
        if asked:
            raise KeyboardInterrupt

    if threading.current_thread() is not threading.main_thread():
        yield again  # Ctrl-C is the main thread's business
        return
    before = signal.signal(signal.SIGINT, note)
    try:
        yield again
    finally:
        signal.signal(signal.SIGINT, before)


_LONG = 120.0
"""Seconds for which a start is watched where its manager has no limit for each: the longest that a person waits without doubt."""


def _family_here() -> str:
    from hollow_chain.reach.here import here

    return here().family


def judged(
    source: common.Source, target: str, host: str, observed: tuple[Observation, ...], store: str
) -> tuple[Facts, Verdict]:
    """The facts as they are now, with what was seen, and what they say."""
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.verdict import diagnose

    facts = Facts(Graph(common.load(source, target, host=host, observed=observed)))
    facts.learned = common.learned(store)
    seen = observed[0]
    verdict = diagnose(facts, finding.find_target(facts.graph, seen.service, host, True))
    if seen.why_not_traced:
        verdict.unread.append(f"the calls of its start: {seen.why_not_traced}")
    return facts, verdict


def show(facts: Facts, verdict: Verdict, observed: tuple[Observation, ...]) -> None:
    from hollow_chain.show.observe import show_calls, show_observation
    from hollow_chain.show.page import Page
    from hollow_chain.show.why import show_verdict

    page = Page()
    seen = observed[0]
    if sys.stderr.isatty():
        page.gap()
    for one in observed:
        show_observation(page, one, one.service)
        show_calls(page, one)
    if seen.outcome != "up" or not verdict.healthy:
        page.gap()
        show_verdict(page, facts, verdict)


def once_more(source: common.Source, facts: Facts, node: Node, store: str, json: bool) -> dict[str, object]:
    """Start *node* once more and watch it: with somebody's consent, where a plan did not hold. What came of it as a document, which is
    shown unless *json*."""
    from hollow_chain.show.observe import Watching, observed_document

    step = start_of(facts, node, attach=True, restart=False)
    with Watching(f"{node.name} on {node.host}") as tell:
        seen = watched(source, node, step, tell, None, False, False)
    after, verdict = judged(source, node.name, node.host if source else "", seen, store)
    if not json:
        show(after, verdict, seen)
    return observed_document(verdict, seen)

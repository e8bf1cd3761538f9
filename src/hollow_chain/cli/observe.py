"""``observe TARGET``: start it once, and watch."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common
from hollow_chain.trouble import FACTS_UNREADABLE, INTERRUPTED, Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Node
    from hollow_chain.facts.observed import Observation
    from hollow_chain.mend.plan import Step
    from hollow_chain.verdict import Verdict


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("observe")(observe)


def observe(
    target: common.Target,
    source: common.From = None,
    host: common.HostName = "",
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask before it is started.")] = False,
    attach: Annotated[
        bool, typer.Option("--attach", help="Start nothing: wait for the next try of what is restarted anyway.")
    ] = False,
    restart: Annotated[
        bool, typer.Option("--restart", help="It runs: stop it first, and watch it start anew.")
    ] = False,
    seconds: Annotated[
        float | None,
        typer.Option(
            "--for", min=1, max=600, help="Seconds to watch at most. Default: its start limit.", show_default=False
        ),
    ] = None,
    keep: Annotated[bool, typer.Option("--keep", help="Keep the verdict as a case; see 'hollow-chain case'.")] = False,
    store: common.Store = "",
    json: common.Json = False,
) -> int:
    """Start TARGET once and watch: states, log, sockets, failing calls; name the hollow link from that.

    Where the records do not tell, the calls of its processes do (systemd hosts; as root, with strace). Exit status as of 'why': 0 it
    starts, 1 something is wrong and was named.
    """
    if attach and restart:
        raise wrong_call("--attach and --restart exclude one another")
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph

    facts = Facts(Graph(common.load(source, target, host=host)))
    node = common.find_target(facts.graph, target, host)
    step = _start_of(facts, node, attach, restart)
    if not attach:
        _agree(node, step, yes, restart)
    from hollow_chain.show.observe import Watching

    try:
        with Watching(f"{node.name} on {node.host}") as tell:
            seen = _watched(source, node, step, tell, seconds, attach, restart)
    except KeyboardInterrupt:
        raise Trouble(f"interrupted: nothing watches {node.name} any more; its start goes on", INTERRUPTED) from None
    after, verdict = _judged(source, target, host, seen, store)
    from hollow_chain.show.observe import observed_document

    if json:
        from hollow_chain.show.documents import to_json

        common.put(to_json(observed_document(verdict, seen)))
    else:
        _show(after, verdict, seen)
    if keep:
        _keep(observed_document(verdict, seen), store)
    return 0 if verdict.healthy and seen.outcome == "up" else 1


def _start_of(facts: Facts, node: Node, attach: bool, restart: bool) -> Step:
    """The start as a step, with what it takes along. Raises :class:`Trouble` where there is nothing to start."""
    from hollow_chain.boot.making import UP
    from hollow_chain.causes import acts
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
    if service.state in UP and service.kind == "service" and not (attach or restart) and _stays(service.program):
        raise wrong_call(f"{name} runs; --restart stops it first, --attach waits for its next try")
    view = ActView(facts, facts.graph.hosts[node.host], facts.index(node.host).file)
    return step_of(view, (acts.restart if restart else acts.start)(node.name))


def _stays(program: object) -> bool:
    style = getattr(program, "style", "")
    return style != "oneshot" or bool(getattr(program, "stays", False))


def _agree(node: Node, step: Step, yes: bool, restart: bool) -> None:
    """Ask before it is started. Raises :class:`Trouble` where nobody agrees."""
    along = [common.shown(one) for one in dict.fromkeys((*step.interrupts, *step.also_touches)) if one != node.name]
    takes = f" (it touches {', '.join(along[:6])}{' ...' if len(along) > 6 else ''})" if along else ""
    if yes:
        return
    if not sys.stdin.isatty():
        raise wrong_call(f"observing {common.shown(node.name)} starts it{takes}, which is a change: add --yes")
    from hollow_chain.cli.asking import says_yes

    what = "Stop" if restart else "Start"
    if not says_yes(f"{what} {common.shown(node.name)} on {common.shown(node.host)} now{takes}?"):
        raise wrong_call("not started; nothing was changed")


def _watched(
    source: str | None, node: Node, step: Step, tell: object, seconds: float | None, attach: bool, restart: bool
) -> Observation:
    from hollow_chain.families import SYSTEMD
    from hollow_chain.mend.hands import NotDone

    assert node.service is not None and callable(tell)
    try:
        if source is None and _family_here() == SYSTEMD.name:
            from hollow_chain.observing.watching import WatchWish, observed

            program = node.service.program
            programs = (program.path,) if program is not None and program.path else ()
            return observed(WatchWish(node.name, programs, seconds, attach, restart), tell)
        if attach:
            raise wrong_call("--attach is for systemd hosts: elsewhere the manager does not tell of its next try")
        from hollow_chain.cli.mend import hands_of
        from hollow_chain.observing import by_hands

        return by_hands.observed(hands_of(source, node.name), step, node.name, seconds or _LONG, tell)
    except NotDone as problem:
        raise Trouble(f"{common.shown(node.name)} could not be observed: {problem}", FACTS_UNREADABLE) from None


_LONG = 120.0
"""Seconds for which a start is watched where its manager has no limit for each: the longest that a person waits without doubt."""


def _family_here() -> str:
    from hollow_chain.reach.here import here

    return here().family


def _judged(source: str | None, target: str, host: str, seen: Observation, store: str) -> tuple[Facts, Verdict]:
    """The facts as they are now, with what was seen, and what they say."""
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.verdict import diagnose

    facts = Facts(Graph(common.load(source, target, host=host, observed=(seen,))))
    facts.learned = common.learned(store)
    verdict = diagnose(facts, common.find_target(facts.graph, seen.service, host))
    if seen.why_not_traced:
        verdict.unread.append(f"the calls of its start: {seen.why_not_traced}")
    return facts, verdict


def _show(facts: Facts, verdict: Verdict, seen: Observation) -> None:
    from hollow_chain.show.observe import show_calls, show_observation
    from hollow_chain.show.page import Page
    from hollow_chain.show.why import show_verdict

    page = Page()
    if sys.stderr.isatty():
        page.gap()
    show_observation(page, seen, seen.service)
    if seen.outcome != "up":
        show_calls(page, seen)
    if seen.outcome != "up" or not verdict.healthy:
        page.gap()
        show_verdict(page, facts, verdict)


def once_more(source: str | None, facts: Facts, node: Node, store: str, json: bool) -> dict[str, object]:
    """Start *node* once more and watch it: with somebody's consent, where a plan did not hold. What came of it as a document, which is
    shown unless *json*."""
    from hollow_chain.show.observe import Watching, observed_document

    step = _start_of(facts, node, attach=True, restart=False)
    with Watching(f"{node.name} on {node.host}") as tell:
        seen = _watched(source, node, step, tell, None, False, False)
    after, verdict = _judged(source, node.name, node.host if source is not None else "", seen, store)
    if not json:
        _show(after, verdict, seen)
    return observed_document(verdict, seen)


def _keep(document: dict[str, object], store: str) -> None:
    from hollow_chain.experience.place import url_of
    from hollow_chain.experience.store import Store

    number = Store(url_of(store)).keep(document)
    common.tell(f"kept as case {number}; say what it really was with 'hollow-chain case confirm {number}'")

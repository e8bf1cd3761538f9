"""``observe TARGET``: start it once, and watch."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, finding
from hollow_chain.cli.observing import NotStarted, judged, show, start_of, watched
from hollow_chain.trouble import INTERRUPTED, SaidNo, Trouble, wrong_call

if TYPE_CHECKING:
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Node
    from hollow_chain.mend.plan import Step


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
    node = finding.find_target(facts.graph, target, host)
    step = start_of(facts, node, attach, restart)
    if not attach:
        _agree(node, step, yes, restart)
    from hollow_chain.show.observe import Watching

    try:
        with Watching(f"{node.name} on {node.host}") as tell:
            seen = watched(source, node, step, tell, seconds, attach, restart)
    except NotStarted as trouble:
        return _refused(facts, node, trouble, json)
    except KeyboardInterrupt:
        goes_on = "" if attach else "; its start goes on"
        raise Trouble(f"interrupted: nothing watches {node.name} any more{goes_on}", INTERRUPTED) from None
    after, verdict = judged(source, target, host, seen, store)
    from hollow_chain.show.observe import observed_document

    if json:
        from hollow_chain.show.documents import to_json

        common.put(to_json(observed_document(verdict, seen)))
    else:
        show(after, verdict, seen)
    if keep:
        _keep(observed_document(verdict, seen), store)
    return 0 if verdict.healthy and seen[0].outcome in ("up", "no-try") else 1


def _refused(facts: Facts, node: Node, trouble: Trouble, json: bool) -> int:
    """The manager would not even begin: what the facts say of that, as ``why`` does. Raises *trouble* where they say nothing."""
    from hollow_chain.verdict import diagnose

    verdict = diagnose(facts, node)
    if verdict.healthy:
        raise trouble
    common.tell(str(trouble))
    if json:
        from hollow_chain.show.documents import to_json, verdict_document

        common.put(to_json(verdict_document(verdict)))
    else:
        from hollow_chain.show.page import Page
        from hollow_chain.show.why import show_verdict

        show_verdict(Page(), facts, verdict)
    return 1


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
        raise SaidNo("not started")


def _keep(document: dict[str, object], store: str) -> None:
    from hollow_chain.experience.place import url_of
    from hollow_chain.experience.store import Store

    number = Store(url_of(store)).keep(document)
    common.tell(f"kept as case {number}; say what it really was with 'hollow-chain case confirm {number}'")

"""``unregister NAME``: a service comes off."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, finding
from hollow_chain.cli.carrying_out import Later, later
from hollow_chain.cli.changing import Changing
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
    from hollow_chain.chain import Node
    from hollow_chain.mend.outcome import MendOutcome


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("unregister")(unregister)


def unregister(
    name: common.Target = "",
    source: common.From = None,
    host: common.HostName = "",
    may_stop: Annotated[
        list[str] | None,
        typer.Option("--may-stop", help="A service that may stop with it. May be given again.", show_default=False),
    ] = None,
    apply: Annotated[
        bool, typer.Option("--apply", help="Carry it out: on this machine, or on a stand-in host (--from its folder).")
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    undo: Annotated[
        bool, typer.Option("--undo", help="Put back what came off: the one that is named, else the latest.")
    ] = False,
    json: common.Json = False,
) -> int:
    """Take a service off: shows who needs it, what stops and what is left behind; --apply carries it out. No file but the definition
    is touched.

    Exit status: 0 it is off; 1 a plan was made; 2 it cannot come off; 4 it did not come off.
    """
    if undo:
        return later(name, source, Later(True, None, 0.0, "", json, yes, ("unregister",)))
    if not name.strip():
        raise wrong_call("name the service; such as: hollow-chain unregister tide-display")
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.mend.supposing import Runs
    from hollow_chain.registering.removing import removal_of

    facts = Facts(Graph(common.load(source, name, with_claims=True)))
    node = finding.find_target(facts.graph, name, host)
    if not _is_named(name, node):
        raise wrong_call(
            f"{common.shown(name)!r} is no service's full name; it fits {common.shown(node.name)}: to take that one off, write its name in full"
        )
    given_up = tuple(finding.find_target(facts.graph, one, node.host).name for one in may_stop or ())
    found = removal_of(facts, node, given_up, Runs())

    def show(outcome: MendOutcome | None, carried_out: bool) -> None:
        from hollow_chain.show import registering

        if json:
            from hollow_chain.show.documents import to_json

            common.put(to_json(registering.removal_document(found, outcome)))
        else:
            from hollow_chain.show.page import Page

            registering.show_removal(Page(), found, carried_out)

    return Changing(source, host, apply, yes, 0.0, json).carry(found.plan, show)


def _is_named(name: str, node: Node) -> bool:
    """Whether *name* is all of the service's name, and no part that happens to fit: what is taken off is not to be guessed."""
    words, service = name.strip().casefold(), node.service
    known = [node.name, node.name.removesuffix(".service")]
    known += [service.display_name, *service.aliases] if service is not None else []
    return words in [one.casefold() for one in known]

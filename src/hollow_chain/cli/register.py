"""``register PROGRAM``: a program becomes a service."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NamedTuple

import typer

from hollow_chain.cli import common, finding
from hollow_chain.cli.asking import says_yes
from hollow_chain.cli.carrying_out import Later, carried, check, later
from hollow_chain.cli.changing import Changing, change
from hollow_chain.trouble import MEND_DID_NOT_HOLD, wrong_call

if TYPE_CHECKING:
    from collections.abc import Mapping

    from hollow_chain.causes import Facts
    from hollow_chain.facts.host import Host
    from hollow_chain.mend.hands import Hands
    from hollow_chain.mend.outcome import MendOutcome
    from hollow_chain.registering.planning import Judged, Registration
    from hollow_chain.registering.trying import Tried
    from hollow_chain.registering.wish import Wish

_Texts = list[str] | None


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("register")(register_program)


def _option(name: str, text: str) -> typer.models.OptionInfo:
    return typer.Option(name, help=text, show_default=False)  # type: ignore[no-any-return]


def register_program(
    program: Annotated[
        list[str] | None,
        typer.Argument(help="PROGRAM [ARGUMENTS...]; those that begin with a dash go behind '--'.", show_default=False),
    ] = None,
    name: Annotated[str, _option("--name", "The name that it is registered under.")] = "",
    shown_as: Annotated[str, _option("--shown-as", "The name that people see.")] = "",
    describe: Annotated[str, _option("--describe", "What it is for, in a sentence.")] = "",
    account: Annotated[
        str, _option("--account", "The account that it runs under; own: one that the manager makes for it alone.")
    ] = "",
    folder: Annotated[str, _option("--folder", "Working folder.")] = "",
    start: Annotated[
        _Texts, _option("--start", "automatic, delayed, manual, or 'on EVENT': network up, path, device, socket, time.")
    ] = None,
    stop_on: Annotated[_Texts, _option("--stop-on", "An event that stops it: 'device /dev/X gone', 'time 8h'.")] = None,
    needs: Annotated[_Texts, _option("--needs", "A service that it cannot do without. May be given again.")] = None,
    after: Annotated[_Texts, _option("--after", "A service that it starts after. May be given again.")] = None,
    restart: Annotated[str, _option("--restart", "'after 10s, at most 5 in 10min', 'always after 5s', never.")] = "",
    limit: Annotated[str, _option("--limit", "How long its start may take: 90s.")] = "",
    port: Annotated[
        list[int] | None,
        typer.Option("--port", min=1, max=65535, help="A port that it listens on.", show_default=False),
    ] = None,
    env_file: Annotated[str, _option("--env-file", "File with its environment.")] = "",
    instance_of: Annotated[str, _option("--instance-of", "The template that it is an instance of.")] = "",
    pid_file: Annotated[str, _option("--pid-file", "File that names its process, where the first one ends.")] = "",
    up_when: Annotated[
        str, _option("--up-when", "What up means: started, forked, reported, ended. Default: its first start tells.")
    ] = "",
    file: Annotated[
        Path | None, typer.Option("--file", help="All of that from a service file (TOML).", show_default=False)
    ] = None,
    confine: Annotated[
        bool, typer.Option("--confine", help="Keep from it what it was seen to live without at its first start.")
    ] = False,
    edit: Annotated[str, _option("--edit", "Change the service of that name: only what is given.")] = "",
    restart_now: Annotated[
        bool, typer.Option("--restart-now", help="With --edit: restart what runs, so that the change takes effect.")
    ] = False,
    another: Annotated[bool, typer.Option("--another", help="Also where one that looks like it is there.")] = False,
    source: common.From = None,
    host: common.HostName = "",
    apply: Annotated[
        bool, typer.Option("--apply", help="Carry it out: on this machine, or on a stand-in host (--from its folder).")
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    undo: Annotated[
        bool, typer.Option("--undo", help="Take a registration back: the one that is named, else the latest.")
    ] = False,
    watch: Annotated[
        float, typer.Option("--watch", min=0, max=3600, help="For how many seconds to watch whether it stays.")
    ] = 5.0,
    json: common.Json = False,
) -> int:
    """Make a service of PROGRAM: checked, rehearsed, shown; --apply carries it out, --undo undoes it.

    What is not said is chosen and the reason shown; on a terminal it is asked for. What comes up badly is undone wholly.

    Exit status: 0 it was registered and holds; 1 a plan was made; 2 something speaks against it; 4 it did not hold.
    """
    if undo:
        return later(" ".join(program or ()), source, Later(True, None, watch, "", json, yes, ("register", "edit")))
    given = {
        "program": (program or [""])[0], "arguments": (program or [])[1:], "name": name, "shown_as": shown_as, "describe": describe,
        "account": account, "folder": folder, "start": start, "stop_on": stop_on, "needs": needs, "after": after, "restart": restart,
        "limit": limit, "port": port, "env_file": env_file, "instance_of": instance_of, "pid_file": pid_file, "up_when": up_when,
    }  # fmt: skip
    if edit:
        given = {key: value for key, value in given.items() if value}
        return change(edit, _wish(given, file, source), restart_now, Changing(source, host, apply, yes, watch, json))
    wish = _wish({key: value for key, value in given.items() if value}, file, source)
    return _Call(source, host, another, confine, apply, yes, watch, json).run(wish)


def _wish(given: Mapping[str, object], file: Path | None, source: common.Source) -> Wish:
    """What is wished: of the service file, and over it what the call says."""
    import os

    import msgspec

    from hollow_chain.registering import wish as wishes

    base = wishes.read(file) if file is not None else wishes.Wish()
    said = wishes.wish_of(given, "the call") if given else wishes.Wish()
    changed = {key: getattr(said, key) for key in given}
    wish = msgspec.structs.replace(base, **changed)
    relative = wish.program and not os.path.isabs(wish.program) and os.sep in wish.program  # noqa: PTH117
    if relative and not source:
        wish = msgspec.structs.replace(wish, program=os.path.abspath(wish.program))  # noqa: PTH100
    return wish


class _Call(NamedTuple):
    """What a call asks for, beside the service."""

    source: common.Source
    host: str
    another: bool
    confine: bool
    apply: bool
    yes: bool
    watch: float
    json: bool

    def run(self, wish: Wish) -> int:
        """Judge, show, and carry out where that is asked for."""
        from hollow_chain.registering.planning import Registration

        hands = common.hands_of(self.source, "") if self.apply else None
        one = Registration(self._asked(wish), self.another)
        facts, owner, judged = self._judged(one)
        judged.plan.does = "register"
        judged.plan.ports = tuple(one.wish.port)
        if hands is None:
            self._show(one, judged, None, False)
            return 1
        hands = common.hands_of(self.source, one.new.name)
        if not judged.plan.offered:
            self._show(one, judged, None, False)
            common.warn("the plan failed its proof, so it is not carried out")
            return 1
        if not self.json:
            self._show(one, judged, None, True)
        return self._carry(hands, one, judged, facts, owner)

    def _judged(self, one: Registration) -> tuple[Facts, Host, Judged]:
        from hollow_chain.causes import Facts
        from hollow_chain.chain import Graph
        from hollow_chain.mend.supposing import Runs
        from hollow_chain.registering.planning import judge, without_past
        from hollow_chain.registering.supposed import with_supposed

        snapshot = common.load(self.source, with_claims=True, supposed=one.fit if not self.source else None)
        graph = Graph(snapshot)
        owner = finding.one_host(graph, self.host)
        if self.source:
            index = Facts(graph).index(owner.name)
            fitted = with_supposed(owner, one.fit(owner, index.file))
            snapshot.hosts = [fitted if host is owner else host for host in snapshot.hosts]
            graph, owner = Graph(snapshot), fitted
        without_past(owner, one.new)
        facts = Facts(graph)
        with common.Telling() as told:
            judged = judge(facts, owner, one, Runs(), told)
        if judged.against:
            raise wrong_call(f"{common.shown(one.new.name)} is not registered: {'; '.join(judged.against)}")
        return facts, owner, judged

    @property
    def _may_ask(self) -> bool:
        """Whether somebody is there to be asked."""
        return not (self.yes or self.json) and not self.source and sys.stdin.isatty()

    def _asked(self, wish: Wish) -> Wish:
        """*wish*, and on a terminal what it leaves open as somebody there answers."""
        if not self._may_ask or not wish.program:
            return wish
        from hollow_chain.cli.asking import ask_for_rest

        return ask_for_rest(wish)

    def _show(self, one: Registration, judged: Judged, outcome: MendOutcome | None, carried_out: bool) -> None:
        from hollow_chain.show import registering as show

        if self.json:
            from hollow_chain.show.documents import to_json

            common.put(
                to_json(show.registration_document(judged.plan, one.pieces, judged.remarks, judged.delays, outcome))
            )
            return
        from hollow_chain.show.page import Page

        where = common.shown(judged.plan.target.host)
        head = f"{common.shown(one.wish.program or one.new.name)} becomes the service {common.shown(one.new.name)} on {where}"
        show.show_registration(Page(), judged.plan, one.pieces, judged.remarks, judged.delays, head, carried_out)

    def _carry(self, hands: Hands, one: Registration, judged: Judged, facts: Facts, owner: Host) -> int:
        from hollow_chain.mend.outcome import MendOutcome
        from hollow_chain.registering.trying import settle

        check(hands, judged.plan)
        confine = self.confine or (self._may_ask and says_yes("Keep from it what its first start lives without?"))
        told = settle(hands, one, owner, facts, confine, self._agree)
        if told is not None:
            if told.failed:
                if self.json:
                    self._show(one, judged, MendOutcome("", False, told.says, applied=False), True)
                else:
                    common.warn(told.says)
                return MEND_DID_NOT_HOLD
            common.tell(told.says)
            self._hold_to_ports(one, owner, facts, told, judged)
            judged = self._again(one, facts, owner, judged)
        outcome = carried(hands, judged.plan, self.watch, self.yes or told is not None)
        if self.json:
            self._show(one, judged, outcome, True)
        else:
            from hollow_chain.show.mend import show_outcome
            from hollow_chain.show.page import Page

            show_outcome(Page(), outcome)
        return 0 if outcome.well else MEND_DID_NOT_HOLD

    def _hold_to_ports(self, one: Registration, owner: Host, facts: Facts, told: Tried, judged: Judged) -> None:
        """Ask whether the ports that the first start has shown are what it is to hold."""
        from hollow_chain.registering.trying import hold_to

        named = ", ".join(map(str, told.ports))
        if not told.ports or not self._may_ask or not says_yes(f"It listens on port {named}. Is it to hold that?"):
            return
        if against := hold_to(one, owner, facts, told.ports):
            raise wrong_call(f"{common.shown(one.new.name)} is not registered: {'; '.join(against)}")
        judged.plan.ports = tuple(one.wish.port)

    def _again(self, one: Registration, facts: Facts, owner: Host, judged: Judged) -> Judged:
        """The plan with the definition that the first start has settled."""
        from hollow_chain.registering.planning import with_pieces

        return with_pieces(judged, facts, owner, one)

    def _agree(self, hands: Hands) -> None:
        from hollow_chain.cli.carrying_out import agree

        if not self.yes:
            agree(hands)

"""Changing the definition of a service: the same options, only those that are given; shown as a difference, and judged before."""

from __future__ import annotations

import difflib
import re
from dataclasses import dataclass, field, replace

import msgspec

from hollow_chain.boot.engine import Progress
from hollow_chain.boot.making import UP
from hollow_chain.causes import Facts, acts
from hollow_chain.causes.acts import Act
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.families.entries import EVENT_KINDS, STARTS, EventEntry, ManagerEntry
from hollow_chain.mend.plan import AFTER_RESTART, AT_ONCE, Plan, Try
from hollow_chain.mend.proving import Trial
from hollow_chain.mend.supposing import Expectations, Runs
from hollow_chain.mend.unit_files import digest
from hollow_chain.mend.verbs import ActView
from hollow_chain.registering import edit_events, offers, systemd_form
from hollow_chain.registering.control_form import entry_of
from hollow_chain.registering.lines import DefinitionLine, Piece
from hollow_chain.registering.making_steps import step_of
from hollow_chain.registering.offers import Look
from hollow_chain.registering.supposed import service_of
from hollow_chain.registering.systemd_form import PLACE, Chosen
from hollow_chain.registering.wish import OWN, Wish
from hollow_chain.trouble import wrong_call

DROP_IN = "50-hollow-chain.conf"
_MANY = ("Requires", "After", "Wants", "BindsTo", "ListenStream", "WantedBy")
"""Settings that may stand several times, each of which counts (systemd.unit(5))."""
_AT_ONCE = (
    "Description", "Restart", "RestartSec", "StartLimitIntervalSec", "StartLimitBurst", "TimeoutStartSec", "Requires", "After", "Wants",
)  # fmt: skip
"""Settings that the manager goes by itself, so that a process that runs need not begin anew."""


@dataclass
class Edit:
    """A change of a definition on its way."""

    name: str
    """The service, as it is registered."""
    given: Wish
    """What is to be changed, and nothing else."""
    restart: bool = False
    trial_name: str = ""
    """The name under which the changed service is looked at beside the one that is there."""
    whole: Wish = field(default_factory=Wish)
    chosen: Chosen = field(default_factory=Chosen)
    new: Service = field(default_factory=lambda: Service(name=""))

    def fit(self, host: Host, look: Look) -> Service:
        """The service as it would be, under a name of its own, to be looked at. Raises :class:`~hollow_chain.trouble.Trouble`."""
        known = next((s for s in host.services if self.name in (s.name, f"{s.name}.service", *s.aliases)), None)
        known = known or next((s for s in host.services if s.name == f"{self.name}.service"), None)
        if known is None or known.kind != "service":
            raise wrong_call(
                f"no service {self.name!r} on {host.name}; 'hollow-chain roster {self.name}' finds what is near"
            )
        self.name = known.name
        self.trial_name = f"hollow-chain-edit-{known.name.replace('@', '-')}"
        self.whole = _merged(known, self.given)
        low = offers.low_port_of(self.given, self.whole.account or "root", host) if self.given.port else 0
        self.chosen = Chosen(self.whole.account, "", self.whole.folder, "", low)
        self.new = msgspec.structs.replace(
            service_of(
                msgspec.structs.replace(self.whole, name=self.trial_name.removesuffix(".service"), instance_of=""),
                self.chosen,
                host.manager,
            ),
            name=self.trial_name,
        )
        return self.new


def _merged(service: Service, given: Wish) -> Wish:
    """What the service is now, as a wish, and over it what is given."""
    program, account = service.program, service.account
    now = Wish(
        program=program.path if program else "",
        arguments=list(program.arguments[1:]) if program else [],
        account=(OWN if account.dynamic else account.user) if account else "",
        folder=program.folder if program else "",
        needs=[link.to for link in service.links if link.word == "Requires" and link.to.endswith(".service")],
    )
    changes = {
        key: value
        for key in given.__struct_fields__
        if (value := getattr(given, key)) and key not in ("format", "version", "name")
    }
    return msgspec.structs.replace(now, **changes)


def lines_of(edit: Edit) -> list[DefinitionLine]:
    """The settings that are given, as lines of a unit file."""
    given = edit.given
    probe = msgspec.structs.replace(given, name="x", program=given.program or "/x", start=[], instance_of="")
    pieces = systemd_form.pieces_of(probe, Chosen(given.account, "", given.folder, "", edit.chosen.low_port))
    wanted = [
        line
        for line in pieces[0].lines
        if line.part != "Install" and (not line.why or line.name in ("After", "AmbientCapabilities"))
    ]
    if not (given.shown_as or given.describe):
        wanted = [line for line in wanted if line.name != "Description"]
    if not given.program:
        wanted = [line for line in wanted if line.name != "ExecStart"]
    if not given.needs and not given.after and not given.stop_on:
        wanted = [line for line in wanted if line.name != "After"]
    wanted = [line for line in wanted if line.value != "network.target"]
    if given.account == "root":
        wanted.append(DefinitionLine("Service", "User", "root"))
    if given.account and given.account != OWN:
        wanted.append(
            DefinitionLine("Service", "DynamicUser", "no", "an account that is named is none that the manager makes")
        )
    if given.restart.strip().lower() == "never":
        wanted.append(DefinitionLine("Service", "Restart", "no"))
    if given.up_when:
        wanted.append(DefinitionLine("Service", "Type", systemd_form.TYPES[given.up_when]))
        wanted = list(dict.fromkeys(line._replace(why="") for line in wanted))
    return wanted


def changed_text(text: str, lines: list[DefinitionLine], over: bool) -> str:
    """*text* of a unit file with *lines* in place of the old ones of their names; *over*: it lies over another file, so that what may
    stand once only is first made empty there."""
    for line in lines:
        text = _with_line(text, line, over)
    return text


def _with_line(text: str, line: DefinitionLine, over: bool) -> str:
    rows = text.split("\n")
    head = f"[{line.part}]"
    if head not in [row.strip() for row in rows]:
        rows = [*rows[: len(rows) - (rows[-1:] == [""])], *([""] if any(row.strip() for row in rows) else []), head, ""]
    begin = next(at for at, row in enumerate(rows) if row.strip() == head)
    end = next((at for at in range(begin + 1, len(rows)) if rows[at].strip().startswith("[")), len(rows))
    own = [at for at in range(begin + 1, end) if re.match(rf"\s*{re.escape(line.name)}\s*=", rows[at])]
    new = f"{line.name}={line.value}"
    if line.name in _MANY:
        if any(rows[at].strip() == new for at in own):
            return text
        at = own[-1] + 1 if own else _last_setting(rows, begin, end)
        return "\n".join([*rows[:at], new, *rows[at:]])
    gone = {at + more for at in own for more in range(_length(rows, at))}
    at = own[0] if own else _last_setting(rows, begin, end)
    kept_before = [row for number, row in enumerate(rows[:at]) if number not in gone]
    kept_after = [row for number, row in enumerate(rows[at:], at) if number not in gone]
    fresh = [f"{line.name}=", new] if over and line.name == "ExecStart" else [new]
    return "\n".join([*kept_before, *fresh, *kept_after])


def _length(rows: list[str], at: int) -> int:
    """Lines that a setting takes: a backslash at the end goes on (systemd.syntax(7))."""
    many = 1
    while rows[at + many - 1].endswith("\\") and at + many < len(rows):
        many += 1
    return many


def _last_setting(rows: list[str], begin: int, end: int) -> int:
    """Where a new setting goes: behind the last one of its section."""
    at = end
    while at > begin + 1 and not rows[at - 1].strip():
        at -= 1
    return at


@dataclass
class Edited:
    """A change, judged."""

    plan: Plan
    pieces: list[Piece]
    difference: list[str]


def edited(
    facts: Facts, host: Host, edit: Edit, read_text: object, runs: Runs, progress: Progress | None = None
) -> Edited:
    """The plan that carries *edit* out; *read_text* reads a file of a definition. Raises :class:`~hollow_chain.trouble.Trouble`."""
    service = facts.graph.find(host.name, edit.name)
    assert service is not None and callable(read_text)
    lines = lines_of(edit)
    definition = service.definition
    own = definition is not None and definition.file == f"{PLACE}/{service.name}"
    path = f"{PLACE}/{service.name}" if own else f"{PLACE}/{service.name}.d/{DROP_IN}"
    before: str | None = read_text(path)
    head = f"{systemd_form.MARK}; taken off by: hollow-chain unregister {service.name}\n"
    change = edit_events.change_of(host, service, edit.given, read_text)
    text = edit_events.with_install(before if before is not None else head, change, own, service.name)
    lines += change.lines
    text = changed_text(text, lines, not own)
    facts = edit_events.with_units(facts, host, change)
    view = ActView(facts, facts.graph.hosts[host.name], facts.index(host.name).file)
    is_other = bool(lines) and text != before
    steps = edit_events.steps_before(view, service, change, is_other)
    if is_other:
        verb = "define" if before is None else "amend"
        step = step_of(view, Act(verb, service.name, path, text))
        waits = service.state in UP and any(line.name not in _AT_ONCE for line in lines)
        known = digest(before.encode()) if before is not None else ""
        steps.append(
            replace(
                step,
                old=f"as it is ({known})" if before is not None else step.old,
                effect=AFTER_RESTART if waits else AT_ONCE,
            )
        )
    steps += edit_events.steps_after(view, service, change, edit.restart)
    if not steps:
        raise wrong_call(f"{service.name} is as that already; nothing is to be changed")
    if edit.restart and service.state in UP and not any(s.act and s.act.verb == "stop" for s in steps):
        steps.append(step_of(view, acts.restart(service.name)))
    known_hosts = Expectations(facts, [host.name], progress)
    node = facts.graph.node(host.name, service.name)
    trial = Trial(facts, known_hosts, node, [], [], runs=runs)
    # Who asks for an event in place of a running service, and for no longer that of another, means that these end.
    ended = {step.act.service for step in steps if step.act is not None and step.act.verb == "stop"}
    trial.given_up = frozenset(ended)
    found = trial.prove(steps)
    gives_way = tuple(one for one in found.gives_way if one not in {f"{name} on {host.name}" for name in ended})
    proof = replace(found, minimal=True, needless=(), gives_way=gives_way)
    plan = Plan(node, host.read_at, [Try(steps, (), 1.0, proof=proof)], does="edit")
    pieces = [Piece(path, tuple(lines), text, service.name)] if is_other else []
    changed = [(path, before or "", text)] if is_other else []
    for piece, was in change.units:
        if piece.text != was:
            pieces.append(piece)
            changed.append((piece.path, was, piece.text))
    changed += [(f"{PLACE}/{one.name}", was, "") for one, was in change.gone]
    difference = [line for one in changed for line in _difference(*one)]
    return Edited(plan, pieces, difference)


def _difference(path: str, before: str, text: str) -> list[str]:
    return list(difflib.unified_diff(before.splitlines(), text.splitlines(), path, path, lineterm="", n=2))


# The family whose definitions are entries of the manager.


def entry_edited(facts: Facts, host: Host, edit: Edit, runs: Runs) -> Edited:
    """The same where a definition is an entry of the manager."""
    service = facts.graph.find(host.name, edit.name)
    assert service is not None
    given, view = edit.given, ActView(facts, host, facts.index(host.name).file)
    old = _entry_now(service)
    new = _entry_with(old, given, bool(service.triggers))
    pairs = [(key, getattr(old, key), getattr(new, key)) for key in ManagerEntry.__struct_fields__]
    changed = [(key, was, now) for key, was, now in pairs if was != now and key != "sets_events"]
    if not changed:
        raise wrong_call(f"{service.name} is as that already; nothing is to be changed")
    step = step_of(view, Act("amend", service.name, "", msgspec.json.encode(new).decode()))
    of_process = any(key in ("program", "arguments", "account") for key, _, _ in changed)
    steps = [replace(step, effect=AFTER_RESTART if service.state in UP and of_process else AT_ONCE)]
    if edit.restart and service.state in UP:
        steps.append(step_of(view, acts.restart(service.name)))
    node = facts.graph.node(host.name, service.name)
    trial = Trial(facts, Expectations(facts, [host.name]), node, [], [], runs=runs)
    plan = Plan(
        node,
        host.read_at,
        [Try(steps, (), 1.0, proof=replace(trial.prove(steps), minimal=True, needless=()))],
        does="edit",
    )
    difference = [
        f"{sign}{key.replace('_', ' ')}: {_plain(value)}"
        for key, was, now in changed
        for sign, value in (("-", was), ("+", now))
    ]
    return Edited(plan, [], difference)


def _plain(value: object) -> str:
    if not isinstance(value, list):
        return str(value)
    return ", ".join(_event_words(one) if isinstance(one, EventEntry) else str(one) for one in value)


def _event_words(event: EventEntry) -> str:
    return f"{EVENT_KINDS.get(event.kind, 'event')} {event.number} {'starts' if event.action == STARTS else 'stops'} it"


def _entry_now(service: Service) -> ManagerEntry:
    program = service.program
    return ManagerEntry(
        name=service.name,
        program=program.path if program else "",
        arguments=list(program.arguments[1:]) if program else [],
        shown_as=service.display_name,
        description=service.description,
        account=service.account.user if service.account else "",
        startup=service.startup,
        needs=[link.to for link in service.links if link.kind == "hard"],
        actions=list(service.failure_actions),
        forgotten_after=int(max(service.failures_forgotten_after or 0, 0)),
        ports=[claim.port for claim in service.claims],
    )


def _entry_with(old: ManagerEntry, given: Wish, has_events: bool) -> ManagerEntry:
    probe = msgspec.structs.replace(given, name=old.name, program=given.program or "x")
    new = entry_of(probe, Chosen(given.account or old.account))[0]
    sets_events = bool(given.start or given.stop_on) and bool(new.events or has_events)
    taken = {
        "program": bool(given.program), "arguments": bool(given.program or given.arguments),
        "shown_as": bool(given.shown_as), "description": bool(given.describe),
        "account": bool(given.account), "startup": bool(given.start), "needs": bool(given.needs),
        "actions": bool(given.restart), "forgotten_after": bool(given.restart), "ports": bool(given.port),
        "events": sets_events,
    }  # fmt: skip
    given_values = {key: getattr(new, key) for key, is_given in taken.items() if is_given}
    return msgspec.structs.replace(old, **given_values, sets_events=sets_events)

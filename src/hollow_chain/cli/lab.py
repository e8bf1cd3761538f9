"""``lab``: the stand-in host of the control-manager family."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from hollow_chain.cli import common, completing, finding
from hollow_chain.families import CONTROL
from hollow_chain.trouble import wrong_call
from hollow_chain.wording.counts import counted

if TYPE_CHECKING:
    from hollow_chain.lab.machine import Machine

Place = Annotated[Path, typer.Argument(help="Folder of the stand-in host.", show_default=False)]
Name = Annotated[
    str,
    typer.Argument(help="Service: any part of its name.", show_default=False, autocompletion=completing.targets),
]
_TRIED = 3600.0
"""Seconds that a stand-in host is given to come to rest: an hour holds every start limit of its demo data."""


def register(app: typer.Typer) -> None:
    """Add the group of commands."""
    group = typer.Typer(
        help="The stand-in host: make one, start and stop things on it, break it.", no_args_is_help=True
    )
    for command in (make, boot, start, stop, clock, fault, heal, startup, show):
        group.command(command.__name__)(command)
    app.add_typer(group, name="lab")


def make(
    folder: Place,
    source: common.From = None,
    host: common.HostName = "",
    seed: Annotated[int, typer.Option("--seed", help="Its chances; equal seeds and calls give equal hosts.")] = 1,
) -> int:
    """Make a stand-in host: from a snapshot (--from) of a control-manager host, or from the demo."""
    from datetime import UTC, datetime

    from hollow_chain.chain import Graph
    from hollow_chain.facts.codec import decode
    from hollow_chain.lab import state

    if not source:
        from hollow_chain.demo import snapshots

        documents = [decode(one.read_bytes()) for one in snapshots()]
        chosen = [h for d in documents for h in d.hosts if h.name == (host or "office-01")]
        if not chosen:
            raise wrong_call(f"the demo has no host {host!r}")
        owner = chosen[0]
    else:
        owner = finding.one_host(Graph(common.load(source)), host)
    if owner.manager != CONTROL.name:
        raise wrong_call(f"{owner.name} is a {owner.manager} host; a stand-in is of the control-manager family")
    owner.read_at = owner.read_at or datetime.now(UTC)
    state.make(folder, owner, seed)
    common.put(f"made {common.shown(folder)}: {common.shown(owner.name)}, {counted(len(owner.services), 'service')}")
    return 0


def boot(
    folder: Place,
    after: Annotated[str, typer.Option("--for", help="Let so much time pass: 90s, 5min.")] = "5min",
) -> int:
    """Boot it: everything stops, then starts by the rules of its family."""
    with _at_work(folder) as machine:
        machine.boot(_seconds(after))
        up = sum(1 for service in machine.host.services if service.state == "running")
        failed = machine.host.boots[-1].failed
        common.put(f"{up} of {len(machine.host.services)} services run after {after}; {len(failed)} starts failed")
        for name in failed[:20]:
            common.put(f"  {common.shown(name)}")
    return 0


def start(folder: Place, name: Name) -> int:
    """Start a service, with all that it needs."""
    return _answered(folder, name, "start")


def stop(folder: Place, name: Name) -> int:
    """Stop a service."""
    return _answered(folder, name, "stop")


def clock(folder: Place, passes: Annotated[str, typer.Argument(help="How much time: 90s, 5min.")] = "0s") -> int:
    """Let time pass, and tell what time it is there."""
    with _at_work(folder) as machine:
        machine.pass_by(_seconds(passes))
        common.put(f"{machine.folder.clock:%Y-%m-%d %H:%M:%S} UTC; {len(machine.lab.coming)} things are under way")
    return 0


def fault(
    folder: Place,
    kind: Annotated[
        str,
        typer.Argument(
            help="slow, crash, port, peer, hidden, account, gone or update.",
            show_default=False,
            autocompletion=completing.faults,
        ),
    ],
    name: Name,
    more: Annotated[
        str, typer.Argument(help="Seconds, or the other service, as the kind wants it.", show_default=False)
    ] = "",
) -> int:
    """Put a fault in. 'slow SERVICE SECONDS', 'crash SERVICE [SECONDS]', 'port SERVICE', 'peer SERVICE OTHER', 'hidden SERVICE
    OTHER', 'account SERVICE', 'gone SERVICE', 'update SERVICE'."""
    from hollow_chain.lab.faults import KINDS
    from hollow_chain.lab.state import LabFault

    if kind not in KINDS:
        raise wrong_call(f"no fault {kind!r}; there are: {'; '.join(one.form for one in KINDS.values())}")
    form = KINDS[kind].form
    with _at_work(folder) as machine:
        service = _service(machine, name)
        new = LabFault(kind=kind, service=service)
        if "OTHER" in form:
            new.other = _service(machine, more or "?")
        elif "SECONDS" in form and (more or "[" not in form):
            new.seconds = _seconds(more)
        elif more:
            raise wrong_call(f"{more!r} is one word too many: lab fault FOLDER {form}")
        found = next(one for one in machine.host.services if one.name == service)
        KINDS[kind].shows(machine.folder, found, new)
        machine.lab.faults.append(new)
        common.put(f"{common.shown(service)}: {KINDS[kind].says}")
    return 0


def heal(folder: Place, name: Annotated[str, typer.Argument(help="Only faults of this service.")] = "") -> int:
    """Take faults out again (what they left behind stays)."""
    with _at_work(folder) as machine:
        service = _service(machine, name) if name else ""
        kept = [one for one in machine.lab.faults if service and one.service != service]
        common.put(f"{len(machine.lab.faults) - len(kept)} faults taken out")
        machine.lab.faults = kept
    return 0


def startup(
    folder: Place, name: Name, kind: Annotated[str, typer.Argument(help="automatic, delayed, manual, disabled.")]
) -> int:
    """Set the startup type of a service."""
    import msgspec

    from hollow_chain.boot.changes import STARTUPS

    if kind not in STARTUPS:
        raise wrong_call(f"{kind!r} is no startup type; there are: {', '.join(STARTUPS)}")
    with _at_work(folder) as machine:
        service = _service(machine, name)
        machine.host.services = [
            msgspec.structs.replace(one, startup=kind) if one.name == service else one for one in machine.host.services
        ]
        common.put(f"{common.shown(service)}: {kind}")
    return 0


def show(folder: Place) -> int:
    """What it is, what runs, which faults are in it."""
    from hollow_chain.lab.state import load

    found = load(folder)
    running = [service.name for service in found.host.services if service.state == "running"]
    common.put(f"{common.shown(found.host.name)}: {found.clock:%Y-%m-%d %H:%M:%S} UTC, {len(running)} of "
               f"{len(found.host.services)} services run")  # fmt: skip
    for one in found.lab.faults:
        words = " ".join(
            str(part)
            for part in (one.kind, one.service, one.other, f"{one.seconds:g} s" if one.seconds else "")
            if part
        )
        common.put(f"  fault: {common.shown(words)}")
    for coming in found.lab.coming[:20]:
        common.put(f"  to come at {coming.at:%H:%M:%S}: {common.shown(coming.service)} {coming.what}")
    return 0


class _at_work:
    """The machine of a folder, for one change."""

    def __init__(self, folder: Path) -> None:
        from hollow_chain.lab.state import changing

        self._changing = changing(folder)

    def __enter__(self) -> Machine:
        from hollow_chain.lab.machine import Machine

        return Machine(self._changing.__enter__())

    def __exit__(self, *error: object) -> None:
        self._changing.__exit__(*error)  # type: ignore[arg-type]


def _answered(folder: Path, name: str, what: str) -> int:
    from hollow_chain.lab.machine import Refused

    with _at_work(folder) as machine:
        service = _service(machine, name)
        began = machine.folder.clock
        try:
            getattr(machine, what)(service)
        except Refused as refused:
            common.put(f"{common.shown(service)}: {common.shown(refused)}")
            return 1
        took = (machine.folder.clock - began).total_seconds()
        done = f"up after {took:.1f} s" if what == "start" else "stopped"
        common.put(f"{common.shown(service)}: {done}")
    return 0


def _service(machine: Machine, words: str) -> str:
    from hollow_chain.chain import Graph
    from hollow_chain.facts.host import snapshot

    node = finding.find_target(Graph(snapshot([machine.host])), words, machine.host.name)
    if node.service is None:
        raise wrong_call(f"error 1060: no service {words!r} is registered on {machine.host.name}")
    return node.name


def _seconds(text: str) -> float:
    from hollow_chain.boot.changes import NotUnderstood, seconds

    try:
        return seconds(text)
    except NotUnderstood as problem:
        raise wrong_call(str(problem)) from None

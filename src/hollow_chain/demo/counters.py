"""Forty ticket counters of the ferry company on two days: between them came an update to some, and somebody changed a setting."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from hashlib import sha256

from hollow_chain.facts.host import Event, File, Host, Package, Snapshot, snapshot
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Account, Definition, Limits, Link, Program, Service

_TUESDAY = datetime(2026, 3, 3, 6, 12, tzinfo=UTC)
_MANY = 40
"""Counters: enough that chance is told from a cause, few enough to be read in a second."""
_SERVICES = (
    ("ticket-desk", "Sells tickets over the counter"),
    ("seat-map", "Shows which seats are free"),
    ("pier-display", "Shows the next sailings on the pier"),
    ("card-reader", "Takes cards"),
)
_SHORT_LIMIT = (8, 19, 23, 31)
"""Counters on which somebody set a start limit that is too short."""
_WRITTEN_BY = "made up"


def counters(day: int) -> Snapshot:
    """The counters so many days after Tuesday the 3rd of March, 2026."""
    return snapshot([_counter(number, day) for number in range(_MANY)], _WRITTEN_BY)


def pier_of(number: int) -> str:
    """The group of a counter."""
    return ("north", "south", "ferry-hall")[number % 3]


def hosts_file(folder: str) -> str:
    """A file of hosts that reads the snapshots in *folder*."""
    lines = ['format = "hollow-chain/hosts"', "version = 1", ""]
    for number in range(_MANY):
        lines += [
            f"[hosts.counter-{number:02d}]",
            f'snapshot = "{folder}/counter-{number:02d}.json"',
            f'groups = ["{pier_of(number)}"]',
            "",
        ]
    return "\n".join(lines)


def _counter(number: int, day: int) -> Host:
    read = _TUESDAY + timedelta(days=day, seconds=number)
    boot = _TUESDAY - timedelta(hours=9)
    updated = day > 0 and number % 4 == 1
    host = Host(
        name=f"counter-{number:02d}",
        read_at=read,
        boot_at=boot,
        system="Harbor Linux 12.4",
        architecture="x86_64",
        cores=2,
    )
    versions = {
        "ticket-desk": "2.2" if updated else "2.1",
        "seat-map": "1.8",
        "pier-display": "3.0",
        "libhawser": f"1.{number % 2}",
    }
    host.packages = [Package(name=name, version=version) for name, version in versions.items()]
    for at, (name, about) in enumerate(_SERVICES):
        host.services.append(_service(host, name, about, boot + timedelta(seconds=6 + 2 * at)))
    if updated:
        _fails(host, "ticket-desk", "/etc/counter/ticket-desk.conf:12: unknown option 'printer_width'", read)
    if day and number in _SHORT_LIMIT:
        _times_out(host, "pier-display", read)
    return host


def _service(host: Host, name: str, about: str, begun: datetime) -> Service:
    program, config, unit = (
        f"/usr/lib/counter/{name}",
        f"/etc/counter/{name}.conf",
        f"/usr/lib/systemd/system/{name}.service",
    )
    for path in (unit, config):
        digest = sha256(path.encode()).hexdigest()[:16]
        host.files.append(File(path=path, mode="0644", owner="root", group="root", size=400, digest=digest))
    host.files.append(File(path=program, mode="0755", owner="root", group="root", size=96_000, executable=True))
    return Service(
        name=f"{name}.service",
        description=about,
        state="running",
        startup="automatic",
        wanted_by=["multi-user.target"],
        links=[Link(to="card-reader.service", kind="order", word="After", pulls=False)]
        if name == "ticket-desk"
        else [],
        definition=Definition(file=unit),
        program=Program(path=program, arguments=[program, config], style="notify", paths=[config]),
        account=Account(user="counter", group="counter"),
        last=LastRun(result="success", started_at=begun, up_at=begun + timedelta(seconds=1)),
        limits=Limits(start_seconds=90, restart="no"),
    )


def _named(host: Host, name: str) -> Service:
    return next(service for service in host.services if service.name == f"{name}.service")


def _fails(host: Host, name: str, says: str, read: datetime) -> None:
    service, ended = _named(host, name), read - timedelta(hours=2, minutes=3)
    service.state = "failed"
    service.last = LastRun(result="exit-code", exit_status=1, started_at=ended - timedelta(seconds=1), ended_at=ended)
    host.events.append(Event(at=ended, text=says, service=service.name, source="journal (ticket-desk)", level="error"))


def _times_out(host: Host, name: str, read: datetime) -> None:
    service, ended = _named(host, name), read - timedelta(hours=1)
    service.limits = Limits(start_seconds=2, start_typed="2s", restart="no")
    service.state = "failed"
    service.last = LastRun(result="timeout", started_at=ended - timedelta(seconds=2), ended_at=ended)

"""A made-up fleet of the ferry company: counters on many piers, with stories planted in it that a survey should find."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from hollow_chain.facts import Host, Link, Service, Snapshot, snapshot
from hollow_chain.facts.host import Event, File, Package
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Account, Definition, Limits, Program

READ_AT = datetime(2026, 3, 4, 6, 12, tzinfo=UTC)
BOOT_AT = READ_AT - timedelta(hours=9)
REGIONS = ("north", "south", "east", "west")
SYSTEMS = ("Harbor Linux 12.3", "Harbor Linux 12.4", "Harbor Linux 12.5")
SERVER = "ledger-01"


class Fleet(NamedTuple):
    """Hosts, and the groups of each."""

    snapshot: Snapshot
    groups: dict[str, list[str]]


class Story(NamedTuple):
    """What was planted: the service that fails, and which factor should stand first; of what may be said as well, one."""

    service: str
    kind: str
    """Empty: nothing may be said."""
    of: str = ""
    value: str = ""


def made_fleet(hosts: int, seed: int = 1) -> tuple[Fleet, list[Story]]:
    """A fleet of so many hosts with all stories, and what these are."""
    dice = random.Random(seed)
    made = [_counter(number, dice) for number in range(hosts)]
    groups = {host.name: [dice.choice(REGIONS), *(["pilot"] if dice.random() < 0.1 else [])] for host in made}
    stories = [plant(made, groups, dice) for plant in STORIES]
    made.append(_server())
    return Fleet(snapshot(made, "made up"), groups), stories


def _counter(number: int, dice: random.Random) -> Host:
    host = Host(
        name=f"quay-{number:04d}",
        read_at=READ_AT + timedelta(seconds=number % 60),
        boot_at=BOOT_AT,
        system=dice.choice(SYSTEMS),
        architecture="x86_64",
        cores=dice.choice((2, 4)),
        default_target="multi-user.target",
        clock_offset=dice.gauss(0, 0.1),
    )
    for at in range(30):
        host.packages.append(Package(name=f"lib-hawser{at}", version=f"1.{dice.randrange(3) if at < 8 else 0}"))
    for name in ("gangway-light", "tide-table", "buoy-lamp", "rope-store"):
        host.services.append(_service(host, name, dice))
    for service in list(host.services):
        if dice.random() < 0.01:
            fail(host, service)
    return host


def _server() -> Host:
    host = Host(name=SERVER, read_at=READ_AT, boot_at=BOOT_AT, system=SYSTEMS[0], architecture="x86_64", cores=8)
    service = _service(host, "ledger", random.Random(1))
    host.services.append(service)
    fail(host, service)
    return host


def _service(host: Host, name: str, dice: random.Random, **changed: object) -> Service:
    path = f"/usr/lib/quay/{name}"
    begun = 5 + dice.random() * 20
    unit = f"/usr/lib/systemd/system/{name}.service"
    config = f"/etc/quay/{name}.conf"
    service = Service(
        name=f"{name}.service",
        description=f"{name.replace('-', ' ').title()} of the quay",
        state="running",
        startup="automatic",
        wanted_by=["multi-user.target"],
        definition=Definition(file=unit),
        program=Program(path=path, arguments=[path, config], style="simple", paths=[config]),
        account=Account(user="quay", group="quay"),
        last=LastRun(
            result="success",
            started_at=BOOT_AT + timedelta(seconds=begun),
            up_at=BOOT_AT + timedelta(seconds=begun + 0.5),
        ),
        limits=Limits(start_seconds=90, restart="on-failure"),
    )
    for key, value in changed.items():
        setattr(service, key, value)
    host.files += [
        File(path=path, kind="file", mode="0755", owner="root", group="root", size=48_000, executable=True),
        File(path=unit, digest=digest(unit), kind="file", mode="0644", owner="root"),
        File(path=config, digest=digest(config), kind="file", mode="0644", owner="root", group="root", size=300),
    ]
    return service


def digest(text: str) -> str:
    """A digest of a made-up file."""
    import hashlib

    return hashlib.sha256(text.encode()).hexdigest()[:16]


def fail(host: Host, service: Service, minutes: float = 20) -> None:
    """Have it fail: it ended by itself, with a line about its settings."""
    ended = READ_AT - timedelta(minutes=minutes)
    started = service.last.started_at if service.last is not None else ended
    service.state = "failed"
    service.last = LastRun(result="exit-code", exit_status=1, started_at=started, ended_at=ended)
    text = f"/etc/quay/{service.name.removesuffix('.service')}.conf:17: unknown option 'depht'"
    host.events.append(Event(at=ended, text=text, service=service.name, source="journal (quay)", level="error"))


Plant = Callable[[list[Host], dict[str, list[str]], random.Random], Story]


def _everywhere(hosts: list[Host], name: str, dice: random.Random) -> Iterator[tuple[Host, Service]]:
    for host in hosts:
        service = _service(host, name, dice)
        host.services.append(service)
        yield host, service


def _bad_package(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    chosen = {host.name for host in dice.sample(hosts, min(len(hosts), max(4, len(hosts) // 25)))}
    for host, service in _everywhere(hosts, "ticket-desk", dice):
        bad = host.name in chosen
        host.packages.append(Package(name="ticket-desk", version="2.2" if bad else "2.1"))
        if bad:
            fail(host, service)
    return Story("ticket-desk.service", "package", "ticket-desk", "2.2")


def _setting_off(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host, service in _everywhere(hosts, "berth-plan", dice):
        if "pilot" in groups[host.name]:
            assert service.limits is not None
            service.limits.start_seconds = 5
            ended = READ_AT - timedelta(minutes=9)
            service.state = "failed"
            service.last = LastRun(result="timeout", started_at=ended - timedelta(seconds=5), ended_at=ended)
    return Story("berth-plan.service", "setting", "berth-plan.service", "5")


def _takes_along(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host in dice.sample(hosts, min(len(hosts), max(4, len(hosts) // 5))):
        service = _service(host, "seat-map", dice, links=[Link(to="ledger.service", host=SERVER, pulls=False)])
        host.services.append(service)
        service.state = "failed"
        ended = READ_AT - timedelta(minutes=15)
        service.last = LastRun(result="exit-code", exit_status=1, started_at=ended, ended_at=ended)
    return Story("ledger.service", "")


def _clock(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host, service in _everywhere(hosts, "ticket-seal", dice):
        if dice.random() < 0.05:
            host.clock_offset = dice.uniform(30, 400)
            fail(host, service)
    return Story("ticket-seal.service", "clock")


def _slow_rollout(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host, service in _everywhere(hosts, "deck-chart", dice):
        new = dice.random() < 0.3
        host.packages.append(Package(name="deck-chart", version="3.0" if new else "2.9"))
        if dice.random() < (0.4 if new else 0.01):
            fail(host, service)
    return Story("deck-chart.service", "package", "deck-chart", "3.0")


def _chance(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host, service in _everywhere(hosts, "fog-horn", dice):
        if dice.random() < 0.03:
            fail(host, service)
    return Story("fog-horn.service", "")


def _reboot_due(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host, service in _everywhere(hosts, "sonar", dice):
        if dice.random() < 0.1:
            host.reboot_due = "asked for by an update"
            if dice.random() < 0.7:
                fail(host, service)
    return Story("sonar.service", "reboot")


def _system(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host, service in _everywhere(hosts, "radar", dice):
        if host.system == SYSTEMS[1] and dice.random() < 0.5:
            fail(host, service)
    return Story("radar.service", "system", "host", SYSTEMS[1])


def _order(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host, service in _everywhere(hosts, "log-book", dice):
        charts = _service(host, "chart-store", dice)
        host.services.append(charts)
        assert service.last is not None and charts.last is not None
        early = dice.random() < 0.15
        service.last.started_at = BOOT_AT + timedelta(seconds=10 + (0 if early else 15))
        charts.last.started_at = BOOT_AT + timedelta(seconds=12)
        charts.last.up_at = BOOT_AT + timedelta(seconds=20)
        if early and dice.random() < 0.8:
            fail(host, service)
    return Story("log-book.service", "order", "log-book.service", "chart-store.service")


def _configuration(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    bad = digest("bad")
    for host, service in _everywhere(hosts, "fare-table", dice):
        if dice.random() < 0.06:
            host.files[-1].digest = bad
            fail(host, service)
    return Story("fare-table.service", "configuration", "fare-table.service")


def _account(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host, service in _everywhere(hosts, "crew-list", dice):
        if dice.random() < 0.05:
            service.account = Account(user="mate", group="mate")
            fail(host, service)
    return Story("crew-list.service", "setting", "crew-list.service", "mate")


def _definition(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    drop_in = "/etc/systemd/system/cargo-lift.service.d/10-quay.conf"
    for host, service in _everywhere(hosts, "cargo-lift", dice):
        if dice.random() < 0.03:
            assert service.definition is not None
            service.definition.drop_ins = [drop_in]
            host.files.append(File(path=drop_in, digest=digest("drop-in"), kind="file", mode="0644"))
            fail(host, service)
    return Story("cargo-lift.service", "definition", "cargo-lift.service")


def _place(hosts: list[Host], groups: dict[str, list[str]], dice: random.Random) -> Story:
    for host, service in _everywhere(hosts, "harbor-radio", dice):
        if "east" in groups[host.name] and dice.random() < 0.6:
            fail(host, service)
    return Story("harbor-radio.service", "place", "east")


STORIES: tuple[Plant, ...] = (
    _bad_package, _setting_off, _takes_along, _clock, _slow_rollout, _chance, _reboot_due, _system, _order, _configuration, _account,
    _definition, _place,
)  # fmt: skip

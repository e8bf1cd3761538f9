"""Made-up hosts of any size for the benchmarks: chains, instances, and a few troubles in a hundred."""

from __future__ import annotations

import random
from datetime import UTC, datetime, timedelta

from hollow_chain.facts import Host, Link, Service, Snapshot, snapshot
from hollow_chain.facts.host import Event, File, Listener
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Account, Definition, Limits, Program

READ_AT = datetime(2026, 3, 4, 6, 12, tzinfo=UTC)
BOOT_AT = READ_AT - timedelta(hours=9)


def made_up(services: int, hosts: int = 1, seed: int = 1, block: int = 0) -> Snapshot:
    """A snapshot with *services* in all on *hosts*, with about three troubles in a hundred services.

    Each needs some of the 400 before it, so that chains are the deeper the larger the host is. With a *block* of so many, each needs
    some of its own block only, and one block is as the other: a host of twice as many has twice as much of everything.
    """
    dice = random.Random(seed)
    each = services // hosts
    return snapshot([_host(f"pier-{n:03d}", each, dice, block) for n in range(hosts)], "bench")


def _host(name: str, services: int, dice: random.Random, block: int) -> Host:
    host = Host(name=name, manager="systemd", read_at=READ_AT, boot_at=BOOT_AT, architecture="x86_64")
    for number in range(services):
        if block and number % block == 0:
            dice = random.Random(block)
        host.services.append(_service(host, number, dice, number - number % block if block else max(0, number - 400)))
    return host


def _service(host: Host, number: int, dice: random.Random, first: int) -> Service:
    name = f"berth-{number:05d}.service"
    lower = [f"berth-{dice.randrange(first, number):05d}.service" for _ in range(3)] if number > first else []
    path = f"/usr/lib/berth/bin/berth-{number % 97}"
    started = BOOT_AT + timedelta(seconds=5 + number % 60)
    service = Service(
        name=name,
        description=f"Berth desk number {number}",
        state="running",
        detail="active (running)",
        startup="automatic",
        wanted_by=["multi-user.target"],
        links=[Link(to=n, word="Requires") for n in lower[:1]]
        + [Link(to=n, kind="soft", word="Wants") for n in lower[1:2]]
        + [Link(to=n, kind="order", word="After", pulls=False) for n in lower],
        definition=Definition(file=f"/etc/systemd/system/{name}"),
        program=Program(path=path, arguments=[path, "--berth", str(number)], style="simple", process=1000 + number),
        account=Account(user="berth", group="berth"),
        last=LastRun(result="success", started_at=started, up_at=started),
        limits=Limits(start_seconds=90, rate_count=5, rate_seconds=10, restart="on-failure"),
    )
    host.listeners.append(Listener(port=1024 + number % 60000, process=1000 + number, program=path, service=name))
    if dice.random() < 0.03:
        _break(host, service, dice)
    return service


def _break(host: Host, service: Service, dice: random.Random) -> None:
    trouble = dice.randrange(4)
    ended = READ_AT - timedelta(minutes=7)
    if trouble == 0:
        service.state, service.startup = "stopped", "disabled"
        return
    service.state = "failed"
    service.last = LastRun(result="exit-code", exit_status=203 if trouble == 1 else 1, started_at=ended, ended_at=ended)
    if trouble == 1 and service.program is not None:
        service.program.path = f"/opt/none/{service.name}"
        host.files.append(File(path=service.program.path, exists=False))
    else:
        text = f"/etc/berth/{service.name}.conf:17: unknown option 'depht'"
        host.events.append(Event(at=ended, text=text, service=service.name, source="journal (berth)", level="error"))

"""What differs: from an earlier reading, from a twin, from a group; noise is left out by the kind of a field, and what matters is first."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import msgspec
import pytest

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts import Host, Service, snapshot
from hollow_chain.facts.codec import decode, encode
from hollow_chain.facts.host import File, Package
from hollow_chain.facts.kinds import KIND, SET
from hollow_chain.facts.runs import LastRun, Usage
from hollow_chain.facts.service import Account, Confinement, Definition, Limits, Link, Program
from hollow_chain.fleet.keeping import keep_round
from hollow_chain.fleet.spread import spreader
from hollow_chain.lately.between import differences
from hollow_chain.sources.readings import open_store
from tests.conftest import Run
from tests.made_fleet import BOOT_AT, READ_AT, SYSTEMS, _service, fail

NOW = datetime(2026, 3, 4, 7, 0, tzinfo=UTC)
Change = Callable[[Host], object]


def counter(number: int) -> Host:
    """A counter of the ferry company, all of it well."""
    host = Host(
        name=f"quay-{number:02d}",
        read_at=READ_AT,
        boot_at=BOOT_AT,
        system=SYSTEMS[0],
        architecture="x86_64",
        clock_offset=0.0,
    )
    host.packages = [Package(name="ticket-desk", version="2.1"), Package(name="rope", version="1.0")]
    dice = random.Random(number)
    host.services = [_service(host, name, dice) for name in ("ticket-desk", "berth-plan", "seat-map")]
    return host


def noisy(host: Host, days: int) -> Host:
    """The same host so many days later: whatever moves by itself has moved."""
    later = decode(encode(snapshot([host]))).hosts[0]
    dice = random.Random(days)
    by = timedelta(days=days)
    assert later.read_at is not None and later.boot_at is not None
    later.read_at, later.boot_at, later.clock_offset = later.read_at + by, later.boot_at + by, dice.gauss(0, 0.1)
    for service in later.services:
        assert service.program is not None and service.last is not None
        service.program.process = dice.randrange(1, 30_000)
        service.last = LastRun(
            result="success",
            started_at=later.boot_at + timedelta(seconds=dice.randrange(5, 40)),
            cpu_seconds=dice.random() * 90,
        )
        service.last.up_at = service.last.started_at
        service.usage = Usage(memory_bytes=dice.randrange(1 << 20, 1 << 28), tasks=dice.randrange(1, 9))
    later.services.append(Service(name=f"session-{days}.scope", kind="scope", state="running"))
    return later


def store_of(place: Path, *rounds: list[Host], groups: dict[str, list[str]] | None = None) -> Path:
    store = open_store(str(place), make=True)
    for number, hosts in enumerate(rounds):
        moment = NOW - timedelta(days=len(rounds) - number)
        keep_round(store, snapshot(hosts, "test"), groups or {}, moment, spreader(), lambda *_: None)
    return place


def service(host: Host, name: str) -> Service:
    return next(one for one in host.services if one.name == f"{name}.service")


def _part(name: str, what: str, value: object) -> Change:
    def change(host: Host) -> None:
        setattr(getattr(service(host, "berth-plan"), name), what, value)

    return change


def _own(what: str, value: object) -> Change:
    return lambda host: setattr(service(host, "berth-plan"), what, value)


def _file(what: str, value: object) -> Change:
    return lambda host: setattr(
        next(file for file in host.files if file.path == "/etc/quay/berth-plan.conf"), what, value
    )


CHANGES: dict[str, tuple[Change, str]] = {
    "startup type": (_own("startup", "disabled"), "startup type"),
    "start limit": (_part("limits", "start_seconds", 5.0), "start limit, s"),
    "restart": (_part("limits", "restart", "no"), "restart"),
    "account": (_own("account", Account(user="mate", group="quay")), "account"),
    "group": (_own("account", Account(user="quay", group="mate")), "group"),
    "arguments": (_part("program", "arguments", ["/usr/lib/quay/berth-plan", "--dry"]), "arguments"),
    "program": (_part("program", "path", "/opt/berth-plan"), "program"),
    "working folder": (_part("program", "folder", "/srv"), "working folder"),
    "environment": (_part("program", "environment", ["A=1"]), "environment"),
    "drop-in": (_part("definition", "drop_ins", ["/etc/x.conf"]), "definition files"),
    "masked": (_part("definition", "load", "masked"), "definition"),
    "settings": (_file("digest", "0" * 16), "content of /etc/quay/berth-plan.conf"),
    "mode": (_file("mode", "0600"), "mode of /etc/quay/berth-plan.conf"),
    "owner": (_file("owner", "mate"), "owner of /etc/quay/berth-plan.conf"),
    "gone": (_file("exists", False), "presence of /etc/quay/berth-plan.conf"),
    "confinement": (_own("confinement", Confinement(read_only=["/etc"])), "read only (confinement)"),
    "failure actions": (_own("failure_actions", ["restart"]), "failure actions"),
    "package": (lambda host: host.packages.__setitem__(1, Package(name="rope", version="1.1")), "package rope"),
    "package gone": (lambda host: host.packages.pop(), "package rope"),
    "system": (lambda host: setattr(host, "system", SYSTEMS[1]), "system"),
    "clock": (lambda host: setattr(host, "clock_offset", 400.0), "clock"),
    "target": (lambda host: setattr(host, "default_target", "rescue.target"), "start-up target"),
    "service gone": (lambda host: host.services.pop(1), "the service itself"),
}


@pytest.mark.parametrize("what", CHANGES)
def test_the_change_stands_first_under_the_usual_noise(run: Run, tmp_path: Path, what: str) -> None:
    change, about = CHANGES[what]
    then = counter(1)
    service(then, "berth-plan").confinement = Confinement()
    now = noisy(then, 3)
    change(now)
    store_of(tmp_path / "st", [then], [now])
    done = run("drift", "quay-01", "--from", "st", "--json")
    assert done.json["differences"][0]["about"] == about, done.json["differences"]
    others = {one["about"] for one in done.json["differences"]} - {about, "the service itself"}
    assert len(others) <= 1, others


def test_noise_alone_is_no_difference(run: Run, tmp_path: Path) -> None:
    then = counter(1)
    now = noisy(then, 3)
    now.services.pop()
    store_of(tmp_path / "st", [then], [now])
    shown = run("drift", "quay-01", "--from", "st")
    assert "Nothing differs that both readings looked at." in shown.out and shown.status == 0


def _fields(kind: type) -> Iterator[tuple[str, str, Any]]:
    """Each field with its kind and type."""
    info: Any = msgspec.inspect.type_info(kind)
    for field in info.fields:
        marked, inner = "", field.type
        while isinstance(inner, msgspec.inspect.Metadata | msgspec.inspect.UnionType):
            if isinstance(inner, msgspec.inspect.Metadata):
                marked, inner = marked or (inner.extra or {}).get(KIND, ""), inner.type
            else:
                inner = next(one for one in inner.types if not isinstance(one, msgspec.inspect.NoneType))
        yield field.name, marked, inner


_OTHER: dict[type, object] = {
    msgspec.inspect.StrType: "other", msgspec.inspect.IntType: 77, msgspec.inspect.FloatType: 7.5, msgspec.inspect.BoolType: True,
    msgspec.inspect.DateTimeType: NOW, msgspec.inspect.DictType: {"a": "b"},
}  # fmt: skip
PARTS = {
    "definition": Definition,
    "program": Program,
    "account": Account,
    "limits": Limits,
    "confinement": Confinement,
    "last": LastRun,
}
FIELDS = [
    (part, name, marked)
    for part, kind in PARTS.items()
    for name, marked, inner in _fields(kind)
    if type(inner) in _OTHER
    or (isinstance(inner, msgspec.inspect.ListType) and isinstance(inner.item_type, msgspec.inspect.StrType))
]
DERIVED = {("program", "paths")}
"""What is worked out from other fields, and tells nothing beside them."""


@pytest.mark.parametrize(("part", "name", "marked"), FIELDS, ids=[f"{part}.{name}" for part, name, _ in FIELDS])
def test_every_field_is_a_difference_or_noise_by_its_kind(part: str, name: str, marked: str) -> None:
    kinds = {field: inner for field, _, inner in _fields(PARTS[part])}
    value = _OTHER.get(type(kinds[name]), ["other"])
    if name == "arguments":
        value = ["x", "other"]
    old, new = counter(1), counter(1)
    for host in (old, new):
        setattr(host.services[0], part, PARTS[part]())
        if isinstance(value, int | float) and getattr(getattr(host.services[0], part), name) is None:
            setattr(getattr(host.services[0], part), name, 3)  # None is: not known
    setattr(getattr(new.services[0], part), name, value)
    found = [one for one in differences(old, Facts(Graph(snapshot([new]))), new) if not one.stands]
    is_noise = (marked and marked != SET) or part == "last" or (part, name) in DERIVED
    assert len(found) == (0 if is_noise else 1), (marked, found)


def fleet(place: Path) -> Path:
    """Sixty counters of which twelve get a bad package, and a third another one that does no harm; all were well the day before."""
    before = [counter(number) for number in range(60)]
    after = [noisy(host, 1) for host in before]
    for number, host in enumerate(after):
        if number % 3 == 0:
            host.packages[1] = Package(name="rope", version="1.1")
        if number % 5 == 0:
            host.packages[0] = Package(name="ticket-desk", version="2.2")
            fail(host, service(host, "ticket-desk"))
    service(after[7], "berth-plan").startup = "disabled"
    groups = {host.name: ["north" if number % 2 else "south"] for number, host in enumerate(before)}
    return store_of(place, before, after, groups=groups)


@pytest.fixture(scope="module")
def readings(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return fleet(tmp_path_factory.mktemp("fleet") / "st")


def test_what_went_with_failures_elsewhere_stands_first(run: Run, readings: Path) -> None:
    done = run("drift", "quay-15", "--from", readings, "--json")
    first, second = done.json["differences"][:2]
    assert (first["about"], first["before"], first["after"]) == (
        "package ticket-desk",
        "2.1",
        "2.2",
    ) and done.status == 1
    assert first["went_with_failure"]["is_more_than_chance"] and first["went_with_failure"]["not_well_with"] == 12
    assert second["about"] == "package rope" and not second["went_with_failure"]["is_more_than_chance"]
    assert {one["about"] for one in done.json["became"]} == {"state", "last result"}
    shown = run("drift", "quay-15", "--from", readings)
    assert "of 12 hosts that have it 12 fail as this one does, of 48 others 0" in shown.out
    assert (
        "What became of it" in shown.out
        and "against its own reading of 2026-03-04 06:12:00 UTC, in which all was well" in " ".join(shown.out.split())
    )


def test_a_twin_and_a_group_say_what_is_odd(run: Run, readings: Path) -> None:
    twin = run("drift", "quay-07", "--from", readings, "--against", "quay-08", "--json").json
    assert twin["differences"][0]["service"] == "berth-plan.service" and twin["against"].startswith("quay-08, its twin")
    odd = run("drift", "quay-10", "--from", readings, "--against", "south", "--json").json["differences"]
    assert [(one["about"], one["after"], one["before"]) for one in odd] == [("package ticket-desk", "2.2", "2.1")]
    assert "ticket-desk 2.2, and 2.1 on" in run("drift", "quay-10", "--from", readings, "--against", "south").out
    quiet = run("drift", "quay-02", "--from", readings, "--against", "south")
    assert "It has nothing otherwise than most of them." in quiet.out and quiet.status == 0


def test_without_an_earlier_reading_its_group_is_asked(run: Run, tmp_path: Path) -> None:
    hosts = [counter(number) for number in range(8)]
    service(hosts[3], "seat-map").startup = "manual"
    store_of(tmp_path / "st", hosts, groups={host.name: ["north"] for host in hosts})
    done = run("drift", "quay-03", "--from", "st", "--json")
    assert "compared with what most of group north have" in done.err
    assert [(one["service"], one["about"]) for one in done.json["differences"]] == [
        ("seat-map.service", "startup type")
    ]


def test_why_tells_when_it_was_well_and_what_was_changed_since(run: Run, readings: Path, tmp_path: Path) -> None:
    newest = sorted((readings / "readings/quay-15").iterdir())[-1]
    told = run("why", "ticket-desk", "--from", newest, "--before", readings, "--json").json["causes"][0]["evidence"][0]
    assert told["source"] == "an earlier reading"
    assert told["fact"].startswith("well on Wednesday 2026-03-04 06:12:00Z; since then: package ticket-desk 2.1 -> 2.2")
    healthy = run("why", "seat-map", "--from", newest, "--before", readings)
    assert healthy.status == 0 and "since then" not in healthy.out
    never = counter(90)
    fail(never, service(never, "ticket-desk"))
    (tmp_path / "never.json").write_bytes(encode(snapshot([never])))
    done = run("why", "ticket-desk", "--from", "never.json", "--before", readings)
    assert "no earlier reading of quay-90" in done.err and done.status == 1
    hosts = tmp_path / "hosts.toml"
    hosts.write_text(
        f'format = "hollow-chain/hosts"\nversion = 1\nreadings = "{readings}"\n[hosts.quay-15]\nsnapshot = "{newest}"\n'
    )
    assert "since then: package ticket-desk 2.1 -> 2.2" in " ".join(
        run("why", "ticket-desk", "--from", hosts).out.split()
    )


WRONG = [
    (["nosuch"], "no reading of a host 'nosuch' is in the store"),
    (["quay"], "'quay' may be quay-00, quay-01"),
    (["quay-01", "--against", "nosuch"], "no reading of a host 'nosuch'"),
    (["quay-01", "--against", "quay-02", "--since", "2d"], "--since is of the host's own earlier reading"),
    (["quay-01", "--since", "soon"], "--since takes"),
    (["quay-01", "--since", "2020-01-01"], "no reading of quay-01 before 2020-01-01 is in the store"),
]


@pytest.mark.parametrize(("words", "says"), WRONG, ids=[" ".join(words) for words, _ in WRONG])
def test_wrong_calls_get_one_line(run: Run, readings: Path, words: list[str], says: str) -> None:
    done = run("drift", *words, "--from", readings)
    assert done.status in (2, 3) and says in done.err and done.err.count("\n") == 1, done.err
    assert run("drift", *words, "--from", "nowhere").status == 2


def test_a_file_with_another_text_is_told_by_its_digest_alone() -> None:
    old, new = (
        File(path="/etc/a", digest=digest, size=3, changed_at=NOW + timedelta(days=days))
        for digest, days in (("a" * 16, 0), ("a" * 16, 1))
    )
    hosts = [Host(name="h", files=[file]) for file in (old, new)]
    assert not differences(hosts[0], Facts(Graph(snapshot([hosts[1]]))), hosts[1])


@pytest.mark.parametrize("started", [True, False])
def test_what_a_unit_that_was_not_loaded_does_not_tell_is_no_difference(started: bool) -> None:
    before, after = counter(1), counter(1)
    one, other = before.services[0], after.services[0]
    one.detail, one.state, one.startup = "not loaded", "stopped", "manual"
    other.detail, other.startup = "active (running)", "automatic" if started else "manual"
    other.links = [Link(to="sysinit.target", kind="hard"), Link(to="basic.target", kind="order")]
    other.limits = Limits(start_seconds=90)
    about = [one.about for one in differences(before, Facts(Graph(snapshot([after]))), after)]
    assert ("startup type" in about) == started
    assert not {"needs", "starts after", "start limit, s"} & set(about)

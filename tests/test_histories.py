"""Starts and boots from the manager's records, package logs around a stop, license facts of services: each by itself."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path

import pytest

from hollow_chain.facts.host import Host
from hollow_chain.facts.license import LicenseServer
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Program, Service
from hollow_chain.families.times import Limit
from hollow_chain.lazy import pattern
from hollow_chain.reach.handles import Walker
from hollow_chain.reach.here import here
from hollow_chain.sources import licenses, package_logs, upkeep
from hollow_chain.sources.evidence_files import EvidenceReader
from hollow_chain.sources.systemd import boots
from hollow_chain.sources.systemd.journal import FAILED, STARTED, STARTING, ManagerRecord

BEGAN = datetime(2026, 3, 4, 5, 0, tzinfo=UTC)


def told(*records: tuple[float, str], boot: str = "b") -> list[ManagerRecord]:
    return [ManagerRecord(BEGAN + timedelta(seconds=second), "a.service", code, boot) for second, code in records]


def test_starts_are_paired_with_how_they_went() -> None:
    records = told(
        (10, STARTING),
        (14, STARTED),
        (2000, STARTING),
        (2030, FAILED),
        (3000, STARTING),
        (3001, FAILED),
        (4000, STARTED),
    )
    found = boots.starts_of(records, {"b": BEGAN}, Limit(30, "", False))
    assert [(s.outcome, s.seconds, s.at_boot) for s in found] == [
        ("up", 4, True),
        ("timeout", 30, False),
        ("failed", 1, False),
        ("up", 0, False),
    ]
    assert found[0].offset == 14


def test_what_counts_as_up_at_once_had_a_good_start_where_it_stayed() -> None:
    records = told((10, STARTED), (12, FAILED), (700, STARTED), (900, STARTED), (915, FAILED))
    found = boots.starts_of(records, {"b": BEGAN}, None)
    assert [(s.outcome, (s.at - BEGAN).total_seconds(), s.at_boot) for s in found] == [
        ("up", 700, False),
        ("up", 900, False),
    ]


def test_a_start_does_not_end_in_another_boot() -> None:
    records = told((10, STARTING)) + told((20, STARTED), boot="c")
    assert boots.starts_of(records, {"b": BEGAN}, None) == []


def test_package_logs_are_read_around_a_stop_only(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    stopped = datetime(2026, 3, 4, 5, 0, 0).astimezone(UTC)
    log = tmp_path / "packages.log"
    log.write_text(
        "2026-03-04 04:30:00 upgrade early\n2026-03-04 04:59:58 upgrade a:all 1 2\nno stamp\n2026-03-04 06:00:00 upgrade late\n"
    )
    logs = [package_logs.LOGS[0]._replace(path=str(path)) for path in (log, tmp_path / "none.log")]
    monkeypatch.setattr(upkeep, "LOGS", logs)
    service = Service(
        name="a.service", state="stopped", startup="automatic", last=LastRun(result="success", ended_at=stopped)
    )
    host = Host(name="quay", services=[service])
    upkeep.add_records(host, Walker())
    assert [event.text for event in host.events] == ["2026-03-04 04:59:58 upgrade a:all 1 2"]
    running = Host(
        name="quay", services=[Service(name="a.service", state="running", startup="automatic", last=service.last)]
    )
    upkeep.add_records(running, Walker())
    assert running.events == []


WANTS = {
    "by its arguments": Program(arguments=["/usr/bin/x", "license", "hold", "localhost:7300", "--want", "suite/tides@7:2"]),
    "by its environment": Program(arguments=["/usr/bin/x"], environment=["LICENSE_SERVER=127.0.0.1:7300", "LICENSE_WANT=suite/tides@7:2"]),
    "by the name of this host": Program(arguments=["x", "license", "hold", "quay:7300", "--want=suite/tides@7:2"]),
}  # fmt: skip


@pytest.mark.parametrize("how", WANTS)
def test_what_seats_a_service_wants(how: str) -> None:
    service = Service(name="plan.service", program=WANTS[how])
    host = Host(name="quay", services=[service], license_servers=[LicenseServer(service="desk.service", port=7300)])
    with EvidenceReader(here()) as reader:
        licenses.fill(host, reader)
    want = service.seats[0]
    assert (want.product, want.feature, want.version, want.seats, want.server, want.host) == (
        "suite",
        "tides",
        "7",
        2,
        "desk.service",
        "",
    )


def test_seats_of_another_host_keep_its_name_and_nonsense_wants_nothing() -> None:
    far = Service(name="far.service", program=Program(arguments=["x", "license", "hold", "mole", "--want", "suite"]))
    odd = Service(name="odd.service", program=Program(arguments=["x", "license", "hold", "mole", "--want", ":::"]))
    with EvidenceReader(here()) as reader:
        licenses.fill(Host(name="quay", services=[far, odd]), reader)
    assert (far.seats[0].host, far.seats[0].port) == ("mole", 7171)
    assert odd.seats == []


def test_a_license_server_is_known_by_the_file_it_is_given(tmp_path: Path) -> None:
    named = tmp_path / "suite.toml"
    beside = tmp_path / "suite.toml.txt"
    beside.write_text('format = "hollow-chain/license"\n')
    service = Service(
        name="desk.service", program=Program(arguments=["x", "license", "serve", "--heartbeat", "2", str(named)])
    )
    host = Host(name="quay", services=[service])
    with EvidenceReader(here()) as reader:
        licenses.fill(host, reader)
    assert [s.file for s in host.license_servers] == [str(named)]
    assert not host.license_files[0].exists
    assert host.license_files[0].near_files == [str(beside)]
    named.write_text(
        'format = "hollow-chain/license"\nversion = 1\n[server]\nhost = "quay"\nhost_ids = ["a", 5]\nport = 99999\n[[daemon]]\nname = 1\n'
        "[[entitlement]]\nseats = 1e9\nuntil = 2026-05-01\n"
    )
    walker = Walker()
    again = licenses.read_file(str(named), partial(licenses.any_file, walker), walker)
    assert (again.exists, again.port, again.host_ids, again.error) == (True, None, ["a", "5"], "")
    assert again.entitlements[0].signature_holds is False
    assert again.entitlements[0].seats is None
    named.write_bytes(b"\xff\xfe" + "= nonsense".encode("utf-16-le"))
    assert "UTF-16" in licenses.read_file(str(named), partial(licenses.any_file, walker), walker).error


def test_a_pattern_is_what_it_would_be_at_once() -> None:
    lazy = pattern(r"(?P<a>\d+)x")
    found = lazy.search("12x 3x")
    assert found is not None
    assert found["a"] == "12"
    assert [m["a"] for m in lazy.finditer("12x 3x")] == ["12", "3"]
    assert lazy.sub("-", "12x") == "-"
    assert lazy.pattern == r"(?P<a>\d+)x"
    with pytest.raises(AttributeError):
        _ = lazy.no_such

"""Real hosts, played back: what the manager answered over D-Bus and what stood in the journal, recorded on a throwaway host with a
fault in it (``tests/live/recording.py``), is read and explained as it was there."""

from __future__ import annotations

import asyncio
import json
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
import pytest
from dbus_fast import Message, MessageType

from hollow_chain.causes import Facts
from hollow_chain.chain import Graph
from hollow_chain.facts import Host
from hollow_chain.facts.host import File, HostAccount, snapshot
from hollow_chain.reach.here import here
from hollow_chain.sources.systemd import boots, journal, records, units
from hollow_chain.sources.systemd import bus as systemd_bus
from hollow_chain.verdict import diagnose, diagnose_all
from tests.made_host import Answer, Value

RECORDINGS = sorted((Path(__file__).parent / "recorded").glob("*.json"))


class RecordedBus:
    """The message bus of a recorded host."""

    def __init__(self, said: dict[str, Any]) -> None:
        self.said, self.calls = said, 0
        self.at = {row[6]: said["units"][row[0]] for row in said["rows"]}
        self.at |= {
            f"{systemd_bus.MANAGER_PATH}/unit/{systemd_bus.escape(name)}": facts
            for name, facts in said["units"].items()
        }
        self.at[systemd_bus.MANAGER_PATH] = said["manager"]

    async def call(self, message: Message) -> Answer:
        self.calls += 1
        if message.member == "ListUnits":
            return Answer([self.said["rows"]])
        if message.member == "ListActivatableNames":
            return Answer([[]])
        facts = self.at.get(message.path)
        if message.member != "GetAll" or facts is None:
            return Answer([f"no such object {message.path}"], MessageType.ERROR)
        return Answer([{name: Value(value) for name, value in facts.items()}])


class Unasked:
    """Records of which is only said that they will be asked for."""

    def expect(self, fits: Any) -> None:
        pass


class RecordedJournal(journal.Journal):
    """The journal of a recorded host: fields in, events out, by the same code."""

    said: dict[str, Any]

    def __init__(self) -> None:
        self._records: Any = Unasked()

    def __exit__(self, *_: object) -> None:
        pass

    def last(self, unit: str, most: int = 40, boot: str = "") -> list[Any]:
        found = [one for one in self.said["events"] if one[0] == unit]
        events = {
            (at, json.dumps(fields)): journal.event_of(fields, name, datetime.fromisoformat(at))
            for name, at, fields in found
        }
        return sorted(events.values(), key=lambda event: event.at)[-most:]

    def beside(self, unit: str, names: list[str], boot: str, most: int = 20) -> list[Any]:
        return []  # the recordings hold what was said of each unit

    def of_kernel(self, boot: str, most: int) -> list[Any]:
        return []

    def about_files(self, unit: str, files: Any, boot: str, most: int = 5) -> list[Any]:
        return [event for event in self.last(unit, 1000) if event.file and event.file in files][-most:]

    def told(self, fields: dict[str, tuple[str, ...]], most: int, from_head: bool = False) -> list[Any]:
        asked = sorted((name, list(values)) for name, values in fields.items())
        known = next((found for about, found in self.said["told"] if about == asked), [])
        return [journal.ManagerRecord(datetime.fromisoformat(at), *more) for at, *more in known][:most]


def bus_facts(bus: RecordedBus, said: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> systemd_bus.BusFacts:
    files = {unit: facts.get("FragmentPath", f"/etc/systemd/system/{unit}") for unit, facts in said["units"].items()}
    monkeypatch.setattr(systemd_bus, "installed", lambda folders, local: files)
    monkeypatch.setattr(systemd_bus, "is_hand_made", lambda name, path, local: True)
    return asyncio.run(systemd_bus._converse(bus, (), here().files))


@pytest.fixture(params=RECORDINGS, ids=[path.stem for path in RECORDINGS])
def said(request: pytest.FixtureRequest) -> dict[str, Any]:
    """What was said on one host."""
    found: dict[str, Any] = json.loads(request.param.read_text())
    return found


@pytest.fixture()
def host(said: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> Host:
    """The host as it is read from what was said."""
    RecordedJournal.said = said
    built = Host(name=said["name"], manager="systemd", architecture="x86_64")
    built.read_at = datetime.fromisoformat(said["read_at"])
    units.fill(built, bus_facts(RecordedBus(said), said, monkeypatch), here().files)
    names = [service.name for service in built.services if records.worth_reading_logs(service)]
    records.fill(built, RecordedJournal(), names, "")
    built.files = msgspec.convert(said["files"], list[File])
    built.accounts = msgspec.convert(said["accounts"], list[HostAccount])
    return built


def test_the_right_cause_stands_first_in_the_right_place(said: dict[str, Any], host: Host) -> None:
    facts = Facts(Graph(snapshot([host])))
    verdict = diagnose(facts, facts.graph.node(host.name, f"{said['target'].removesuffix('.service')}.service"))
    first = verdict.causes[0]
    assert [first.finding.cause, first.finding.service] == said["wanted"], verdict.summary
    assert first.finding.evidence and first.confidence >= 0.5


def test_a_look_at_all_of_it_says_the_same(said: dict[str, Any], host: Host) -> None:
    single = Facts(Graph(snapshot([host])))
    for verdict in diagnose_all(Facts(Graph(snapshot([host])))):
        alone = diagnose(single, single.graph.node(*verdict.target.key))
        assert [c.finding.cause for c in verdict.causes] == [c.finding.cause for c in alone.causes]


def test_each_unit_is_asked_for_once(said: dict[str, Any], monkeypatch: pytest.MonkeyPatch) -> None:
    bus = RecordedBus(said)
    facts = bus_facts(bus, said, monkeypatch)
    assert set(facts.units) == set(said["units"]) and not facts.refused
    assert (
        bus.calls == len(said["units"]) + 4
    )  # the manager's own properties, the names of the bus, the lists of units and of jobs


def test_a_unit_that_refuses_to_answer_is_told_and_costs_no_other(
    said: dict[str, Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    bus = RecordedBus(said)
    row = said["rows"][0]
    del bus.at[row[6]]
    facts = bus_facts(bus, said, monkeypatch)
    assert row[0] in facts.refused and len(facts.units) == len(said["units"]) - 1


def test_no_record_says_more_than_its_trusted_fields_bear_out(said: dict[str, Any]) -> None:
    for unit, at, fields in said["events"]:
        forged = {name: value for name, value in fields.items() if not name.startswith("_")} | {
            "_UID": "1000",
            "_PID": "4711",
        }
        event = journal.event_of(forged, unit, datetime.fromisoformat(at))
        assert event.trust == "told" and not event.code and not event.file and not event.by_manager


def test_starts_on_record_come_from_the_managers_own_messages(said: dict[str, Any], host: Host) -> None:
    RecordedJournal.said = said
    troubled = [service for service in host.services if records.needs_history(service)]
    boots.add(host, troubled, RecordedJournal(), "")
    for service in troubled:
        assert all(start.seconds >= 0 for start in service.starts)
        assert [start.at for start in service.starts] == sorted(start.at for start in service.starts)


def test_there_are_enough_recordings_and_none_names_a_place_of_whoever_made_it() -> None:
    assert len(RECORDINGS) >= 12
    for path in RECORDINGS:
        text = path.read_text()
        assert path.stat().st_size < 60_000 and "/root/" not in text and "/work/" not in text and "/home/" not in text

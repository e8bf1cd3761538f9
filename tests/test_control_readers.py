"""Readers of the control-manager family, on recorded answers of its interfaces; and on answers that nobody would expect."""

from __future__ import annotations

import copy
from datetime import timedelta
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.causes import Facts
from hollow_chain.causes.standing import hangs
from hollow_chain.chain import Graph
from hollow_chain.facts.codec import decode, encode
from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Service
from hollow_chain.reach.control import Declined, Key
from hollow_chain.sources.control import command_line
from hollow_chain.sources.control.definitions import failure_actions
from hollow_chain.sources.control.firewall import rules_of
from hollow_chain.sources.control.looks import program_format
from hollow_chain.trouble import Trouble
from hollow_chain.verdict import diagnose
from tests.made_control import NOW, PE, MadeControlHost, facts, recorded

SERVICES = r"SYSTEM\CurrentControlSet\Services"


@pytest.fixture(scope="module")
def host() -> Host:
    """The recorded host, read."""
    return facts(MadeControlHost(recorded())).hosts[0]


def named(host: Host, name: str) -> Service:
    """One service."""
    return next(one for one in host.services if one.name == name)


def first(host: Host, name: str) -> tuple[str, str, str]:
    """The first cause of a service, where it sits, and all that is said of it."""
    graph = Graph(decode(encode(facts(MadeControlHost(recorded())))))
    verdict = diagnose(Facts(graph), graph.node(host.name, name))
    finding = verdict.causes[0].finding
    return finding.cause, finding.service, " ".join([finding.says, *(piece.fact for piece in finding.evidence)])


def test_a_service_with_all_that_is_known_of_it(host: Host) -> None:
    feed = named(host, "TideFeed")
    assert (feed.display_name, feed.description) == ("Tide Feed", "Reads the tide gauges")
    assert (feed.state, feed.startup) == ("stopped", "automatic")
    assert [link.to for link in feed.links] == ["Harbor"]
    assert feed.account is not None and feed.account.user == ".\\mate"
    assert feed.failure_actions == ["restart after 60 s", "restart after 120 s", "run"]
    assert feed.failures_forgotten_after == 86400
    assert feed.required_rights == ["SeChangeNotifyPrivilege"]
    assert feed.last is not None and feed.last.error_number == 1069
    program = feed.program
    assert program is not None and program.path == r"C:\tide\feed.exe" and program.style == "own-process"
    assert "shrimp" not in str(program) and "s3cr3t-value-0001" not in str(program)
    assert [claim.port for claim in feed.claims] == [8080]


def test_kinds_groups_drivers_triggers_and_libraries(host: Host) -> None:
    names = {one.name for one in host.services}
    assert {"HullSound", "Listener"} <= names and "Unneeded" not in names
    assert named(host, "HullSound").kind == "driver" and named(host, "HullSound").order_group == "Hull"
    assert [link.to for link in named(host, "Kiosk").links] == ["HullSound"]
    assert named(host, "Reports").startup == "delayed"
    signals = named(host, "Signals")
    assert signals.program is not None and signals.program.library == r"C:\tide\signals.dll"
    assert signals.description == "Passes signals on"
    convoy = named(host, "Convoy")
    assert convoy.startup == "event" and [one.kind for one in convoy.triggers] == ["network"]
    assert [link.to for link in convoy.links] == ["HullSound"]
    assert named(host, "Ledger").account == msgspec.convert(
        {"user": "NetworkService"}, type(named(host, "Ledger").account)
    )
    stowaway, leaving = named(host, "Stowaway"), named(host, "Leaving")
    assert stowaway.definition is not None and stowaway.definition.load == "not-loaded"
    assert leaving.definition is not None and leaving.definition.being_removed


def test_the_host_itself(host: Host) -> None:
    limits = host.limits
    assert limits is not None and (limits.start_seconds, limits.start_typed, limits.delayed_seconds) == (
        45.0,
        "45000",
        60.0,
    )
    assert limits.reserved_ports == ["5000-5010"]
    assert r"C:\tide\old.dll" in host.reboot_due
    assert [(one.service, one.process) for one in host.listeners] == [("", 4), ("WebGate", 900)]
    assert host.listeners[1].shared_with == ["WebGate", "WebPages"]
    wall = host.firewalls[0]
    assert not wall.passes_by_default
    assert [(rule.passes, rule.first_port, rule.last_port, rule.program) for rule in wall.rules] == [
        (False, 9000, 9010, ""),
        (True, 8080, 8080, r"C:\tide\feed.exe"),
    ]


def test_records_are_given_to_their_services_and_date_the_end(host: Host) -> None:
    ended = named(host, "Kiosk").last
    assert ended is not None and ended.ended_at is not None and ended.ended_at.second == 5
    assert {e.service for e in host.events} == {"TideFeed", "Kiosk", "Ledger"}
    assert [e.number for e in host.events if e.service == "TideFeed"] == [1326, 1069]
    assert all(e.at.hour == 5 for e in host.events)  # those of the boot before say nothing of this one
    assert any("kiosk.exe" in e.text and e.service == "Kiosk" for e in host.events)


@pytest.mark.parametrize(
    ("name", "right", "says"),
    [
        ("TideFeed", ("account-barred", "TideFeed"), "locked"),
        ("Ledger", ("config-rejected", "Ledger"), "ledger.ini"),
        ("Kiosk", ("killed", "Kiosk"), "0xc0000005"),
        ("BoardWeb", ("port-held", "BoardWeb"), "WebGate"),
        ("Signals", ("program-missing", "Signals"), r"C:\tide\signals.dll"),
        ("Stowaway", ("stale-definition", "Stowaway"), "does not know it"),
        ("Leaving", ("being-removed", "Leaving"), "removal"),
    ],
)
def test_causes_by_what_no_throwaway_host_shows(host: Host, name: str, right: tuple[str, str], says: str) -> None:
    cause, place, said = first(host, name)
    assert (cause, place) == right, said
    assert says in said


def test_one_that_the_manager_starts_again_and_again_is_no_healthy_one() -> None:
    told = recorded()
    services = told["registry"]
    actions = services[rf"{SERVICES}\TideFeed"]["FailureActions"]
    services[rf"{SERVICES}\Harbor"] = {
        "DependOnService": [["HullSound"], 7],
        "Type": [16, 4],
        "Start": [2, 4],
        "ImagePath": [r"C:\harbor\harbor.exe", 2],
        "FailureActions": actions,
    }
    told["processes"][1200][1] = "2026-03-04T05:00:50Z"
    words = "The Harbor service terminated unexpectedly. The following corrective action will be taken: Restart the service."
    told["logs"]["System"] = [
        [f"2026-03-04T05:00:{second}Z", "Service Control Manager", 7031, "error", words, ["Harbor"]]
        for second in (10, 20, 30, 40)
    ]
    read = facts(MadeControlHost(told))
    last = named(read.hosts[0], "Harbor").last
    assert last is not None and (last.restarts, last.up_at) == (4, NOW - timedelta(seconds=10))
    graph = Graph(decode(encode(read)))
    verdict = diagnose(Facts(graph), graph.node(read.hosts[0].name, "Harbor"))
    assert [cause.finding.cause for cause in verdict.causes] == ["crash-loop"]


@pytest.mark.parametrize(
    "call",
    ["rights", "status", "config", "description", "key", "entries", "look_up", "sockets"],
)
@pytest.mark.parametrize("number", [5, 50, 1060])
def test_a_call_that_is_declined_leaves_a_gap_and_no_more(call: str, number: int) -> None:
    def declines(asked: str) -> None:
        if asked == call:
            raise Declined(number, "no")

    found = facts(MadeControlHost(recorded(), declines)).hosts[0]
    assert len(found.services) >= 11
    gaps = {
        "config": "as it is loaded",
        "key": "registry",
        "entries": "event log",
        "sockets": "sockets",
        "look_up": "account",
    }
    if call in gaps and number != 1060:
        assert any(gaps[call] in item.what or gaps[call] in item.why for item in found.unread), found.unread
    decode(encode(facts(MadeControlHost(recorded(), declines))))


def test_a_manager_that_cannot_be_asked_is_told() -> None:
    def declines(asked: str) -> None:
        if asked == "statuses":
            raise Declined(5, "access is denied")

    with pytest.raises(Trouble, match="access is denied"):
        facts(MadeControlHost(recorded(), declines))


ODD = st.one_of(
    st.integers(-(2**40), 2**64), st.text(max_size=40), st.binary(max_size=60), st.lists(st.text(max_size=20), max_size=5), st.none(),
    st.just("\ud800\x00\x1b[31m"), st.just("C:\\" + "a" * 30_000),
)  # fmt: skip
NAMES = ["Type", "Start", "ImagePath", "ObjectName", "DependOnService", "DependOnGroup", "Group", "DelayedAutostart", "FailureActions",
         "Description", "DisplayName", "RequiredPrivileges", "Environment", "DeleteFlag", "ServiceDll"]  # fmt: skip


@given(
    values=st.dictionaries(st.sampled_from(NAMES), st.tuples(ODD, st.integers(0, 12)), max_size=8),
    command=st.one_of(st.text(), ODD),
)
def test_any_values_of_the_registry_are_taken(values: dict[str, Any], command: Any) -> None:
    answers = copy.deepcopy(recorded())
    answers["registry"][rf"{SERVICES}\TideFeed"] = values
    answers["registry"][rf"{SERVICES}\New{chr(27)}[1m"] = values
    if isinstance(command, str):
        answers["configs"]["TideFeed"][2] = command
    found = facts(MadeControlHost(answers))
    again = decode(encode(found))
    graph = Graph(again)
    diagnose(Facts(graph), graph.node("quay", "TideFeed"))


def test_a_start_that_is_under_way_is_looked_at_twice() -> None:
    answers = recorded()
    answers["statuses"]["Harbor"] = [16, 2, 0, 0, 0, 1, 2000, 1200]
    answers["statuses"]["Convoy"] = [16, 2, 0, 0, 0, 1, 2000, 1301]
    found = facts(MadeControlHost(answers)).hosts[0]
    harbor, convoy = named(found, "Harbor"), named(found, "Convoy")
    assert harbor.progress is not None and harbor.progress.moves is False and harbor.progress.process_runs
    assert harbor.last is not None and harbor.last.started_at is not None
    assert hangs(harbor, found) == "still"  # by its own word it needed two seconds, and began a minute ago
    assert convoy.progress is not None and convoy.progress.process_runs is False and hangs(convoy, found) == "gone"


def test_groups_that_need_each_other_have_an_end() -> None:
    answers = recorded()
    answers["configs"]["HullSound"][4] = ["+Hull", "Listener"]
    answers["configs"]["Listener"][4] = ["+Hull", "HullSound"]
    found = facts(MadeControlHost(answers)).hosts[0]
    assert {"HullSound", "Listener"} <= {one.name for one in found.services}


@pytest.mark.parametrize(
    ("line", "words"),
    [
        (r" a b  c", ["a", "b", "c"]),
        (r' "a b" c', ["a b", "c"]),
        (r' a\"b "c d\\" e', ['a"b', "c d\\", "e"]),
        (r' "" x', ["", "x"]),
        (r" C:\a\ b", ["C:\\a\\", "b"]),
        (r' a"b c"d', ["ab cd"]),
        ("", []),
    ],
)
def test_words_of_a_command_line(line: str, words: list[str]) -> None:
    assert command_line.words(line) == words


def test_programs_that_a_command_line_may_mean() -> None:
    assert command_line.candidates(r'"C:\a b\c.exe" -x') == [(r"C:\a b\c.exe", " -x")]
    assert command_line.candidates(r"C:\a b\c -x")[:2] == [(r"C:\a.exe", r" b\c -x"), (r"C:\a b\c.exe", " -x")]
    assert command_line.candidates("") == []
    assert len(command_line.candidates("a " * 20_000)) <= 20
    assert command_line.expand(r"%A%\%b%\%none%", {"a": "x", "B": "y"}) == r"x\y\%none%"


def test_what_the_first_bytes_of_a_program_say() -> None:
    assert program_format(PE) == "pe x86_64"
    assert (
        program_format(b"") == "empty"
        and program_format(b"#!/bin/sh\n") == "unknown"
        and program_format(b"\x7fELF") == "elf"
    )
    assert program_format(b"MZ" + b"\xff" * 100) == "unknown"


def test_failure_actions_of_odd_lengths() -> None:
    for length in range(60):
        failure_actions(Key({"failureactions": (b"\xff" * length, 3)}, [], None))


def test_rules_for_some_partners_say_nothing_of_all() -> None:
    assert rules_of("v2|Action=Allow|Active=TRUE|Dir=In|Protocol=6|LPort=80|RA4=10.0.0.1|", {}) == []
    assert rules_of("v2|Action=Allow|Active=TRUE|Dir=Out|Protocol=6|LPort=80|", {}) == []
    assert [rule.last_port for rule in rules_of("v2|Action=Allow|Active=TRUE|Dir=In|", {})] == [65535]
    assert rules_of("|||=|LPort=99999999|Dir=In|Active=TRUE|", {}) == []

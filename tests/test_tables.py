"""The tables of numbers, row by row: what the manager's exit statuses and the numbers of failed starts lead to."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest

from hollow_chain.causes import Facts, meanings
from hollow_chain.causes.by_number import _ENDS
from hollow_chain.chain import Graph
from hollow_chain.facts.host import Event, File, Host, HostAccount, snapshot
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Account, Program, Service
from hollow_chain.families.steps import STEPS, step_of
from hollow_chain.verdict import Verdict, diagnose
from hollow_chain.wording.system_errors import control_errors

NOON = datetime(2026, 3, 4, 12, 0, tzinfo=UTC)
CONTROL = sorted(n for n in meanings._table()["control"] if (m := meanings.control(n)) and m.causes and not m.of_others)
ABOUT = {
    "folder": ["workdir-missing"],
    "program": ["program-missing"],
    "account": ["account-missing"],
    "session": ["account-barred"],
    "streams": ["path-missing"],
    "root": ["path-missing"],
    "places": ["path-missing"],
    "credentials": ["path-missing"],
    "own folder": ["exits-with-error"],  # the manager makes it itself; what was in its way stands in its record
    "setting": ["bad-definition"],
}


def asked(host: Host, name: str) -> Verdict:
    """The verdict on a service of a host."""
    facts = Facts(Graph(snapshot([host])))
    return diagnose(facts, facts.graph.node(host.name, name))


def failed(status: int) -> Host:
    """A host with a service that failed in a step of its manager, and of which everything that it names is gone."""
    program = Program(
        path="/opt/a/a", folder="/srv/a", root="/srv/root", outer_path="/srv/root/opt/a/a",
        paths=["/srv/chart"], log_files=["/srv/log/out"], credential_files=["/etc/a/pass"]
    )  # fmt: skip
    last = LastRun(result="exit-code", exit_status=status, started_at=NOON, ended_at=NOON)
    gone = {
        "folder": "/srv/a",
        "program": "/srv/root/opt/a/a",
        "root": "/srv/root",
        "places": "/srv/chart",
        "streams": "/srv/log",
        "credentials": "/etc/a/pass",
    }
    files = [
        File(path=path, exists=STEPS[status].about != about, kind="folder", mode="0755", owner="root")
        for about, path in gone.items()
    ]
    files[1].kind, files[1].executable, files[1].format = "file", True, "elf x86_64"
    missing = STEPS[status].about == "account"
    accounts = [
        HostAccount(name="mate", exists=not missing),
        HostAccount(name="crew", kind="group", exists=not missing),
    ]
    service = Service(
        name="a.service", state="failed", startup="automatic", program=program, last=last, account=Account(user="mate", group="crew")
    )  # fmt: skip
    return Host(
        name="quay",
        read_at=NOON,
        boot_at=NOON,
        architecture="x86_64",
        services=[service],
        files=files,
        accounts=accounts,
    )


@pytest.mark.parametrize("status", sorted(STEPS), ids=lambda status: f"{status}/{STEPS[status].name}")
def test_a_step_of_the_manager_leads_to_what_it_is_about(status: int) -> None:
    verdict = asked(failed(status), "a.service")
    assert [cause.finding.cause for cause in verdict.causes][:1] == ABOUT[STEPS[status].about]


def test_a_status_of_the_program_is_no_step() -> None:
    assert step_of(1) is None
    assert step_of(None) is None
    assert step_of(223) is None


@pytest.mark.parametrize("number", CONTROL)
def test_a_number_of_a_failed_start_leads_to_what_decode_says_of_it(number: int) -> None:
    service = Service(name="A", state="stopped", startup="automatic", last=LastRun(error_number=number))
    verdict = asked(Host(name="office", manager="control-manager", read_at=NOON, boot_at=NOON, services=[service]), "A")
    meant = meanings.control(number)
    assert meant is not None
    first = verdict.causes[0]
    assert first.finding.cause in (*meant.causes, *(_ENDS if meant.causes[0] in _ENDS else ()))
    assert first.confidence < 0.98, "a number is no look"


@pytest.mark.parametrize("number", sorted(meanings._table()["system"]), ids=hex)
def test_a_wide_status_of_a_process_leads_to_what_decode_says_of_it(number: int) -> None:
    signed = number - (1 << 32) if number >= 1 << 31 else number
    service = Service(
        name="A", state="stopped", startup="automatic", last=LastRun(error_number=1067, exit_status=signed)
    )
    verdict = asked(Host(name="office", manager="control-manager", read_at=NOON, boot_at=NOON, services=[service]), "A")
    meant = meanings.read(f"0x{number:08X}")[0]
    assert [one.what for one in meanings.read(str(signed))][:1] == [meant.what]
    first = verdict.causes[0]
    # What ended it is no stop that somebody asked for, by that number alone.
    assert first.finding.cause in (*meant.causes, *(_ENDS if meant.causes[0] in (*_ENDS, "stopped") else ()))
    assert str(signed) not in first.finding.says
    assert first.confidence < 0.9, "a number is no look"


@pytest.mark.parametrize("number", sorted(set(control_errors()) & set(CONTROL)))
def test_the_sentence_of_a_number_is_read_like_the_number(number: int) -> None:
    text = f"The service failed to start: {control_errors()[number].text}"
    event = Event(at=NOON, text=text, service="A", by_manager=True)
    twins = {n for n, one in control_errors().items() if one.text == control_errors()[number].text}
    assert set(meanings.numbers_of(event)) & twins
    assert any(reading.what in map(str, twins) for reading in meanings.read(text))


def test_a_number_that_a_record_inserts_is_a_number() -> None:
    assert meanings.numbers_in("The Plan service terminated with the following error: %%1297") == [1297]
    assert meanings.numbers_in("%%99999999 and %%0") == []

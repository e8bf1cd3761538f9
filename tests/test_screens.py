"""What a technician sees: trouble first, the base system folded, tables that fit, marks that are explained, output that fails."""

from __future__ import annotations

import json
import subprocess
from datetime import datetime, timedelta, timezone
from pathlib import Path
from types import SimpleNamespace
from typing import Any, cast

import pytest

from hollow_chain.boot.rehearsal import ChainLink, Rehearsal
from hollow_chain.show.page import Page, zone_of
from hollow_chain.show.rehearsal import scale_of, show_chain
from hollow_chain.wording.counts import counted, size
from tests.conftest import PROGRAM, Run

READ = "2026-03-04T06:00:00Z"
Facts = dict[str, Any]


def service(name: str, state: str = "running", startup: str = "automatic", **more: Any) -> Facts:
    return {"name": name, "state": state, "startup": startup, "kind": name.rpartition(".")[2], **more}


def needs(*names: str, kind: str = "hard") -> list[Facts]:
    return [{"to": name, "kind": kind, "word": "Requires" if kind == "hard" else "Wants"} for name in names]


@pytest.fixture
def write(tmp_path: Path) -> Any:
    def written(*services: Facts, **more: Any) -> Path:
        host = {"name": "quay", "read_at": READ, "boot_at": "2026-03-04T05:00:00Z", "services": list(services), **more}
        path = tmp_path / "facts.json"
        path.write_text(json.dumps({"format": "hollow-chain/snapshot", "version": 1, "hosts": [host]}))
        return path

    return written


BASE = [
    service("sysinit.target", startup="on-need", links=needs("local-fs.target")),
    service("local-fs.target", startup="on-need", links=needs("-.mount")),
    service("-.mount", startup="on-need"),
    service("system.slice", startup="on-need"),
    service("multi-user.target", startup="on-need", links=needs("tide.service", kind="soft")),
]
TIMER = [{"kind": "timer", "name": "count.timer"}]


def test_the_roster_begins_with_what_is_not_well_and_counts_what_lies_ready(run: Run, write: Any) -> None:
    facts = write(
        service("ready.service", "stopped", "manual"),
        service("tide.service", account={"user": "tide"}, last={"up_at": "2026-03-04T05:30:00Z"}),
        service("count.service", "stopped", "event", triggers=TIMER),
        service("horn.service", "failed", description="Sounds the horn"),
        listeners=[{"port": 8080, "process": 42, "service": "tide.service"}],
    )
    lines = run("roster", "--from", facts, COLUMNS="140").out.splitlines()
    assert "horn.service" in lines[1] and "NOT WELL" in lines[1] and "tide.service" in lines[2]
    assert all(text in lines[2] for text in ("for 30 min", "port 8080", "tide", "process 42"))
    assert lines[-1] == "4 services: 1 not well, 1 well, 1 waits for its event, 1 idle (not shown: --all)"
    whole = run("roster", "--all", "--from", facts).out
    assert "ready.service" in whole and "waits for its timer" in whole and "not shown" not in whole
    assert len(run("roster", "--from", facts, "--json").json["services"]) == 4


@pytest.mark.parametrize("width", [40, 80, 100, 160])
def test_no_table_is_wider_than_the_screen(run: Run, demo_facts: Path, width: int) -> None:
    for call in (
        ["roster"],
        ["ports"],
        ["links", "kiosk"],
        ["rehearse", "--host", "office-01", "--runs", "20"],
        ["why", "kiosk"],
    ):
        done = run(*call, "--from", demo_facts, COLUMNS=str(width))
        most = max(width, 80 if call[0] in ("roster", "rehearse") else width)
        assert max(map(len, done.out.splitlines())) <= most, call


def test_what_was_matched_is_never_cut_off(run: Run, demo_facts: Path) -> None:
    done = run("roster", "boarding", "kiosk", "--from", demo_facts, COLUMNS="80")
    assert "First screen of the boarding kiosk" in done.out and "[description]" in done.out


def test_links_fold_the_base_system_unless_the_trouble_is_there(run: Run, write: Any) -> None:
    tide = service("tide.service", links=needs("sysinit.target", "system.slice", "store.service"))
    facts = write(tide, service("store.service"), service("other.service"), *BASE)
    shown = run("links", "tide", "--from", facts).out
    assert "└─ ◆ store.service" in shown and "sysinit.target" not in shown
    assert "and 4 of the base system" in shown and shown.index("A stop of") < shown.index("needs\n")
    assert "local-fs.target" in run("links", "tide", "--from", facts, "--all").out
    assert len(run("links", "tide", "--from", facts, "--json").json["needs"]) == 5
    broken = [one if one["name"] != "-.mount" else {**one, "state": "failed"} for one in BASE]
    shown = run("links", "tide", "--from", write(tide, service("store.service"), *broken)).out
    assert "├─ " in shown and "-.mount" in shown and "local-fs.target" in shown and "and 1 of the base system" in shown


def test_who_only_starts_others_is_as_well_as_they_are(run: Run, write: Any) -> None:
    group = service("harbor.target", links=needs("horn.service", kind="soft"))
    facts = write(group, service("horn.service", "failed", last={"result": "exit-code", "exit_status": 3}), *BASE)
    listed = run("roster", "--from", facts)
    assert listed.status == 1 and "its members are down" in listed.out
    assert {one["service"] for one in run("roster", "--from", facts, "--json").json["services"] if not one["well"]} == {
        "harbor.target",
        "horn.service",
    }
    asked = run("why", "harbor.target", "--from", facts, "--json")
    assert asked.status == 1 and asked.json["causes"][0]["service"] == "horn.service"
    everything = run("why", "--all", "--from", facts, "--json").json["verdicts"]
    assert {one["target"]["service"] for one in everything} == {"harbor.target", "horn.service"}


def test_the_roster_goes_by_name_and_ends_with_what_the_manager_brings_along(run: Run, write: Any) -> None:
    names = ["systemd-journald.service", "zander.service", "modprobe@loop.service", "Ebb.service", "dab.service"]
    lines = run("roster", "--from", write(*map(service, names))).out.splitlines()
    assert [line.split()[1] for line in lines[1:6]] == [
        "dab.service", "Ebb.service", "zander.service", "modprobe@loop.service", "systemd-journald.service"
    ]  # fmt: skip


def test_the_slowest_chain_names_what_takes_time_and_counts_the_rest(capsys: pytest.CaptureFixture[str]) -> None:
    links = [
        ("-.slice", 0.0, None),
        ("tide.service", 1.2, 1.1),
        ("sysinit.target", 0.02, None),
        ("board.service", 0.2, None),
    ]
    chain = [ChainLink(*link) for link in links]
    show_chain(Page(), cast(Rehearsal, SimpleNamespace(slowest_chain=chain, chain_share=1.0)))
    told = " ".join(capsys.readouterr().out.split())
    assert "tide.service: takes 1.20 s; without it the boot is 1.10 s shorter" in told
    assert "tide.service > board.service (with 2 between them that take no time)" in told and "slice" not in told


def test_one_that_comes_an_hour_late_squeezes_nobody() -> None:
    assert scale_of([1.0, 2.0, 3.0, 4.0, 5.0, 3600.0]) == 5.0
    assert scale_of([1.0, 2.0, 3.0, 4.0]) == 4.0
    assert scale_of([1.0, 100.0]) == 100.0 and scale_of([]) == 0.0
    assert scale_of([1.0, 1.0, 50.0, 60.0, 70.0, 80.0]) == 80.0  # no few


def test_a_port_is_told_to_be_free_taken_or_none(run: Run, write: Any) -> None:
    facts = write(
        service("tide.service", claims=[{"port": 8080}]),
        listeners=[
            {"port": 8080, "address": "127.0.0.1", "process": 42, "program": "/opt/tide", "service": "tide.service"}
        ],
    )
    taken = run("ports", "8080", "--from", facts)
    assert "tide.service (process 42, /opt/tide) on 127.0.0.1" in taken.out and "on all" not in taken.out
    free = run("ports", "8081", "--from", facts)
    assert free.status == 0 and "Port 8081 is free" in free.out
    assert "No clash: 1 port looked at on quay" in run("ports", "--clashes", "--from", facts).out
    for wrong in ("0", "65536", "99999"):
        assert (run("ports", wrong, "--from", facts).status, run("ports", wrong, "--from", facts).out) == (2, "")


def test_letters_for_marks_are_explained_and_nothing_is_spelled_in_escapes(run: Run, demo_facts: Path) -> None:
    for call in (["why", "LogBook"], ["roster", "--host", "gate"], ["links", "kiosk"], ["ports"]):
        done = run(*call, "--from", demo_facts, PYTHONIOENCODING="ascii")
        assert "Marks: " in done.out and "\\u" not in done.out, call
        assert "Marks: " not in run(*call, "--from", demo_facts).out


def test_what_the_user_saw_and_what_was_found_may_contradict_each_other(run: Run, demo_facts: Path) -> None:
    fits = run("why", "kiosk", "--from", demo_facts, "--says", "error 1058", "--json").json
    assert fits["contradicted"] is None
    other = run("why", "kiosk", "--from", demo_facts, "--says", "bind: address already in use", "--json").json
    assert "speaks of port-held" in other["contradicted"] and "disabled" in other["contradicted"]
    assert (
        "speaks of port-held" in run("why", "kiosk", "--from", demo_facts, "--says", "bind: address already in use").out
    )


def test_the_screen_says_a_thing_once(run: Run, demo_facts: Path) -> None:
    shown = " ".join(run("why", "LogBook", "--from", demo_facts).out.split())
    assert shown.count("cannot write: no space is left on D:/") == 1 and "Takes effect" not in shown


MASKED = {"file": "/etc/systemd/system/berth.service", "load": "masked"}


def test_what_was_masked_is_told_with_who_and_when_and_without_chance_words(run: Run, write: Any) -> None:
    words = [
        ("reception", "berth.service: Got notification message from PID 5, but reception is disabled."),
        ("Being disabled", "WARNING overcommit must be enabled. Being disabled, it can cause failures"),
    ]
    ended = {"result": "success", "left_up_at": "2026-03-04T05:50:00Z", "ended_at": "2026-03-04T05:50:00Z"}
    path = write(
        service("berth.service", "stopped", "disabled", definition=MASKED, last=ended, wanted_by=["multi-user.target"]),
        events=[
            {"at": "2026-03-04T05:50:00Z", "service": "berth.service", "source": "journal", "text": text} for _, text in words
        ],
        changes=[
            {"at": "2026-03-04T05:49:59Z", "kind": "definition", "what": MASKED["file"], "did": "masked", "services": ["berth.service"]}
        ],
    )  # fmt: skip
    done = run("why", "berth", "--from", path)
    assert done.out.startswith("berth.service on quay is stopped: it is disabled: its unit is masked")
    assert "berth.service was masked, 1 s before it stopped" in " ".join(done.out.split())
    assert not [text for text, _ in words if text in done.out]


def test_a_record_of_the_startup_type_is_evidence(run: Run, demo_facts: Path) -> None:
    assert "was changed from automatic to disabled" in " ".join(
        run("why", "TimetableStore", "--from", demo_facts).out.split()
    )


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="no such device here")
@pytest.mark.parametrize("call", ["why kiosk", "roster", "roster --json", "--help"])
def test_output_that_cannot_be_written_is_one_line(call: str, demo_facts: Path) -> None:
    source = "" if call == "--help" else f"--from {demo_facts}"
    for where, says in (("> /dev/full", "cannot write to standard output"), (">&-", "standard output is closed")):
        done = subprocess.run(
            ["bash", "-c", f"{PROGRAM[0]} {call} {source} {where}"], capture_output=True, text=True, timeout=60
        )
        assert done.returncode == 3 and says in done.stderr and len(done.stderr.splitlines()) == 1


def test_calls_that_look_leave_nothing_behind(run: Run, demo_facts: Path, tmp_path: Path) -> None:
    home = tmp_path / "home"
    home.mkdir()
    for call in (
        ["why", "kiosk", "--from", demo_facts],
        ["roster", "--from", demo_facts],
        ["case", "list"],
        ["case", "show", "1"],
    ):
        run(*call, HOME=str(home), HOLLOW_CHAIN_CASES="", XDG_DATA_HOME="")
    assert list(home.rglob("*")) == []


def test_numbers_of_things_are_said_as_one_says_them() -> None:
    assert (counted(1, "port"), counted(2, "port"), counted(1000, "clash")) == ("1 port", "2 ports", "1,000 clashes")
    assert (size(1), size(900), size(4096), size(3 << 30)) == ("1 byte", "900 bytes", "4 KiB", "3 GiB")


def test_a_zone_is_said_in_letters_or_as_an_offset() -> None:
    moment = datetime(2026, 3, 4, 12, 0)
    for name, hours, said in (
        ("CET", 1, "CET"),
        ("W. Europe Standard Time", 1, "UTC+0100"),
        ("Coordinated Universal Time", 0, "UTC"),
    ):
        assert zone_of(moment.replace(tzinfo=timezone(timedelta(hours=hours), name))) == said

"""Programs become services, and come off again, through the program: on stand-in hosts, on snapshots, and as texts."""

from __future__ import annotations

import json
import signal
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from hollow_chain.facts.host import Host
from hollow_chain.facts.service import Program, Service
from hollow_chain.families.entries import command_line
from hollow_chain.registering import events, systemd_form
from hollow_chain.registering.control_form import entry_of
from hollow_chain.registering.editing import changed_text
from hollow_chain.registering.lines import DefinitionLine
from hollow_chain.registering.systemd_form import Chosen
from hollow_chain.registering.twins import groups_of, twins_of
from hollow_chain.registering.wish import Wish, read, schema
from hollow_chain.sources.control.command_line import words as words_of
from hollow_chain.trouble import Trouble
from tests.conftest import Run
from tests.power_cut import PASSED
from tests.test_mend_crash import Cut, cut
from tests.test_mend_lab import definitions, host, running, services

__all__ = ["cut", "host"]
PROGRAM = r"C:\tide\board.exe"
REGISTER = ["register", PROGRAM, "--name", "TideBoard", "--needs", "PlateStore", "--from", "host"]
CARRY = ["--apply", "--yes", "--json"]


def test_it_is_shown_carried_out_booted_anew_and_taken_back(run: Run, host: Path) -> None:
    before = definitions(host), running(host)
    plan = run(*REGISTER, "--json")
    assert plan.status == 1
    assert plan.json["does"] == "register" and plan.json["offered"] and not plan.json["applied"]
    assert plan.json["proof"]["kind"] == "assumed"
    assert (definitions(host), running(host)) == before
    done = run(*REGISTER, *CARRY)
    assert done.status == 0, done.err
    assert "TideBoard" in running(host)
    run("lab", "boot", "host")
    assert "TideBoard" in running(host)
    assert run("why", "TideBoard", "--from", "host").status == 0
    assert run("register", "--undo", "--yes", "--from", "host").status == 0
    assert definitions(host) == before[0]


def test_it_comes_off_and_is_put_back(run: Run, host: Path) -> None:
    run(*REGISTER, *CARRY)
    made_so = definitions(host)
    shown = run("unregister", "TideBoard", "--from", "host")
    assert shown.status == 1 and "Nothing needs it" in shown.out
    assert run("unregister", "TideBoard", "--from", "host", "--apply", "--yes").status == 0
    assert "TideBoard" not in running(host)
    assert run("unregister", "--undo", "--yes", "--from", "host").status == 0
    assert definitions(host) == made_so and "TideBoard" in running(host)


def test_what_others_need_comes_off_only_where_somebody_agrees(run: Run, host: Path) -> None:
    before = definitions(host), running(host)
    shown = run("unregister", "PlateStore", "--from", "host")
    assert "Needed by" in shown.out and "BoardWeb" in shown.out
    refused = run("unregister", "PlateStore", "--from", "host", "--apply", "--yes")
    assert refused.status == 2 and "--may-stop" in refused.err
    assert (definitions(host), running(host)) == before


def test_only_a_full_name_is_taken_off(run: Run, host: Path) -> None:
    done = run("unregister", "Plate", "--from", "host", "--apply", "--yes")
    assert done.status == 2 and "full name" in done.err


def test_it_is_changed_and_the_difference_is_shown(run: Run, host: Path) -> None:
    run(*REGISTER, *CARRY)
    made_so = definitions(host)
    call = [
        "register",
        "--edit",
        "TideBoard",
        "--describe",
        "How high it stands",
        "--start",
        "delayed",
        "--from",
        "host",
    ]
    shown = run(*call)
    assert "+description: How high it stands" in shown.out and "-startup: automatic" in shown.out
    assert run(*call, "--apply", "--yes").status == 0
    assert definitions(host) != made_so
    assert run(*call).status == 2  # it is so already
    assert run("register", "--undo", "--yes", "--from", "host").status == 0
    assert definitions(host) == made_so


def test_its_events_are_changed_and_taken_away(run: Run, host: Path) -> None:
    run(*REGISTER, *CARRY)
    made_so = definitions(host)
    edit = ["register", "--edit", "TideBoard", "--from", "host", "--apply", "--yes"]
    by_event = run(*edit, "--start", "on network up")
    assert (
        by_event.status == 0
        and "network" in by_event.out
        and "starts it" in by_event.out
        and "EventEntry" not in by_event.out
    )
    with_event = services(host)["TideBoard"]
    assert with_event["startup"] == "event" and [one["kind"] for one in with_event["triggers"]] == ["network"]
    assert run(*edit, "--describe", "Says how high it stands").status == 0
    assert services(host)["TideBoard"]["triggers"] == with_event["triggers"]
    assert run(*edit, "--start", "automatic").status == 0
    assert not services(host)["TideBoard"].get("triggers") and services(host)["TideBoard"]["startup"] == "automatic"
    for _ in range(3):
        assert run("register", "--undo", "--yes", "--from", "host").status == 0
    assert definitions(host) == made_so


def test_a_twin_is_not_made_unless_it_is_wanted(run: Run, host: Path) -> None:
    run(*REGISTER, *CARRY)
    again = ["register", PROGRAM, "--name", "TideBoard2", "--from", "host"]
    refused = run(*again)
    assert refused.status == 2 and "--edit TideBoard" in refused.err and "--another" in refused.err
    assert run(*again, "--another").status == 1
    run(*again, "--another", *CARRY)
    twins = run("roster", "--twins", "--from", "host", "--json")
    groups = twins.json["twins"]
    assert [sorted(one["service"] for one in group["services"]) for group in groups] == [["TideBoard", "TideBoard2"]]
    assert "TideBoard2" in run("roster", "--twins", "--from", "host").out


def test_at_every_moment_of_a_power_cut(run: Run, cut: Cut, tmp_path: Path, host: Path) -> None:
    import shutil

    before = definitions(host), running(host)
    folder = host.parent
    shutil.copytree(folder, tmp_path / "kept")
    for call in ([*REGISTER, *CARRY], ["unregister", "BoardWeb", "--from", "host", "--may-stop", "NightJob", *CARRY]):
        moment = 0
        while (status := cut(moment, *call)) != PASSED:
            assert status == -signal.SIGKILL, (moment, status)
            if any((folder / "mends").glob("*.jsonl")):
                undone = run("mend", "--undo", "--yes", "--from", "host")
                assert undone.status == 0 or "no mend" in undone.err or "nothing to undo" in undone.err, undone.err
            assert (definitions(host), running(host)) == before, (call, moment)
            shutil.rmtree(folder)
            shutil.copytree(tmp_path / "kept", folder)
            moment += 1
        assert moment >= 6
        shutil.rmtree(folder)
        shutil.copytree(tmp_path / "kept", folder)


WRONG = {
    "no program": ([], "none is named"),
    "no full path": (["board.exe"], "no full path"),
    "no such need": ([PROGRAM, "--needs", "Nowhere"], "no service 'Nowhere'"),
    "a name that is taken": ([PROGRAM, "--name", "PlateStore"], "taken"),
    "a folder": ([PROGRAM, "--folder", r"C:\tide"], "no working folder"),
    "a limit": ([PROGRAM, "--limit", "60s"], "no start limit of its own"),
    "no limit at all": ([PROGRAM, "--limit", "soon"], "no duration"),
    "an order": ([PROGRAM, "--after", "PlateStore"], "means to need it"),
    "always": ([PROGRAM, "--restart", "always after 5s"], "after failures only"),
    "no event": ([PROGRAM, "--start", "on full moon"], "is none of"),
    "an event that the family has not": ([PROGRAM, "--start", r"on path C:\in"], "no event for a path"),
    "no kind of devices": ([PROGRAM, "--start", "on device COM1"], "GUID"),
    "two types": ([PROGRAM, "--start", "manual", "--start", "automatic"], "exclude"),
    "no port": ([PROGRAM, "--port", "70000"], "70000"),
    "a control character": ([PROGRAM, "--describe", "a\x1b[31mb"], "cannot be printed"),
    "a template": ([PROGRAM, "--instance-of", "tide@"], "no templ"),
}


@pytest.mark.parametrize("what", WRONG)
def test_wrong_ones_get_one_line_before_anything_is_written(run: Run, host: Path, what: str) -> None:
    before = definitions(host)
    words, said = WRONG[what]
    done = run("register", *words, "--from", "host", *CARRY)
    assert done.status == 2, (done.status, done.out, done.err)
    assert said in done.err.replace("\n", " ")
    assert definitions(host) == before


def test_a_service_file_says_it_all_and_the_call_overrules_it(run: Run, host: Path, tmp_path: Path) -> None:
    (tmp_path / "tide.toml").write_text(
        f"program = '{PROGRAM}'\nname = 'TideBoard'\nneeds = 'PlateStore'\narguments = ['--height', 'two words']\nport = [7700]\n"
    )
    done = run("register", "--file", "tide.toml", "--describe", "Over it", "--from", "host", *CARRY)
    assert done.status == 0, done.err
    text = json.loads(done.json["definition"][0]["text"])
    assert (
        text["arguments"] == ["--height", "two words"] and text["description"] == "Over it" and text["ports"] == [7700]
    )
    for wrong, said in {
        "program = 3": "program",
        "colour = 'red'": "no key 'colour'",
        "port = [0]": "port",
        "= 1": "no TOML",
    }.items():
        (tmp_path / "tide.toml").write_text(wrong)
        refused = run("register", "--file", "tide.toml", "--from", "host")
        assert refused.status == 2 and said in refused.err and refused.err.count("\n") == 1, refused.err


def test_every_key_of_a_service_file_is_an_option_and_in_the_schema(run: Run) -> None:
    keys = set(Wish.__struct_fields__) - {"format", "version", "program", "arguments"}
    shown = run("register", "--help").out
    assert {key for key in keys if f"--{key.replace('_', '-')}" not in shown} == set()
    assert keys <= set(schema()["$defs"]["Wish"]["properties"])


# The definition as text.


def unit(**wished: Any) -> str:
    given = {"name": "tide", "program": "/opt/tide/board", **wished}
    return systemd_form.pieces_of(Wish(**given), Chosen(given.get("account", "tide")))[0].text


@pytest.mark.parametrize(
    ("word", "written"),
    [
        ("plain", "plain"),
        ("two words", '"two words"'),
        ("50%", "50%%"),
        ("$HOME", "$$HOME"),
        ('say "hi"', '"say \\"hi\\""'),
        ("back\\slash", '"back\\\\slash"'),
        ("", '""'),
        ("a;b", '"a;b"'),
        ("it's", '"it\'s"'),
    ],
)
def test_a_word_of_a_command_reaches_the_program_as_it_is(word: str, written: str) -> None:
    assert f"ExecStart=/opt/tide/board {written}\n" in unit(arguments=[word])


@pytest.mark.parametrize("word", ["plain", "two words", 'a"b', "ends\\", 'a\\"b', "tab\tx", "", "C:\\x y\\"])
def test_a_command_line_of_the_other_family_is_split_as_it_was_meant(word: str) -> None:
    line = command_line([PROGRAM, word, "last"])
    assert words_of(line.removeprefix(f'"{PROGRAM}"')) == [word, "last"]


def test_what_was_not_asked_for_has_a_reason_and_what_was_has_none() -> None:
    wish = Wish(
        name="tide", program="/opt/tide/board", limit="30s", restart="after 2s, at most 3 in 1min", start=["automatic"]
    )
    lines = {line.name: line for line in systemd_form.pieces_of(wish, Chosen("tide", "the folder is its"))[0].lines}
    assert {name for name, line in lines.items() if not line.why} == {
        "ExecStart", "TimeoutStartSec", "Restart", "RestartSec", "StartLimitBurst", "StartLimitIntervalSec", "WantedBy",
    }  # fmt: skip
    assert (lines["StartLimitBurst"].value, lines["StartLimitIntervalSec"].value) == ("3", "60")


@pytest.mark.parametrize(
    ("start", "kind", "says"),
    [
        ("on path /srv/in", "path", "PathExists=/srv/in"),
        ("on socket 127.0.0.1:8080", "socket", "ListenStream=127.0.0.1:8080"),
        ("on socket [::1]:53/udp", "socket", "ListenDatagram=[::1]:53"),
        ("on socket /run/tide.sock", "socket", "ListenStream=/run/tide.sock"),
        ("on time 2min after boot", "timer", "OnBootSec=120"),
        ("on time daily 4:00", "timer", "OnCalendar=*-*-* 04:00:00"),
        ("on time monday 06:30", "timer", "OnCalendar=Mon *-*-* 06:30:00"),
        ("on time every 15min", "timer", "OnUnitActiveSec=900"),
    ],
)
def test_an_event_has_a_unit_of_its_own(start: str, kind: str, says: str) -> None:
    pieces = systemd_form.pieces_of(Wish(name="tide", program="/opt/tide/board", start=[start]), Chosen("tide"))
    assert [piece.unit for piece in pieces] == ["tide.service", f"tide.{kind}"]
    assert says in pieces[1].text and "WantedBy" not in pieces[0].text


def test_a_device_starts_it_and_its_end_stops_it() -> None:
    text = unit(start=["on device /dev/tty-S0"], stop_on=["device /dev/tty-S0 gone", "time 8h"])
    assert (
        "WantedBy=dev-tty\\x2dS0.device" in text
        and "BindsTo=dev-tty\\x2dS0.device" in text
        and "RuntimeMaxSec=28800" in text
    )


@pytest.mark.parametrize(
    "texts",
    [
        ["on"], ["on time"], ["on time later"], ["on socket 99999"], ["on path in"], ["on device"], ["on time 0s after boot"],
        ["delayed", "on network"],
    ],
)  # fmt: skip
def test_a_start_that_cannot_be_read_is_refused(texts: list[str]) -> None:
    with pytest.raises(Trouble):
        events.starts_of(texts)


def test_a_forked_one_is_known_by_its_file_or_by_all_of_it() -> None:
    assert "PIDFile=/run/tide.pid\n" in unit(up_when="forked", pid_file="/run/tide.pid")
    unseen = unit(up_when="forked")
    assert "GuessMainPID=no\n" in unseen and "Restart=always\n" in unseen


def test_an_entry_of_the_manager() -> None:
    wish = Wish(
        name="Tide",
        program=PROGRAM,
        start=["on network up"],
        stop_on=["network down"],
        restart="after 10s, at most 2 in 5min",
    )
    entry, _ = entry_of(wish, Chosen("LocalService"))
    assert entry.startup == "manual" and [one.action for one in entry.events] == [1, 2]
    assert entry.actions == ["restart after 10 s", "restart after 10 s", "none"] and entry.forgotten_after == 300


OLD = "[Unit]\nDescription=Old\n\n[Service]\nExecStart=/a \\\n  --long\nUser=one\n# a word\n\n[Install]\nWantedBy=multi-user.target\n"


@pytest.mark.parametrize(
    ("line", "has", "lacks"),
    [
        (DefinitionLine("Service", "User", "two"), "User=two\n# a word", "User=one"),
        (DefinitionLine("Service", "ExecStart", "/b"), "[Service]\nExecStart=/b\nUser=one", "--long"),
        (DefinitionLine("Unit", "After", "x.service"), "Description=Old\nAfter=x.service\n", "\n\n\n"),
        (DefinitionLine("Timer", "OnBootSec", "5"), "\n[Timer]\nOnBootSec=5", "[Timer]\n\n"),
    ],
)
def test_a_setting_takes_the_place_of_the_old_one(line: DefinitionLine, has: str, lacks: str) -> None:
    text = changed_text(OLD, [line], over=False)
    assert has in text and lacks not in text


def test_over_another_file_what_may_stand_once_is_emptied_first() -> None:
    assert "[Service]\nExecStart=\nExecStart=/b\n" in changed_text(
        "# x\n", [DefinitionLine("Service", "ExecStart", "/b")], over=True
    )


# Twins.


def runs(name: str, *words: str) -> Service:
    return Service(name=name, program=Program(path=words[0], arguments=list(words)))


def test_twins_run_the_same_or_the_same_program_under_a_numbered_name() -> None:
    there = [
        runs("gate.service", "/opt/gate", "--lane", "1"),
        runs("gate2.service", "/opt/gate", "--lane", "2"),
        runs("rail.service", "/usr/bin/python3", "/opt/rail.py"),
        runs("lock.service", "/usr/bin/python3", "/opt/lock.py"),
    ]
    quay = Host(name="quay", manager="systemd", services=there)
    assert [twin.name for twin in twins_of(quay, runs("rail-3.service", "/usr/bin/python3", "/opt/rail.py"))] == [
        "rail.service"
    ]
    assert [twin.name for twin in twins_of(quay, runs("gate-new.service", "/opt/gate"))] == [
        "gate.service",
        "gate2.service",
    ]
    assert list(twins_of(quay, runs("ramp.service", "/usr/bin/python3", "/opt/ramp.py"))) == []
    assert [[one.name for one in group] for group in groups_of(quay)] == [["gate.service", "gate2.service"]]


def test_a_service_file_is_read_whole_or_refused(tmp_path: Path) -> None:
    path = tmp_path / "x.toml"
    path.write_text("program = '/opt/x'\nstart = 'manual'\nup_when = 'reported'\n")
    wish = read(path)
    assert (wish.start, wish.up_when) == (["manual"], "reported")
    broken: list[Callable[[], object]] = [
        lambda: path.write_bytes(b"\xff"),
        lambda: path.write_text("up_when = 'soon'"),
    ]
    for write in broken:
        write()
        with pytest.raises(Trouble):
            read(path)

"""From systemd's words to ours: properties, unit files, records; pure translations, no systemd needed."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.facts.host import Event
from hollow_chain.facts.runs import LastRun
from hollow_chain.reach.handles import Walker
from hollow_chain.reach.here import here
from hollow_chain.sources.systemd import unit_facts, unit_file
from hollow_chain.sources.systemd.bus import escape, installed
from hollow_chain.sources.systemd.groups import unit_in_cgroup
from hollow_chain.sources.systemd.journal import failed_before, judge_by_try_before, recalled, well_before
from hollow_chain.sources.systemd.properties import service_of, startup_of, unescape
from hollow_chain.sources.systemd.values import moment, seconds

FOREVER = (1 << 64) - 1
NOON = datetime(2026, 3, 4, 12, 0, 0, tzinfo=UTC)
NOON_MICROSECONDS = int(NOON.timestamp() * 1e6)


def properties(**changes: Any) -> dict[str, Any]:
    """What systemd says of a plain running service."""
    return {
        "Id": "berth.service",
        "Names": ["berth.service"],
        "Description": "Berth desk",
        "ActiveState": "active",
        "SubState": "running",
        "LoadState": "loaded",
        "LoadError": ("", ""),
        "UnitFileState": "enabled",
        "WantedBy": ["multi-user.target"],
        "FragmentPath": "/etc/systemd/system/berth.service",
        "Type": "simple",
        "Result": "success",
        **changes,
    }


STARTUP = {
    "enabled": ({"UnitFileState": "enabled", "WantedBy": ["multi-user.target"]}, "automatic"),
    "enabled for this boot only": (
        {"UnitFileState": "enabled-runtime", "WantedBy": ["multi-user.target"]},
        "automatic",
    ),
    "what systemd calls disabled": ({"UnitFileState": "disabled"}, "manual"),
    "masked": ({"UnitFileState": "masked", "LoadState": "masked"}, "disabled"),
    "masked for this boot only": ({"UnitFileState": "masked-runtime"}, "disabled"),
    "masked, though a socket would start it": ({"UnitFileState": "masked", "TriggeredBy": ["a.socket"]}, "disabled"),
    "static": ({"UnitFileState": "static"}, "on-need"),
    "started by a socket": ({"UnitFileState": "static", "TriggeredBy": ["a.socket"]}, "event"),
    "disabled, and started by a timer": ({"UnitFileState": "disabled", "TriggeredBy": ["a.timer"]}, "event"),
    "enabled by its socket only": ({"UnitFileState": "enabled", "TriggeredBy": ["a.socket"]}, "event"),
    "started by a bus name": ({"UnitFileState": "static", "BusName": "org.example.Berth"}, "event"),
    "made from another table, wanted at boot": (
        {"UnitFileState": "generated", "WantedBy": ["local-fs.target"]},
        "automatic",
    ),
    "linked": ({"UnitFileState": "linked"}, "manual"),
    "a device": ({}, "on-need"),
}


@pytest.mark.parametrize("name", STARTUP)
def test_startup_words_are_translated_with_care(name: str) -> None:
    facts, wanted = STARTUP[name]
    assert startup_of(facts, frozenset({"org.example.Berth"})) == wanted


def test_states_keep_the_managers_own_words_beside_ours() -> None:
    for active, sub, ours in (
        ("active", "running", "running"),
        ("active", "exited", "running"),
        ("reloading", "reload", "running"),
        ("activating", "start-pre", "starting"),
        ("activating", "auto-restart", "starting"),
        ("deactivating", "stop-sigterm", "stopping"),
        ("inactive", "dead", "stopped"),
        ("failed", "failed", "failed"),
        ("quantum", "both", "unknown"),
    ):
        service = service_of(properties(ActiveState=active, SubState=sub), frozenset())
        assert service.state == ours
        assert service.detail == f"{active} ({sub})"


@pytest.mark.parametrize(
    ("frozen", "ours"),
    [
        ("running", "running"),
        ("thawing", "running"),
        ("frozen", "paused"),
        ("freezing", "paused"),
        ("frozen-by-parent", "paused"),
    ],
)
def test_what_the_manager_has_frozen_is_paused(frozen: str, ours: str) -> None:
    service = service_of(properties(FreezerState=frozen), frozenset())
    assert service.state == ours
    assert service.detail == ("active (running)" if ours == "running" else f"active (running, {frozen})")


def test_a_oneshot_that_has_ended_well_is_done() -> None:
    ended = properties(ActiveState="inactive", SubState="dead", Type="oneshot", InactiveEnterTimestamp=NOON_MICROSECONDS,
                       ExecMainExitTimestamp=NOON_MICROSECONDS)  # fmt: skip
    assert service_of(ended, frozenset()).state == "done"
    assert service_of({**ended, "Result": "exit-code"}, frozenset()).state == "stopped"
    never = properties(ActiveState="inactive", SubState="dead", Type="oneshot")
    assert service_of(never, frozenset()).state == "stopped"


def test_links_carry_their_kind_and_what_they_do() -> None:
    service = service_of(
        properties(Requires=["a.service"], Requisite=["b.service"], Wants=["c.service"], PartOf=["d.service"],
                   After=["a.service", "berth.service"], Conflicts=["e.service"]),
        frozenset(),
    )  # fmt: skip
    found = {(link.to, link.kind, link.word, link.pulls, link.stops) for link in service.links}
    assert found == {
        ("a.service", "hard", "Requires", True, False),
        ("b.service", "hard", "Requisite", False, False),
        ("c.service", "soft", "Wants", True, False),
        ("d.service", "soft", "PartOf", False, True),
        ("a.service", "order", "After", False, False),
        ("e.service", "clash", "Conflicts", False, False),
    }


def test_the_step_that_failed_is_told_from_the_main_program() -> None:
    failed_before = ("/bin/check", ["/bin/check"], False, 1, 1, 2, 2, 7, 1, 3)
    ignored = ("/bin/other", ["/bin/other"], True, 1, 1, 2, 2, 7, 1, 9)
    service = service_of(
        properties(Result="exit-code", ExecStartPre=[ignored, failed_before], InactiveExitTimestamp=NOON_MICROSECONDS),
        frozenset(),
    )
    assert service.last is not None
    assert (service.last.step, service.last.exit_status) == ("ExecStartPre", 3)


FORGOTTEN = ("/bin/check", ["/bin/check", "--deep"], False, 0, 0, 0, 0, 0, 0, 0)
"""A step whose end the manager keeps no longer: it has read its definitions anew."""


@pytest.mark.parametrize(
    ("steps", "begun", "told"),
    [
        ({"ExecStartPre": [FORGOTTEN]}, 0, ("ExecStartPre", "/bin/check", ["/bin/check", "--deep"])),
        ({"ExecStartPre": [FORGOTTEN, FORGOTTEN]}, 0, ("ExecStartPre", "", None)),
        ({"ExecCondition": [FORGOTTEN], "ExecStartPre": [FORGOTTEN]}, 0, ("", "", None)),
        ({"ExecStartPre": [("/bin/check", ["/bin/check"], True, 0, 0, 0, 0, 0, 0, 0)]}, 0, ("", "", None)),
        ({"ExecStartPre": [FORGOTTEN]}, NOON_MICROSECONDS + 5, ("", "", None)),
        ({"ExecStartPre": [FORGOTTEN], "Type": "forking"}, 0, ("", "", None)),
    ],
    ids=[
        "the only one",
        "one of two",
        "one of two kinds",
        "one that may fail",
        "the program itself began after it",
        "of a program that forks",
    ],
)
def test_a_step_that_the_manager_has_forgotten_is_told_where_it_can_be_but_one(
    steps: dict[str, Any], begun: int, told: tuple[str, str, list[str] | None]
) -> None:
    started = {"InactiveExitTimestamp": NOON_MICROSECONDS, "ExecMainStartTimestamp": begun}
    last = service_of(properties(Result="exit-code", **steps, **started), frozenset()).last
    assert last is not None
    assert (last.step, last.step_program, last.step_arguments) == told
    before_any = service_of(properties(Result="resources", **steps, **started), frozenset()).last
    assert before_any is not None
    assert not before_any.step


def test_an_end_by_a_signal_is_no_exit_status() -> None:
    killed = properties(Result="signal", ExecMainCode=2, ExecMainStatus=9, InactiveExitTimestamp=NOON_MICROSECONDS)
    last = service_of(killed, frozenset()).last
    assert last is not None
    assert (last.signal, last.exit_status) == (9, None)


def test_command_lines_and_environments_are_masked_and_their_paths_kept() -> None:
    command = (
        "/usr/bin/x",
        ["/usr/bin/x", "--config=/etc/x.conf", "/srv/data", "--password", "kraken", "a b"],
        False,
        *[0] * 7,
    )
    program = service_of(properties(ExecStart=[command], Environment=["TOKEN=kraken", "A=b"]), frozenset()).program
    assert program is not None
    assert "kraken" not in repr(program)
    assert program.paths == ["/etc/x.conf", "/srv/data"]


def test_limits_and_confinement() -> None:
    service = service_of(
        properties(TimeoutStartUSec=90_000_000, TimeoutStopUSec=FOREVER, MemoryMax=1 << 26, ProtectSystem="full", ProtectHome="yes",
                   ReadWritePaths=["-/var/lib/x"], CapabilityBoundingSet=0b101),
        frozenset(),
    )  # fmt: skip
    assert service.limits is not None
    assert (service.limits.start_seconds, service.limits.stop_seconds, service.limits.memory_bytes) == (90, -1, 1 << 26)
    assert service.confinement is not None
    assert service.confinement.read_only == ["/usr", "/boot", "/efi", "/etc"]
    assert service.confinement.writable == ["/var/lib/x"]
    assert "/home" in service.confinement.hidden
    assert service.confinement.capabilities == ["CAP_CHOWN", "CAP_DAC_READ_SEARCH"]


def test_refused_and_masked_definitions() -> None:
    refused = service_of(
        properties(LoadState="bad-setting", LoadError=("x", "Unit berth has a bad setting.")), frozenset()
    )
    assert refused.definition is not None
    assert (refused.definition.load, refused.definition.error) == ("refused", "Unit berth has a bad setting.")
    assert service_of(properties(LoadState="masked"), frozenset()).startup == "disabled"


def test_instances_know_their_template_and_argument() -> None:
    service = service_of(properties(Id="berth@north\\x2deast.service", Names=[]), frozenset())
    assert service.template_of == "berth@.service"
    assert service.instance == "north-east"


def test_moments_and_durations() -> None:
    assert moment(0) is None
    assert moment(FOREVER) is None
    assert moment(NOON_MICROSECONDS) == NOON
    assert seconds(FOREVER) == -1
    assert seconds(1_500_000) == 1.5
    assert seconds("?") is None


@given(st.text(max_size=40))
def test_names_are_escaped_into_object_paths(name: str) -> None:
    made = escape(name)
    assert made
    assert all(c.isascii() and (c.isalnum() or c == "_") for c in made)


def test_escapes_are_the_documented_ones() -> None:
    assert escape("berth.service") == "berth_2eservice"
    assert escape("1a") == "_31a"
    assert escape("") == "_"
    assert unescape("a\\x2db\\xzz") == "a-b\\xzz"


UNIT = """
# a comment
[Unit]
Description=Berth \\
  desk
Requires=a.service b.service
After=a.service
ConditionPathExists=!/etc/berth.off
ConditionPathExists=|/etc/x
[Service]
ExecStart=-/usr/bin/berth --token kraken
ExecStart=/usr/bin/second
WorkingDirectory=-/srv/berth
User=mate
Environment=A=1
Environment=
Environment=B=2
; another comment
TimeoutStartSec=5min
[Install]
WantedBy=multi-user.target
"""


def test_unit_files_are_read_as_their_manual_says(tmp_path: Path) -> None:
    settings = unit_file.parse(UNIT, "/x")
    words = unit_file.effective(settings)
    assert words["Description"] == "Berth  desk"
    assert words["Environment"] == "B=2"
    assert words["TimeoutStartSec"] == "5min"
    assert words["ExecStart"] == "-/usr/bin/berth --token kraken ; /usr/bin/second"
    assert next(s.line for s in settings if s.name == "User") == 14
    assert unit_file.read([str(tmp_path / "at.all")], Walker()) == []


def test_a_unit_that_nothing_has_loaded_is_known_from_its_file(tmp_path: Path) -> None:
    path = tmp_path / "berth.service"
    path.write_text(UNIT)
    service = unit_facts.service_of_file("berth.service", str(path), [], here().files, Walker())
    assert (service.startup, service.state, service.description) == ("manual", "stopped", "Berth  desk")
    assert {(link.to, link.kind) for link in service.links} == {
        ("a.service", "hard"),
        ("b.service", "hard"),
        ("a.service", "order"),
    }
    assert [(c.parameter, c.negated, c.optional) for c in service.conditions] == [
        ("/etc/berth.off", True, False),
        ("/etc/x", False, True),
    ]
    assert service.program is not None
    assert (service.program.path, service.program.folder) == ("/usr/bin/berth", "/srv/berth")
    assert "kraken" not in repr(service)
    by_boot = unit_facts.service_of_file("berth.service", str(path), ["multi-user.target"], here().files, Walker())
    assert (by_boot.startup, by_boot.wanted_by) == ("automatic", ["multi-user.target"])
    along = unit_facts.service_of_file("berth.service", str(path), ["ferry.service"], here().files, Walker())
    assert (along.startup, along.wanted_by) == ("on-need", [])
    assert unit_facts.service_of_file("berth@.service", str(path), [], here().files, Walker()).template


def test_a_link_to_nothing_is_masked(tmp_path: Path) -> None:
    path = tmp_path / "berth.service"
    path.symlink_to("/dev/null")
    service = unit_facts.service_of_file("berth.service", str(path), [], here().files, Walker())
    assert (service.startup, service.definition and service.definition.load) == ("disabled", "masked")


def test_the_first_folder_of_the_search_path_wins(tmp_path: Path) -> None:
    for folder in ("etc", "lib"):
        (tmp_path / folder).mkdir()
        (tmp_path / folder / "a.service").write_text("")
    (tmp_path / "lib" / "b.timer").write_text("")
    (tmp_path / "lib" / "readme.txt").write_text("")
    for odd in (".mount", ".hidden.service", "@.service", "a b.service", f"{'a' * 300}.service"):
        if len(odd) < 256:  # as long as a name may be (NAME_MAX)
            (tmp_path / "etc" / odd).write_text("")
    found = installed([str(tmp_path / "etc"), str(tmp_path / "none"), str(tmp_path / "lib")], here().files)
    assert found == {"a.service": f"{tmp_path}/etc/a.service", "b.timer": f"{tmp_path}/lib/b.timer"}


def test_a_timer_is_set_to_its_moments_while_what_it_starts_runs_too() -> None:
    calendar = [("OnCalendar", "*-*-* 06:00:00", 0)]
    running = properties(
        Id="fares.timer", ActiveState="active", SubState="running", TimersCalendar=calendar, NextElapseUSecRealtime=0
    )
    assert [(one.kind, one.due_at) for one in service_of(running, frozenset()).triggers] == [("time", None)]
    stopped = {**running, "ActiveState": "inactive", "SubState": "dead"}
    assert not service_of(stopped, frozenset()).triggers


def test_what_a_timer_or_socket_starts(tmp_path: Path) -> None:
    path = tmp_path / "a.timer"
    path.write_text("[Timer]\nOnCalendar=daily\n")
    assert unit_facts.triggered_by_file("a.timer", str(path), Walker()) == "a.service"
    path.write_text("[Timer]\nUnit=b.service\n")
    assert unit_facts.triggered_by_file("a.timer", str(path), Walker()) == "b.service"


CGROUPS = {
    "0::/system.slice/berth.service\n": "berth.service",
    "0::/system.slice/system-berth.slice/berth@1.service/inner\n": "berth@1.service",
    "12:cpu:/x\n1:name=systemd:/system.slice/ssh.service\n": "ssh.service",
    "0::/user.slice/user-0.slice/session-1.scope\n": "session-1.scope",
    "0::/\n": "",
    "": "",
    "nonsense": "",
}


@pytest.mark.parametrize("text", CGROUPS)
def test_a_process_belongs_to_the_outermost_unit(text: str) -> None:
    assert unit_in_cgroup(text) == CGROUPS[text]


def record(code: str, text: str, second: int) -> Event:
    return Event(at=NOON.replace(second=second), text=text, code=code, service="a.service", by_manager=True)


def test_what_the_manager_has_forgotten_is_recalled_from_its_records() -> None:
    starting, started = "7d4958e842da4a758f6c1cdc7b36dcc5", "39f53479d3a045ac8e11786248231fbf"
    exited, failed = "98e322203f7a4ed290d09fe03c09fe15", "d9b373ed55a64feb8242e02dbe79a49c"
    last = recalled([
        record(starting, "Starting a", 1), record(started, "Started a", 2),
        record(exited, "a.service: Main process exited, code=exited, status=3/NOTIMPLEMENTED", 5),
        record(failed, "a.service: Failed with result 'exit-code'.", 5),
    ])  # fmt: skip
    assert last is not None
    assert (last.exit_status, last.result, last.started_at, last.ended_at) == (
        3,
        "exit-code",
        NOON.replace(second=1),
        NOON.replace(second=5),
    )
    killed = recalled(
        [record(started, "Started a", 1), record(exited, "Main process exited, code=killed, status=9/KILL", 2)]
    )
    assert killed is not None
    assert killed.signal == 9
    assert recalled([record("", "hello", 1)]) is None


def test_a_service_that_is_started_again_is_judged_by_the_try_before() -> None:
    starting, failed, stopping = (
        "7d4958e842da4a758f6c1cdc7b36dcc5",
        "d9b373ed55a64feb8242e02dbe79a49c",
        "de5b426a63be47a7b6ac3eaac82e2f6f",
    )
    told = [
        record(starting, "Starting a", 1),
        record(failed, "a.service: Failed with result 'timeout'.", 5),
        record(starting, "Starting a", 6),
    ]
    under_way = LastRun(result="success", restarts=1, started_at=NOON.replace(second=6))
    judge_by_try_before(under_way, told)
    assert (under_way.result, under_way.started_at) == ("timeout", NOON.replace(second=6))
    afresh = LastRun(result="success", restarts=1, started_at=NOON.replace(second=9))
    judge_by_try_before(afresh, [*told, record(stopping, "Stopping a", 8), record(starting, "Starting a", 9)])
    assert afresh.result == "success"


@pytest.mark.parametrize(
    ("ends", "stopped", "count"),
    [("killed, status=15/TERM", ["9d1aaa27d60140bd96365438aad20286"], 0), ("killed, status=15/TERM", [""], 0),
     ("killed, status=15/TERM", [], 1), ("killed, status=9/KILL", [""], 1), ("exited, status=1/FAILURE", [""], 1)],
)  # fmt: skip
def test_a_start_that_was_called_off_before_this_one_did_not_fail(ends: str, stopped: list[str], count: int) -> None:
    starting = "7d4958e842da4a758f6c1cdc7b36dcc5"
    exited, failed = "98e322203f7a4ed290d09fe03c09fe15", "d9b373ed55a64feb8242e02dbe79a49c"
    told = [
        record(starting, "Starting a", 1),
        record(exited, f"a.service: Main process exited, code={ends}", 5),
        record(failed, "a.service: Failed with result 'signal'.", 5),
        *[record(code, "Stopped a.", 5) for code in stopped],
        record(starting, "Starting a", 6),
    ]
    assert failed_before(told) == count


def test_for_how_long_the_run_before_was_well() -> None:
    started, success = "39f53479d3a045ac8e11786248231fbf", "7ad2d189f7e94e70a38c781354912448"
    failed, stopping = "d9b373ed55a64feb8242e02dbe79a49c", "de5b426a63be47a7b6ac3eaac82e2f6f"
    first, again = record(started, "Started a", 1), record(started, "Started a", 42)
    assert well_before([first, record(success, "Deactivated", 41), again]) == 40
    assert well_before([first, record("", "hello", 5), record(success, "Deactivated", 41), again]) == 40
    assert well_before([first, record(failed, "Failed", 41), again]) is None
    assert well_before([first, record(stopping, "Stopping", 40), record(success, "Deactivated", 41), again]) is None
    assert well_before([again]) is None


def test_a_start_that_left_nothing_is_recalled_whole() -> None:
    starting, started = "7d4958e842da4a758f6c1cdc7b36dcc5", "39f53479d3a045ac8e11786248231fbf"
    success = "7ad2d189f7e94e70a38c781354912448"
    last = recalled(
        [record(starting, "Starting a", 1), record(success, "Deactivated", 2), record(started, "Started a", 2)]
    )
    assert last is not None
    assert (last.result, last.started_at, last.ended_at) == ("success", NOON.replace(second=1), NOON.replace(second=2))
    again = recalled(
        [record(started, "Started a", 1), record(success, "Deactivated", 2), record(started, "Started a", 2)]
    )
    assert again is not None and (again.up_at, again.ended_at) == (NOON.replace(second=2), None)

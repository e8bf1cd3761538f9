"""The program as its users meet it: calls, exit statuses, what comes back, and hostile input."""

from __future__ import annotations

import json
import os
import subprocess
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from importlib.util import find_spec
from pathlib import Path

import pytest

from hollow_chain.demo import TROUBLES
from hollow_chain.facts.codec import decode
from tests.conftest import PROGRAM, Run

Facts = Callable[..., Path]
VERDICT_KEYS = {
    "format", "version", "read_at", "target", "state", "healthy", "summary", "causes", "notes", "unread", "next_look", "observed",
}  # fmt: skip
DEMO_ANSWERS = {
    "gate-camera": (None, "condition-unmet"),
    "gate-kiosk": ("disabled", "TimetableStore"),
    "TicketDesk": ("manual-not-started", "PriceList"),
    "LoyaltyCards": ("not-registered", "LoyaltyData"),
    "HarborPrint": ("maintenance-left-stopped", "HarborPrint"),
    "ReportMill": (None, "delayed-pending"),
    "BridgeScreens": ("start-timeout", "ChartRender"),
    "TideModel": ("program-missing", "TideModel"),
    "PositionFeed": ("paused", "PositionFeed"),
    "signboard@3": ("instance-config-missing", "signboard@3.service"),
    "passport-reader": ("device-missing", "dev-reader0.device"),
    "barrier-control": ("config-rejected", "barrier-control.service"),
    "lane-lights": (None, "not-persistent"),
    "dispatch-plan": ("dependency-cycle", "dispatch-plan.service"),
    "broker-day": ("stopped-by-conflict", "broker-day.service"),
    "archive": ("mount-failed", "srv-archive.mount"),
    "alert-mail": ("account-missing", "alert-mail.service"),
    "tide-gauge": ("killed", "tide-gauge.service"),
    "ship-sync": ("stale-definition", "ship-sync.service"),
    "CamWall": ("path-blocked", "PierCams"),
    "PassagePlots": ("boot-contention", "PassagePlots"),
    "FogHorn": ("disabled", "RelayBoard"),
    "QueueClerk": ("stopped", "QueueClerk"),
    "LampCheck": ("never-started", "LampCheck"),
    "CardReader": (None, "event-pending"),
    "GullScare": (None, "not-persistent"),
    "WakeSensor": ("bad-definition", "WakeSensor"),
    "TollPrint": ("stale-definition", "TollPrint"),
    "MapTiles": ("wrong-program-format", "MapTiles"),
    "RampDrive": ("workdir-missing", "RampDrive"),
    "FareTable": ("path-missing", "FareTable"),
    "DeckCalls": ("config-rejected", "DeckCalls"),
    "CrewRota": ("dependency-cycle", "CrewRota"),
    "LaneCount": ("start-race", "LaneCount"),
    "SealPlan": ("held-by-peer", "SealPlan"),
    "RadarLink": ("limit-unit-slip", "RadarLink"),
    "BoomWatch": ("crash-loop", "BoomWatch"),
    "BoardWeb": ("port-held", "BoardWeb"),
    "BuoyFeed": ("port-forbidden", "BuoyFeed"),
    "ShoreTalk": ("address-missing", "ShoreTalk"),
    "QuayLights": ("listener-off", "QuayLights"),
    "BaggageBelt": ("account-missing", "BaggageBelt"),
    "FuelDock": ("account-barred", "FuelDock"),
    "CargoList": ("access-denied", "CargoList"),
    "TideClock": ("exits-with-error", "TideClock"),
    "LogBook": ("disk-full", "LogBook"),
    "CoastLink": ("host-unreachable", "CoastLink"),
    "PassCheck": ("clock-wrong", "PassCheck"),
    "MailRelay": ("reboot-due", "MailRelay"),
    "StampPress": ("maintenance-left-stopped", "StampPress"),
    "RouteOptimizer": ("license-daemon-missing", "RouteDesk"),
    "TideTables": ("license-expired", "TideDesk"),
    "IceCharts": ("license-seats-taken", "IceDesk"),
    "HullMonitor": ("license-hostid-mismatch", "HullDesk"),
    "CrewSim": ("license-not-reloaded", "SimDesk"),
    "RadarTrainer": ("license-entitlement-missing", "TrainDesk"),
    "DockPlanner": ("license-altered", "DockDesk"),
    "WeatherRouting": ("license-server-down", "WeatherDesk"),
    "BridgeSim": ("license-file-misnamed", "BridgeDesk"),
}


@pytest.mark.parametrize("target", [target for target, _, _ in TROUBLES])
def test_every_trouble_of_the_demo_is_found(run: Run, demo_facts: Path, target: str) -> None:
    done = run("why", target, "--from", demo_facts, "--json")
    cause, place = DEMO_ANSWERS[target]
    verdict = done.json
    assert set(verdict) >= VERDICT_KEYS
    if cause is None:
        assert done.status == 0
        assert verdict["causes"] == []
        assert [note["cause"] for note in verdict["notes"]] == [place]
    else:
        assert done.status == 1
        assert (verdict["causes"][0]["cause"], verdict["causes"][0]["service"]) == (cause, place)


def test_every_other_service_of_the_demo_that_runs_is_clean(run: Run, demo_facts: Path) -> None:
    listed = run("roster", "--all", "--from", demo_facts, "--json").json["services"]
    assert 100 <= len(listed) <= 150
    told = {target.casefold() for target, _, _ in TROUBLES} | {"boarding-list", "licenseguard", "broker-night"}
    whole = run("why", "--all", "--from", demo_facts, "--json").json["verdicts"]
    blamed = {verdict["target"]["service"] for verdict in whole}
    for service in listed:
        if service["state"] == "running" and service["service"].split(".")[0].casefold() not in told:
            assert service["service"] not in blamed


def test_why_for_a_person_shows_chain_evidence_age_and_mend(run: Run, demo_facts: Path) -> None:
    done = run("why", "kiosk", "--from", demo_facts)
    lines = done.out.splitlines()
    assert "TimetableStore" in lines[0]
    chain = [line for line in lines if ("needs" in line and "\u25c7" in line) or "\u25c6" in line]
    assert [
        name in line
        for name, line in zip(("gate-kiosk", "boarding-list", "sailings-relay", "Timetable"), chain, strict=False)
    ]
    assert sum("<== hollow link: disabled" in line for line in lines) == 1
    assert "facts read 2026-03-04 06:12:02 UTC" in done.out
    assert "service manager, 2026-03-04 06:12:09 UTC" in done.out
    assert "Takes effect" not in done.out  # said only where it is not at once
    assert "root cause" in done.out and done.out.count("so that every start is refused") == 1
    assert all(len(line) <= 100 for line in lines)
    assert "\x1b" not in done.out


def test_without_a_rich_encoding_the_signs_are_plain(run: Run, demo_facts: Path) -> None:
    done = run("why", "kiosk", "--from", demo_facts, PYTHONIOENCODING="ascii")
    assert done.status == 1
    assert done.out.isascii()
    assert "<== hollow link" in done.out


def test_a_target_that_fits_several_services_lists_them_and_stops(run: Run, demo_facts: Path) -> None:
    done = run("why", "signboard", "--from", demo_facts)
    assert done.status == 2
    assert done.out == ""
    assert "signboard@1.service" in done.err
    assert "signboard@2.service" in done.err
    rows = done.err.splitlines()[1:]
    assert len(rows) == 3 and all("failed" in row or "running" in row for row in rows)
    assert "NOT WELL" in rows[0] and "Signboard 3" in rows[0]
    same_name = run("why", "ssh", "--from", demo_facts)
    assert same_name.status == 2
    assert "--host" in same_name.err
    assert run("why", "ssh", "--from", demo_facts, "--host", "gate-03").status == 0


@pytest.mark.skipif(os.name == "nt", reason="zones have other names in the environment there")
def test_moments_are_local_on_the_screen_and_utc_in_documents(run: Run, demo_facts: Path) -> None:
    shown = run("why", "kiosk", "--from", demo_facts, TZ="Asia/Kolkata")
    assert "facts read 2026-03-04 11:42:02 IST" in shown.out and "06:12:02Z" not in shown.out
    assert "2026-03-04T06:12:09Z" in run("why", "kiosk", "--from", demo_facts, "--json", TZ="Asia/Kolkata").out


@pytest.mark.parametrize("command", ["why", "links", "mend", "rehearse"])
@pytest.mark.parametrize("words", ["LoyaltyCrads", "shop front", "Loyalty Crads"])
def test_a_miss_is_no_verdict(run: Run, demo_facts: Path, command: str, words: str) -> None:
    done = run(command, words, "--from", demo_facts, "--host", "office-01")
    assert (done.status, done.out) == (2, "")
    assert f"no service {words!r} on office-01" in done.err
    assert words == "shop front" or "LoyaltyCards" in done.err


def test_a_name_that_somebody_needs_or_a_full_one_may_be_not_registered(run: Run, demo_facts: Path) -> None:
    for words, host, service in (
        ("LoyaltyData", "office-01", "LoyaltyData"),
        ("ghost.service", "gate-03", "ghost.service"),
    ):
        done = run("why", words, "--from", demo_facts, "--host", host, "--json")
        assert done.status == 1
        assert (done.json["causes"][0]["cause"], done.json["causes"][0]["service"]) == ("not-registered", service)
    for words in ("ghost", "shop front.service", "a/b.service", ".service"):
        assert run("why", words, "--from", demo_facts, "--host", "gate-03").status == 2


def test_a_host_is_found_like_a_target(run: Run, demo_facts: Path) -> None:
    assert run("why", "ssh", "--from", demo_facts, "--host", "GATE").status == 0
    missed = run("why", "ssh", "--from", demo_facts, "--host", "offce-01")
    assert missed.status == 2 and "the nearest: office-01" in missed.err
    several = run("why", "ssh", "--from", demo_facts, "--host", "0")
    assert several.status == 2 and "fits" in several.err


def test_several_words_rehearse_several_services(run: Run, demo_facts: Path) -> None:
    done = run(
        "rehearse", "TicketDesk", "PriceList", "--from", demo_facts, "--host", "office-01", "--runs", "50", "--json"
    )
    assert {one["service"] for one in done.json["services"]} == {"TicketDesk", "PriceList"}


CALLS = {
    "no command": ([], 2),
    "unknown command": (["wy"], 2),
    "unknown option": (["why", "x", "--form", "y"], 2),
    "missing argument": (["links"], 2),
    "no target": (["why"], 2),
    "empty target": (["why", "", "--from", "{demo}"], 2),
    "target and all": (["why", "x", "--all", "--from", "{demo}"], 2),
    "unknown host": (["why", "x", "--from", "{demo}", "--host", "mars"], 2),
    "missing file": (["why", "x", "--from", "{demo}/no-such-file.json"], 3),
    "empty folder": (["why", "x", "--from", "."], 3),
    "a device": (["why", "x", "--from", "/dev/null"], 3),
    "links of nothing": (["links", "zzzzqq", "--from", "{demo}", "--host", "gate-03"], 2),
    "picture of another kind": (["links", "kiosk", "--from", "{demo}", "--out", "x.bmp"], 2),
    "picture into nowhere": (["links", "kiosk", "--from", "{demo}", "--out", "{demo}/no-such-folder/x.png"], 3),
    "depth zero": (["links", "kiosk", "--from", "{demo}", "--depth", "0"], 2),
    "capture of several without a place": (["capture", "--from", "{demo}"], 2),
}


@pytest.mark.parametrize("name", CALLS)
def test_a_wrong_call_gets_one_line_and_the_right_status(run: Run, demo_facts: Path, name: str) -> None:
    words, status = CALLS[name]
    done = run(*[word.format(demo=demo_facts) for word in words])
    assert done.status == status
    if words:
        assert len(done.err.splitlines()) == 1, done.err
        assert done.err.startswith("hollow-chain: ")
        assert done.out == ""


@pytest.mark.skipif(os.name == "nt", reason="the other family is read from itself there")
def test_a_machine_without_systemd_is_told_in_one_line(run: Run) -> None:
    if Path("/run/systemd/system").is_dir():
        pytest.skip("this machine is run by systemd")
    for words in (["why", "nginx"], ["roster"], ["capture"], ["links", "nginx"]):
        done = run(*words)
        assert done.status == 3
        assert done.said == [
            "hollow-chain: this machine is not run by systemd (no /run/systemd/system); give facts with --from"
        ]


EVIL = "a\x1b[31mred\x07\u202egnp.\u200bexe[bold]x[/bold]\x9b2J"


def test_hostile_names_reach_no_terminal_raw(run: Run, tmp_path: Path) -> None:
    service = {
        "name": EVIL, "display_name": EVIL, "description": EVIL, "state": "failed", "startup": "automatic",
        "links": [{"to": EVIL + "2", "word": EVIL}], "program": {"path": EVIL}, "account": {"user": EVIL},
        "last": {"result": EVIL, "exit_status": 217}, "definition": {"file": EVIL, "needs_reload": True, "on_disk": {"User": EVIL}},
        "conditions": [{"kind": EVIL, "parameter": EVIL, "outcome": "unmet"}],
    }  # fmt: skip
    events = [
        {
            "at": "2026-03-04T06:12:09Z",
            "service": EVIL,
            "text": f"{EVIL} line 3 of /etc/x: syntax error",
            "source": EVIL,
        }
    ]
    host = {"name": EVIL, "services": [service], "events": events, "unread": [{"what": EVIL, "why": EVIL}]}
    document = {"format": "hollow-chain/snapshot", "version": 1, "hosts": [host]}
    (tmp_path / "evil.json").write_text(json.dumps(document))
    calls = [
        ["why", EVIL, "--from", "evil.json"], ["why", EVIL, "--from", "evil.json", "--json"], ["roster", "--from", "evil.json"],
        ["why", "--all", "--from", "evil.json"], ["links", EVIL, "--from", "evil.json"], ["roster", "--from", "evil.json", "--json"],
        ["links", EVIL, "--from", "evil.json", "--out", "x.png"], ["links", EVIL, "--from", "evil.json", "--out", "x.svg"],
        ["links", EVIL, "--from", "evil.json", "--out", "x.graphml"], ["links", EVIL, "--from", "evil.json", "--out", "x.dot"],
        ["why", "nobody" + EVIL, "--from", "evil.json"],
    ]  # fmt: skip
    for call in calls:
        done = run(*call)
        assert done.status in ((2,) if call[1].startswith("nobody") else (0, 1)), done.err
        for text in (done.out, done.err):
            assert not set(text) & set("\x1b\x07\x9b\u202e\u200b")
    assert "[bold]" in run("roster", "--from", "evil.json").out
    ElementTree.parse(tmp_path / "x.graphml")
    ElementTree.parse(tmp_path / "x.svg")
    assert "\x1b" not in (tmp_path / "x.dot").read_text()


def test_names_of_any_length_are_cut_for_the_eye_and_whole_in_json(run: Run, facts: Facts) -> None:
    path = facts(f"- name: h\n  services: [{{name: {'n' * 10_000}, state: running}}]\n")
    assert max(map(len, run("roster", "--from", path).out.splitlines())) <= 100
    assert run("roster", "--from", path, "--json").json["services"][0]["service"] == "n" * 10_000
    assert run("why", "n" * 10_000, "--from", path).status == 0


def test_duplicate_names_are_told_and_the_first_is_kept(run: Run, facts: Facts) -> None:
    path = facts("- name: h\n  services: [{name: a, state: running}, {name: a, state: failed}]\n")
    done = run("why", "a", "--from", path, "--json")
    assert done.status == 0
    assert any("twice" in text for text in done.json["unread"])


def test_a_folder_is_read_whole_and_a_broken_file_in_it_is_told(run: Run, tmp_path: Path) -> None:
    for name, at in (("old", "2026-03-01T00:00:00Z"), ("new", "2026-03-02T00:00:00Z")):
        state = "failed" if name == "old" else "running"
        host = {"name": "h", "read_at": at, "services": [{"name": "a", "state": state}]}
        (tmp_path / f"{name}.json").write_text(
            json.dumps({"format": "hollow-chain/snapshot", "version": 1, "hosts": [host]})
        )
    (tmp_path / "broken.yaml").write_text("format: [")
    done = run("why", "a", "--from", tmp_path, "--json")
    assert done.json["state"] == "running"
    assert any("broken.yaml" in text for text in done.json["unread"])
    assert "broken.yaml" in done.err


def test_roster_finds_and_marks(run: Run, demo_facts: Path) -> None:
    done = run("roster", "--from", demo_facts)
    assert done.status == 1
    assert "NOT WELL" in done.out
    assert "not yet up" in done.out
    assert run("roster", "ssh", "--from", demo_facts).status == 0
    by_port = run("roster", "15233", "--from", demo_facts, "--json").json["services"]
    assert [(s["service"], s["found_by"]) for s in by_port] == [("DataStore-Ferry", "port")]
    by_program = run("roster", "model7", "--from", demo_facts, "--json").json["services"]
    assert [(s["service"], s["found_by"]) for s in by_program] == [("TideModel", "program")]
    near = run("roster", "gate-kisok", "--from", demo_facts)
    assert "nearest names" in near.out
    assert "gate-kiosk.service" in near.out.splitlines()[2]


def test_links_show_both_directions_and_what_a_stop_takes(run: Run, demo_facts: Path) -> None:
    done = run("links", "pier-broker", "--from", demo_facts)
    assert "pier-broker.service is needed by" in done.out
    document = run("links", "DataStore-Ferry", "--from", demo_facts, "--json").json
    assert {edge["to"]["service"] for edge in document["needs"]} == {"RemoteCalls"}
    needed_by = {(edge["from"]["service"], edge["depth"]) for edge in document["needed_by"]}
    assert ("TimetableStore", 1) in needed_by
    assert ("gate-kiosk.service", 4) in needed_by
    assert "LoyaltyData2" in {node["service"] for node in document["stop_takes"]}
    assert not any(node["host"] != "office-01" for node in document["stop_takes"])


def test_pictures_and_graph_text_are_what_they_claim(run: Run, demo_facts: Path, tmp_path: Path) -> None:
    for ending in ("png", "svg", "dot", "gv", "graphml"):
        done = run("links", "kiosk", "--from", demo_facts, "--out", f"k.{ending}")
        assert done.status == 0
    assert (tmp_path / "k.png").read_bytes().startswith(b"\x89PNG")
    assert ElementTree.parse(tmp_path / "k.svg").getroot().tag.endswith("svg")
    assert (tmp_path / "k.dot").read_text().startswith("digraph")
    edges = ElementTree.parse(tmp_path / "k.graphml").findall(".//{*}edge")
    assert {(e.get("source"), e.get("target")) for e in edges} >= {
        ("gate-03/gate-kiosk.service", "gate-03/boarding-list.service")
    }


def test_capture_writes_a_snapshot_that_says_the_same(run: Run, demo_facts: Path, tmp_path: Path) -> None:
    done = run("capture", "--from", demo_facts, "--host", "mole-msg", "--out", "mole.json", "--json")
    assert done.json["services"] == len(decode((tmp_path / "mole.json").read_bytes()).hosts[0].services)
    assert run("why", "archive", "--from", "mole.json").status == 1
    piped = run("capture", "--from", demo_facts, "--host", "mole-msg", "--out", "-")
    assert decode(piped.out.encode()).hosts[0].name == "mole-msg"


def test_a_failed_write_leaves_the_old_file_whole(run: Run, demo_facts: Path, tmp_path: Path) -> None:
    folder = tmp_path / "kept"
    folder.mkdir()
    (folder / "x.json").write_text("old")
    done = run("capture", "--from", demo_facts, "--out", folder / "x.json" / "y.json")
    assert done.status == 3
    assert [p.name for p in folder.iterdir()] == ["x.json"]
    assert (folder / "x.json").read_text() == "old"


def test_the_demo_tells_its_story_and_leaves_its_files(run: Run, tmp_path: Path) -> None:
    done = run("demo")
    assert done.status == 0 and not done.said
    assert done.out.count("Step ") == 13 and done.out.count("\n") <= 250
    folder = tmp_path / "hollow-chain-demo"
    short = {"facts", "mended", "office", "cases.db", "ticket.html", "verdict.json"}
    assert {p.name for p in folder.iterdir()} == short
    assert run("why", "kiosk", "--from", "hollow-chain-demo/mended").status == 0
    whole = run("demo", "--all-troubles")
    has_fleet = find_spec("pyarrow") is not None  # not on every host of these tests
    assert whole.status == 0 and whole.out.count("Step ") == (26 if has_fleet else 22) and "RouteOptimizer" in whole.out
    assert [line.split()[3:] for line in whole.said if "hollow-chain[fleet]" not in line] == [
        ["running"],
        ["HarborPrint", "is", "up"],
    ]  # as it is watched
    counters = {f"counters-{day}{ending}" for day in ("tuesday", "wednesday") for ending in ("", ".toml")}
    kept = {"readings", *counters} if has_fleet else set()
    assert {p.name for p in folder.iterdir()} == {*short, "links.png", "boot.png", *kept}
    assert ("package ticket-desk 2.1 -> 2.2" in whole.out) is has_fleet
    assert run("demo").status == 0
    assert {p.name for p in folder.iterdir()} == short


@pytest.mark.skipif(
    os.name == "nt", reason="a shell of the one family; tests/live/test_win32_suite.py has it for the other"
)
def test_the_reader_may_stop_reading(demo_facts: Path) -> None:
    script = f"{PROGRAM[0]} roster --all --from {demo_facts} | head -1"
    done = subprocess.run(["bash", "-c", f"{script}; exit ${{PIPESTATUS[0]}}"], capture_output=True, timeout=60)
    assert done.stderr == b"" and done.returncode == 0


@pytest.mark.skipif(os.name == "nt", reason="a terminal of the one family")
def test_on_a_terminal_it_is_colored_unless_that_is_unwanted(demo_facts: Path) -> None:
    def on_terminal(**env: str) -> bytes:
        ours, theirs = os.openpty()
        process = subprocess.Popen(
            [PROGRAM[0], "why", "kiosk", "--from", str(demo_facts)], stdout=theirs, stderr=theirs, stdin=theirs,
            env={**os.environ, "TERM": "xterm-256color", "COLUMNS": "90", **env},
        )  # fmt: skip
        os.close(theirs)
        seen = b""
        try:
            while piece := os.read(ours, 4096):
                seen += piece
        except OSError:
            pass
        process.wait()
        os.close(ours)
        return seen

    colored = on_terminal()
    assert b"\x1b[1;31m" in colored
    assert b"<== hollow link" in colored
    plain = on_terminal(NO_COLOR="1")
    assert b"\x1b[1;31m" not in plain
    assert b"<== hollow link" in plain

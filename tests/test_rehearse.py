"""The rules of starting, one by one, and ``rehearse`` and ``suppose`` as their users meet them: through the program."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import pytest
import yaml

from hollow_chain.boot.durations import Prior, fitted
from tests.conftest import Run
from tests.forking import Parent

FILES = sorted((Path(__file__).parent / "boots").glob("*.yaml"))
CASES = [(f"{p.stem}: {case['name']}", p.stem, case) for p in FILES for case in yaml.safe_load(p.read_text())]
EXPECTED = (
    "name",
    "runs",
    "up",
    "late",
    "between",
    "why_not",
    "blame",
    "change",
    "after",
    "before",
    "done_before",
    "note",
    "more_hosts",
)


def write(folder: Path, host: dict[str, Any], more: list[dict[str, Any]] | None = None) -> None:
    """One host (and perhaps others) as the snapshot ``facts.json``."""
    hosts = [
        {"name": "quay", "read_at": "2026-03-04T06:12:09Z", "boot_at": "2026-03-03T20:00:00Z", "cores": 4, **host},
        *(more or []),
    ]
    document = {"format": "hollow-chain/snapshot", "version": 1, "hosts": hosts}
    (folder / "facts.json").write_text(json.dumps(document, default=lambda moment: moment.isoformat()))


@pytest.mark.parametrize(("family", "case"), [c[1:] for c in CASES], ids=[c[0] for c in CASES])
def test_the_next_boot_is_as_the_rules_say(run: Run, tmp_path: Path, family: str, case: dict[str, Any]) -> None:
    manager = {"systemd": "systemd", "control": "control-manager"}[family]
    write(
        tmp_path, {"manager": manager, **{k: v for k, v in case.items() if k not in EXPECTED}}, case.get("more_hosts")
    )
    done = run("rehearse", "--from", "facts.json", "--host", "quay", "--json", "--runs", case.get("runs", 100))
    services = {one["service"]: one for one in done.json["services"]}
    for name, share in case.get("up", {}).items():
        assert services[name]["up"] == pytest.approx(share, abs=0.12), services[name]
    for name, share in case.get("late", {}).items():
        assert services[name]["late"] == pytest.approx(share, abs=0.12), services[name]
    for name, (low, high) in case.get("between", {}).items():
        assert low < services[name]["up"] + services[name]["late"] < high, services[name]
    for name, cause in case.get("why_not", {}).items():
        assert next(iter(services[name]["why_not"])) == cause, services[name]
    for name, culprit in case.get("blame", {}).items():
        assert culprit in services[name]["blame"], services[name]
    for name, change in case.get("change", {}).items():
        assert services[name]["change"] == change
    for name, moment in case.get("after", {}).items():
        assert services[name]["up_seconds"]["p5"] >= moment
    for name, moment in case.get("before", {}).items():
        assert services[name]["up_seconds"]["p95"] <= moment
    assert done.json["done_seconds"]["p50"] <= case.get("done_before", 1e9)
    assert case.get("note", "") in " ".join(done.json["notes"])
    for one in services.values():
        whole = one["up"] + one["late"] + one["failed"] + one["passed_over"]
        assert whole == pytest.approx(1.0 if one["starts"] else 0.0, abs=0.001)


def test_the_document_holds_what_is_promised(run: Run, demo_facts: Path) -> None:
    done = run("rehearse", "--from", demo_facts, "--host", "pierhead", "--json")
    document = done.json
    assert (document["format"], document["version"], document["runs"]) == ("hollow-chain/rehearsal", 1, 1000)
    board = next(one for one in document["services"] if one["service"] == "BoardWeb")
    shared = next(one for one in document["services"] if one["service"] == "SharedWeb")
    assert board["up"] + shared["up"] == pytest.approx(1.0, abs=0.01)  # one port for two
    assert "port-held" in board["why_not"]
    race = next(one for one in document["races"] if {one["one"], one["other"]} == {"BoardWeb", "SharedWeb"})
    assert race["one_first"] + race["other_first"] == pytest.approx(1.0, abs=0.01)
    assert {"service": "FogHorn", "share": 1.0} in next(f for f in document["falls"] if f["service"] == "RelayBoard")[
        "takes"
    ]
    assert document["slowest_chain"] and done.status == 1


def test_what_we_are_not_sure_of_is_no_share_of_boots(run: Run, demo_facts: Path) -> None:
    done = run("rehearse", "--from", demo_facts, "--host", "voyage-ws", "--json", "--runs", "200")
    model = next(one for one in done.json["services"] if one["service"] == "TideModel")
    (rests_on,) = model["rests_on"]
    assert model["up"] == model["late"] == 0 and model["failed"] == 1
    assert rests_on["cause"] == "program-missing" and 0.9 < rests_on["confidence"] < 1
    told = run("rehearse", "TideModel", "--from", demo_facts, "--host", "voyage-ws", "--runs", "200").out
    assert f"will not come up ({rests_on['confidence']:.0%} sure: program-missing)" in told
    # What is known to differ from boot to boot is one: a start that on record failed now and then.
    assert all(one["rests_on"] == [] or one["failed"] > 0 for one in done.json["services"])


def test_equal_seeds_give_equal_results_and_others_do_not(run: Run, demo_facts: Path) -> None:
    calls = [
        run("rehearse", "--from", demo_facts, "--host", "voyage-ws", "--json", "--seed", seed, "--runs", 200).out
        for seed in (3, 3, 4)
    ]
    assert calls[0] == calls[1] != calls[2]


def test_the_terminal_view_shows_one_service_or_all(run: Run, demo_facts: Path) -> None:
    whole = run("rehearse", "--from", demo_facts, "--host", "gate-03", COLUMNS="120").out
    assert (
        "Will be down after a reboot, runs now" in whole and "lane-lights.service" in whole and "Slowest chain" in whole
    )
    assert "will not come up (device-missing, at dev-reader0.device)" in whole
    assert max(map(len, whole.splitlines())) <= 120
    one = run("rehearse", "gate-kiosk", "--from", demo_facts, "--host", "gate-03").out
    assert "gate-kiosk" in one and "barrier-control" not in one
    every = run("rehearse", "--all", "--from", demo_facts, "--host", "gate-03").out
    assert every.count("not started") >= 3
    assert "◆" not in run("rehearse", "--from", demo_facts, "--host", "gate-03", PYTHONIOENCODING="ascii").out


def test_pictures(run: Run, demo_facts: Path, tmp_path: Path) -> None:
    for name, first in (("boot.png", b"\x89PNG"), ("boot.svg", b"<?xml")):
        assert "wrote" in run("rehearse", "--from", demo_facts, "--host", "pierhead", "--out", name, "--runs", 50).out
        assert (tmp_path / name).read_bytes().startswith(first)
    svg = (tmp_path / "boot.svg").read_bytes()
    run("rehearse", "--from", demo_facts, "--host", "pierhead", "--out", "again.svg", "--runs", 50)
    assert svg == (tmp_path / "again.svg").read_bytes()


@pytest.mark.parametrize(
    "words",
    [
        ("--runs", "0"),
        ("--runs", "many"),
        ("--out", "boot.gif"),
        ("--host", "nowhere"),
        ("nobody",),
        ("--cores", "0"),
        (),
    ],
)
def test_wrong_calls_get_one_line(run: Run, demo_facts: Path, words: tuple[str, ...]) -> None:
    more = () if not words or "--host" in words else ("--host", "gate-03")
    done = run("rehearse", *words, *more, "--from", demo_facts)
    assert done.status == 2 and len(done.err.strip().splitlines()) == 1 and not done.out


def test_hostile_names_do_not_reach_the_terminal_and_an_empty_host_is_told(run: Run, tmp_path: Path) -> None:
    evil = "a\x1b[31m\x9b2J\u202e[bold]$x$"
    write(tmp_path, {"services": [{"name": evil, "startup": "automatic", "state": "running", "links": [{"to": evil}]}]})
    for words in (
        ("rehearse", "--all"),
        ("suppose", "cores 2"),
        ("rehearse", "--out", "x.png"),
        ("rehearse", "--out", "x.svg"),
    ):
        done = run(*words, "--from", "facts.json")
        assert done.status in (0, 1), done.err
        assert not set("\x1b\x9b\u202e") & set(done.out)
    write(tmp_path, {"services": []})
    assert run("rehearse", "--from", "facts.json").status == 2


@pytest.mark.parametrize("manager", ["systemd", "control-manager"])
def test_chains_and_rings_may_be_long_and_moments_late(run: Run, tmp_path: Path, manager: str) -> None:
    def links(other: int) -> list[dict[str, str]]:
        return [{"to": f"s{other}"}, {"to": f"s{other}", "kind": "order"}]

    well = {"kind": "target", "startup": "automatic", "state": "running"}
    chain = [{"name": f"s{n}", **well, "links": links(n - 1) if n else []} for n in range(1500)]
    late = {"name": "late", "startup": "event", "triggers": [{"kind": "time", "name": "x", "after_boot": 9000}]}
    write(tmp_path, {"manager": manager, "services": [*chain, late]})
    services = {
        one["service"]: one for one in run("rehearse", "--from", "facts.json", "--json", "--runs", 5).json["services"]
    }
    assert services["s1499"]["up"] == 1 and services["late"]["up_seconds"]["p50"] >= 9000
    chain[0]["links"] = links(1499)
    write(tmp_path, {"manager": manager, "services": chain})
    assert run("rehearse", "--from", "facts.json", "--runs", 5).status in (0, 1)


@pytest.mark.skipif(
    os.name == "nt", reason="the interrupt would be one of these tests, which run in the same process there"
)
def test_an_interrupt_gives_the_result_so_far(parent: Parent, tmp_path: Path) -> None:
    services = [{"name": f"s{n}.service", "startup": "automatic", "state": "running", "program": {"style": "notify"},
                 "links": [{"to": f"s{max(0, n - 3)}.service", "kind": "order"}] if n else []} for n in range(25)]  # fmt: skip
    write(tmp_path, {"services": services})
    words = ["1", "rehearse", "--from", "facts.json", "--runs", "5000", "--json"]
    status, out, _ = parent.call(words, tmp_path, {**os.environ}, entry="tests.interrupting")
    document = json.loads(out)
    assert status == 0 and 0 < document["runs"] < document["asked_runs"] == 5000


SUPPOSED = {
    "startup": ("office-01", ["startup", "TimetableStore", "automatic"], "TimetableStore", "better"),
    "limit": ("voyage-ws", ["limit all 90s"], "ChartRender", "better"),
    "limit of one": ("voyage-ws", ["limit ChartRender 90s"], "BridgeScreens", "better"),
    "need": ("pierhead", ["need LaneCount PlateStore"], "LaneCount", "better"),
    "after": ("pierhead", ["after LaneCount PlateStore"], "LaneCount", "better"),
    "delay": ("pierhead", ["delay LaneCount 10min"], "LaneCount", "better"),
    "port": ("pierhead", ["port BoardWeb 8081"], "SharedWeb", "better"),
    "cut": ("pierhead", ["cut FogHorn RelayBoard"], "FogHorn", "better"),
    "cut a loop": ("pierhead", ["cut CrewRota CrewData"], "CrewData", "better"),
    "account": ("pierhead", ["account FuelDock LocalSystem"], "FuelDock", "better"),
    "takes": ("pierhead", ["takes PlateStore 1s"], "PlateStore", "earlier"),
    "cores": ("pierhead", ["cores 1"], "PlateStore", "later"),
    "event": ("pierhead", ["event CardReader 20s 10s"], "CardReader", "better"),
    "mended": ("pierhead", ["mended LogBook"], "LogBook", "better"),
    "fails": ("office-01", ["fails DataStore-Ferry"], "TicketDesk", "worse"),
    "several": ("voyage-ws", ["limit all 90s", "fails ChartServer"], "ChartRender", "worse"),
    "several in words": (
        "pierhead",
        ["mended", "LogBook,", "mended", "DeckCalls", "and", "cores", "8"],
        "DeckCalls",
        "better",
    ),
}


@pytest.mark.parametrize("name", SUPPOSED)
def test_supposed_changes_do_what_they_say(name: str, run: Run, demo_facts: Path) -> None:
    host, changes, service, verdict = SUPPOSED[name]
    done = run("suppose", *changes, "--from", demo_facts, "--host", host, "--json", "--runs", 200)
    shift = next(one for one in done.json["services"] if one["service"] == service)
    assert shift["verdict"] == verdict, shift
    difference = shift["up" if verdict in ("better", "worse") else "seconds"]["difference"]
    assert difference["real"] and difference["low"] <= difference["mean"] <= difference["high"]
    assert done.status == int(any(one["verdict"] == "worse" for one in done.json["services"]))
    assert service in run("suppose", *changes, "--from", demo_facts, "--host", host, "--runs", 50).out


def test_what_a_change_does_not_touch_does_not_differ(run: Run, demo_facts: Path) -> None:
    done = run("suppose", "mended RoleThatIsNot", "--from", demo_facts, "--host", "pierhead")
    assert done.status == 2
    same = run("suppose", "account PlateStore LocalService", "--from", demo_facts, "--host", "pierhead", "--json").json
    assert {one["verdict"] for one in same["services"]} == {"same"} and same["done_seconds"]["difference"]["mean"] == 0


@pytest.mark.parametrize(
    ("change", "hint"),
    [("limit", "limit SERVICE|all DURATION"), ("fly LogBook", "write one of"), ("limit LogBook soon", "is no duration"),
     ("startup LogBook never", "automatic, delayed"), ("port LogBook 99999", "from 1 to 65535"), ("cores -1", "number of cores"),
     ("mended Seal", "fits 2"), ("cut LogBook Moon", "has no link"), ("cores 2 3", "a word too many"), (" , ", "no change"),
     ("limit LogBook 1e9", "is no duration")],
)  # fmt: skip
def test_what_is_not_understood_is_told_with_what_would_be(run: Run, demo_facts: Path, change: str, hint: str) -> None:
    done = run("suppose", change, "--from", demo_facts, "--host", "pierhead")
    assert done.status == 2 and hint in done.err and len(done.err.strip().splitlines()) == 1


def test_durations_follow_the_records_and_lean_on_the_kind_without_them() -> None:
    kind = Prior(1.0, 1.0)
    assert fitted([], [], kind)[0] == 1.0
    one, spread_of_one = fitted([10.0], [], kind)
    many, spread_of_many = fitted([10.0] * 20, [], kind)
    assert 9 < one < many <= 10.0 and spread_of_many < spread_of_one < 1.0
    assert fitted([2.0, 8.0, 30.0], [], kind)[1] > fitted([7.0, 8.0, 9.0], [], kind)[1]
    with_limit, _ = fitted([8.0, 9.0], [30.0], kind)
    assert with_limit > fitted([8.0, 9.0], [], kind)[0]  # one that was given up after 30 s took longer than that
    assert fitted([], [30.0], kind)[0] > 10

"""Many hosts: what is wrong where, what those hosts have in common and chance would not do, and what changes from round to round."""

from __future__ import annotations

import json
import os
import random
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pyarrow.parquet as pq
import pytest
from scipy.stats import false_discovery_control, fisher_exact
from scipy.stats.contingency import odds_ratio

from hollow_chain.cli import watching
from hollow_chain.facts import snapshot
from hollow_chain.facts.codec import encode
from hollow_chain.facts.host import UnreachedHost
from hollow_chain.fleet import spread
from hollow_chain.fleet.association import RATE, Counts, chances, corrected, interval
from hollow_chain.fleet.columns import HOSTS, SERVICES
from hollow_chain.fleet.keeping import keep_round
from hollow_chain.fleet.latest import Stood, since_of, work_in
from hollow_chain.fleet.parts import Hanging, batches, parts_of
from hollow_chain.fleet.spread import spreader
from hollow_chain.fleet.surveying import HostLine, Latest, Survey, survey
from hollow_chain.fleet.watching import changed, with_last_known
from hollow_chain.sources.readings import open_store
from hollow_chain.trouble import Trouble
from tests.conftest import Run
from tests.dying import FATAL, done_or_dead
from tests.made_fleet import Fleet, Story, made_fleet

NOW = datetime(2026, 3, 4, 6, 0, tzinfo=UTC)


@pytest.fixture(scope="module")
def fleet() -> tuple[Fleet, list[Story]]:
    return made_fleet(1000, seed=11)


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory, fleet: tuple[Fleet, list[Story]]) -> Path:
    place = tmp_path_factory.mktemp("readings") / "st"
    keep_round(open_store(str(place), make=True), fleet[0].snapshot, fleet[0].groups, NOW, spreader(), lambda *_: None)
    return place


def test_planted_stories_are_found_and_chance_is_not(run: Run, place: Path, fleet: tuple[Fleet, list[Story]]) -> None:
    done = run("survey", "--from", place, "--json")
    found = {one["service"]: one for one in done.json["causes"]}
    right, claimed = 0, []
    for story in fleet[1]:
        first = next(iter(found[story.service]["in_common"]), None)
        if not story.kind:
            claimed += [story.service] if first is not None else []
            continue
        says = first is not None and (first["kind"], first["of"]) == (story.kind, story.of or first["of"])
        right += says and story.value in (first["value"] if first else "")
    assert right >= 11, right
    assert not claimed
    ledger = found["ledger.service"]
    assert ledger["hosts"] == ["ledger-01"] and len(ledger["takes_along"]) == 200
    assert not any("seat-map" in one for one in found), "what a server takes along is said once, on the server"
    assert done.status == 1 and done.json["well"] + done.json["not_well"] == 1001


def random_fleet(seed: int) -> Latest:
    """Hosts on which services fail by chance alone, whatever they have."""
    import pyarrow as pa

    dice = random.Random(seed)
    hosts, services, packages = [], [], {}
    for number in range(150):
        name = f"quay-{number:03d}"
        installed = [f"lib-{at} 1.{dice.randrange(2)}" for at in range(12)]
        packages[str(number)] = installed
        hosts.append(
            {
                "round": "r", "host": name, "read": True, "system": f"Harbor {dice.randrange(3)}", "cores": dice.choice((2, 4)),
                "groups": [dice.choice("nesw")], "packages": str(number), "reboot_due": dice.choice(("", "due")), "clock_offset": 0.0,
            }
        )  # fmt: skip
        for service in ("bell", "buoy", "lamp", "mast"):
            cause = {"cause": "exited", "host": name, "service": service, "confidence": 0.9, "says": "it ended"}
            sick = dice.random() < 0.08
            begun = dice.random() * 30
            services.append(
                {
                    "round": "r", "host": name, "service": service, "standing": "down" if sick else "up",
                    "causes": [cause] if sick else [], "startup": dice.choice(("automatic", "delayed")), "needs": [],
                    "definition": dice.choice(("a", "b", "c")), "account": dice.choice(("quay", "mate")), "begun_after": begun,
                    "up_after": begun + 1, "down_after_boot": False,
                }
            )  # fmt: skip
    return Latest(pa.Table.from_pylist(hosts, HOSTS), pa.Table.from_pylist(services, SERVICES), packages, {})


def test_where_chance_alone_is_at_work_nothing_is_claimed() -> None:
    """Of a hundred fleets in which all is chance at most as many get a claim as the rate allows (with room for chance itself)."""
    found = [survey(random_fleet(seed)) for seed in range(100)]
    claims = sum(any(cause.shared for cause in one.causes) for one in found)
    assert claims <= 100 * RATE + 4, claims
    assert all(one.causes and one.tests > 50 for one in found), "there was something to claim"


def test_what_nobody_asked_for_is_neither_there_nor_lacking() -> None:
    """Half of the hosts tell no packages, no clock and no system, and are well; of the others a third is sick by chance."""
    import pyarrow as pa

    for seed in range(20):
        whole = random_fleet(seed)
        hosts, services = whole.hosts.to_pylist(), whole.services.to_pylist()
        untold = {row["host"] for row in hosts[::2]}
        for row in hosts[::2]:
            row.update(packages="", system="", clock_offset=None, cores=None)
        for row in services:
            if row["host"] in untold:
                row.update(
                    causes=[],
                    standing="up",
                    begun_after=None,
                    up_after=None,
                    definition="",
                    account="",
                    startup="unknown",
                )
        found = survey(
            whole._replace(hosts=pa.Table.from_pylist(hosts, HOSTS), services=pa.Table.from_pylist(services, SERVICES))
        )
        kinds = {shared.factor.kind for cause in found.causes for shared in cause.shared}
        assert not kinds - {"place"}, (seed, kinds)


def tables() -> Iterator[Counts]:
    dice = random.Random(3)
    for _ in range(300):
        sick, well = dice.randrange(2, 60), dice.randrange(1, 400)
        yield Counts(dice.randrange(sick + 1), sick, dice.randrange(well + 1), well)


def test_the_chances_are_those_of_fisher_and_none_is_lost() -> None:
    counts = list(tables())
    ours = chances(np.array(counts))
    theirs = np.array([_fisher(one) for one in counts])
    claims, of_theirs = corrected(ours) <= RATE, false_discovery_control(theirs, method="bh") <= RATE
    assert (claims == of_theirs).all() and 20 < claims.sum() < 280
    assert np.allclose(ours[claims], theirs[claims], rtol=1e-9, atol=0)
    assert np.allclose(corrected(theirs), false_discovery_control(theirs, method="bh"))


def _fisher(one: Counts) -> float:
    table = [[one.sick_with, one.well_with], [one.sick - one.sick_with, one.well - one.well_with]]
    return float(fisher_exact(table, alternative="greater").pvalue)


@pytest.mark.parametrize("one", list(tables())[:40], ids=str)
def test_the_interval_is_that_of_scipy(one: Counts) -> None:
    table = [[one.sick_with, one.well_with], [one.sick - one.sick_with, one.well - one.well_with]]
    theirs = odds_ratio(table)
    low, high = theirs.confidence_interval(0.95)
    ours = interval(one)
    if 0 < one.sick_with + one.well_with < one.sick + one.well:
        assert np.allclose([ours.ratio, ours.low, ours.high], [theirs.statistic, low, high], rtol=1e-4)


def test_hosts_that_hang_together_are_of_one_part() -> None:
    hosts = [Hanging("a", ["c"]), Hanging("b", []), Hanging("c.harbor", []), Hanging("d", ["B"]), Hanging("b", ["x"])]
    assert parts_of(hosts) == [[0, 2], [1, 3, 4]]
    long = parts_of([Hanging(str(number), [str(number + 1)]) for number in range(20_000)])
    assert len(long) == 1 and len(long[0]) == 20_000
    assert [len(row) for row in batches([[1], [2, 3], [4], [5]], 2)] == [2, 2]


def test_one_answer_whatever_the_way(run: Run, place: Path, tmp_path: Path) -> None:
    """From the index, from snapshots in one file and in many, in one process and in a pool."""
    found = made_fleet(40, seed=2)[0]
    (tmp_path / "one.json").write_bytes(encode(found.snapshot))
    (tmp_path / "many").mkdir()
    for host in found.snapshot.hosts:
        import msgspec

        alone = msgspec.structs.replace(found.snapshot, hosts=[host])
        (tmp_path / f"many/{host.name}.json").write_bytes(encode(alone))
    run("capture", "--from", "one.json", "--keep", "st")
    calls = (["--from", "one.json"], ["--from", "many"], ["--from", "st"])
    answers = [run("survey", *call, "--json") for call in calls]
    assert answers[0].out == answers[1].out == answers[2].out and answers[0].status == 1
    assert len(answers[0].json["hosts"]) == 41


def test_a_cause_on_one_host_takes_others_along_whatever_the_form_of_the_files(run: Run, demo_facts: Path) -> None:
    found = {
        (one["cause"], one["service"]): one for one in run("survey", "--from", demo_facts, "--json").json["causes"]
    }
    assert found["disabled", "TimetableStore"]["hosts"] == ["office-01"]
    assert {"gate-03", "mole-msg"} <= set(found["disabled", "TimetableStore"]["takes_along"])


def test_a_host_that_stands_there_twice_is_said(run: Run, tmp_path: Path) -> None:
    (tmp_path / "many").mkdir()
    for name in ("a", "b"):
        (tmp_path / f"many/{name}.json").write_bytes(encode(made_fleet(2)[0].snapshot))
    done = run("survey", "--from", "many", "--json")
    assert len(done.json["hosts"]) == 3 and done.err.count("stands in 2 files of many: its newest reading counts") == 3


@pytest.mark.skipif(os.name == "nt", reason="signals of POSIX")
def test_a_piece_that_kills_its_worker_costs_its_own_hosts(monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever else was under way in the pool that broke is done all the same, in its order."""
    found = made_fleet(12)[0].snapshot
    alone = [one for host in found.hosts[:10] for one in work_in(snapshot([host]), {})]
    monkeypatch.setattr(spread, "done", done_or_dead)
    came = list(spread._pooled(alone, lambda many: None, 2))
    names = [one.batches[0]["host"].to_pylist() for one in came]
    assert names == [[host.name] if host.name != FATAL else [] for host in found.hosts[:10]]
    assert [one.troubles for one in came if one.troubles] == [
        [f"{FATAL}: not diagnosed, the process that did it was killed twice (is there enough memory?)"]
    ]


def test_words_choose_services_and_a_miss_names_the_nearest(run: Run, place: Path) -> None:
    done = run("survey", "fog-horn", "--from", place, "--json")
    assert {name for one in done.json["hosts"] for name in one["services"]} == {"fog-horn.service"}
    assert {one["service"] for one in done.json["causes"]} == {"fog-horn.service"}
    miss = run("survey", "fog-hron", "--from", place)
    assert miss.status == 2 and "no service fits 'fog-hron'; the nearest names:" in miss.err and "fog-horn" in miss.err
    assert run("survey", "Radar Of The Quay", "--from", place, "--json").json["causes"][0]["service"] == "radar.service"


def test_a_survey_is_shown_counted_and_written(run: Run, place: Path, tmp_path: Path) -> None:
    shown = run("survey", "--from", place)
    assert "1. config-rejected on ledger.service: on ledger-01, takes 200 other hosts along" in shown.out
    assert "in common: package ticket-desk 2.2" in " ".join(shown.out.split()) and "hosts are well: --all" in shown.out
    assert "nothing in common that" in shown.out and max(map(len, shown.out.splitlines())) <= 100
    by = run("survey", "--from", place, "--by", "group")
    assert "By group" in by.out and "east: " in by.out
    counted = run("survey", "--from", place, "--by", "cause", "--json").json
    assert {one["value"] for one in counted["by"]} >= {"config-rejected", "start-timeout"}
    assert all(one["stands"] != "well" for one in run("survey", "--from", place, "--unwell", "--json").json["hosts"])
    for name in ("page.html", "page.md"):
        assert run("survey", "--from", place, "--out", name).status == 1
        text = (tmp_path / name).read_text()
        assert "Survey of 1,001 hosts" in text and "ticket-desk" in text
    run("survey", "--from", place, "--out", "hosts.parquet")
    table = pq.read_table(tmp_path / "hosts.parquet")
    assert table.num_rows == 1001 and set(table["stands"].to_pylist()) == {"well", "not well"}


def test_since_when_by_readings_and_by_records(run: Run, tmp_path: Path) -> None:
    st = open_store(str(tmp_path / "st"), make=True)
    well, sick = (made_fleet(6, seed=5)[0].snapshot for _ in range(2))
    for host in well.hosts:
        for service in host.services:
            service.state, service.last = "running", None
        host.events = []
        host.read_at = NOW - timedelta(days=2)
    for days, found in ((2, well), (1, sick)):
        keep_round(st, found, {}, NOW - timedelta(days=days), spreader(), lambda *_: None)
    lines = {one["host"]: one for one in run("survey", "--from", "st", "--json").json["hosts"]}
    unwell = [one for one in lines.values() if one["stands"] == "not well"]
    assert unwell and all(one["since"] is not None for one in unwell)
    assert all(one["since"] is None for one in lines.values() if one["stands"] == "well")
    assert run("survey", "--from", "st", "--since", "2030-01-01", "--json").json["causes"] == []
    assert run("survey", "--from", "st", "--since", "2020-01-01", "--json").json["not_well"] == len(unwell)
    later = run("survey", "--from", "st", "--since", "2030-01-01")
    assert later.status == 0 and f"({len(unwell)} hosts were not well before, and were left out)" in later.out


def test_a_host_that_was_read_long_ago_is_no_all_clear(run: Run, tmp_path: Path) -> None:
    st = open_store(str(tmp_path / "st"), make=True)
    found = made_fleet(4)[0].snapshot
    found.hosts[1].read_at = NOW - timedelta(days=9)
    keep_round(st, found, {}, NOW, spreader(), lambda *_: None)
    assert run("survey", "--from", "st", "--json").json["stale"] == ["quay-0001"]
    assert (
        "1 host was last read more than a day before the newest: quay-0001 (2026-02-23"
        in run("survey", "--from", "st").out
    )


def test_a_row_of_readings_tells_since_when() -> None:
    def at(hour: int) -> datetime:
        return NOW + timedelta(hours=hour)

    rows = [
        ("a", "well", 0),
        ("a", "not well", 1),
        ("a", "not well", 2),
        ("b", "not well", 0),
        ("b", "well", 2),
        ("c", "well", 0),
    ]
    assert since_of(Stood(host, stands, at(hour)) for host, stands, hour in rows) == {"a": at(1), "b": at(2)}


def test_rehearsed_boots_tell_what_will_be_down(run: Run, demo_facts: Path) -> None:
    done = run("survey", "--from", demo_facts, "--rehearse", "20", "--json").json
    risk = {(one["host"], name) for one in done["hosts"] for name in one["down_after_boot"]}
    assert ("gate-03", "lane-lights.service") in risk and ("gate-03", "passport-reader.service") not in risk


WRONG = [
    ([], "nowhere", "cannot read nowhere"),
    (["--out", "x.pdf"], "f", "give it one of the endings .html, .md, .parquet"),
    (["--since", "soon"], "f", "--since takes"),
    (["--rounds", "3"], "f", "--rounds is of --every"),
    (["--every", "never"], "f", "--every: 'never' is no duration"),
    (["--every", "1s", "--by", "group"], "f", "leave out --by, --since and --out"),
    (["--all", "--unwell"], "f", "--unwell leaves them out"),
    (["--on", "udp://x"], "f", "--on takes the address of a scheduler"),
    ([], "empty", "no store of readings, and no snapshot file in it"),
    ([], "bad", "cannot read"),
    ([], "fresh", "fresh holds no reading yet; 'hollow-chain capture --keep fresh' adds one"),
]


@pytest.mark.parametrize(
    ("words", "source", "says"), WRONG, ids=[" ".join([*words, source]) for words, source, _ in WRONG]
)
def test_wrong_calls_get_one_line(run: Run, tmp_path: Path, words: list[str], source: str, says: str) -> None:
    for name in ("f", "empty", "bad"):
        (tmp_path / name).mkdir()
    (tmp_path / "f/one.json").write_bytes(encode(made_fleet(1)[0].snapshot))
    (tmp_path / "bad/one.json").write_text("{}")
    (tmp_path / "fresh").mkdir()
    (tmp_path / "fresh/store.json").write_text('{"format":"hollow-chain/readings","version":1}')
    done = run("survey", *words, "--from", source)
    assert done.status in (2, 3) and says in done.err and done.err.count("\n") == 1, done.err


# Watching.


def line(
    host: str, stands: str = "well", services: tuple[str, ...] = (), risk: tuple[str, ...] = (), why: str = ""
) -> HostLine:
    return HostLine(host, stands, NOW, None, list(services), why, [], "systemd", "", list(risk))


def round_of(*lines: HostLine) -> Survey:
    return Survey(list(lines), [], 0)


CHANGES = {
    "goes down": (line("a"), line("a", "not well", ("x", "y")), [("not well", "x"), ("not well", "y")]),
    "is well again": (line("a", "not well", ("x", "y")), line("a", "not well", ("y",)), [("well again", "x")]),
    "stays as it is": (line("a", "not well", ("x",)), line("a", "not well", ("x",)), []),
    "will be down": (line("a"), line("a", risk=("x",)), [("down after next boot", "x")]),
    "will be up after all": (line("a", risk=("x",)), line("a"), [("up after next boot", "x")]),
    "was at risk, is down": (line("a", risk=("x",)), line("a", "not well", ("x",)), [("not well", "x")]),
    "is not read": (line("a", "not well", ("x",)), line("a", "not read", why="no answer"), [("not read", "")]),
    "stays unread": (line("a", "not read"), line("a", "not read"), []),
}


@pytest.mark.parametrize("what", CHANGES)
def test_only_what_has_changed_is_told(what: str) -> None:
    old, new, told = CHANGES[what]
    assert [(one.event, one.service) for one in changed(round_of(old), round_of(new))] == told


def test_hosts_come_and_go_and_are_compared_with_what_was_last_known() -> None:
    first, away = round_of(line("a", "not well", ("x",)), line("b")), round_of(line("a", "not read"), line("c"))
    assert [(one.event, one.host) for one in changed(first, away)] == [
        ("not read", "a"),
        ("gone", "b"),
        ("new host", "c"),
    ]
    back = round_of(line("a"), line("c"))
    told = [(one.event, one.host, one.service) for one in changed(with_last_known(first, away), back)]
    assert told == [("read again", "a", "")]


def watched(
    monkeypatch: pytest.MonkeyPatch, surveys: list[Callable[[], tuple[Survey, int]]], every: float
) -> tuple[list[dict[str, object]], int]:
    told: list[dict[str, object]] = []
    monkeypatch.setattr(watching, "_write", told.append)
    monkeypatch.setattr(watching.signal, "signal", lambda *_: None)
    turn = iter(surveys)
    status = watching.watch(lambda: next(turn)(), every, len(surveys))
    return told, status


def test_rounds_follow_one_another_and_missed_ones_are_said(monkeypatch: pytest.MonkeyPatch) -> None:
    import time

    def slow() -> tuple[Survey, int]:
        time.sleep(0.25)
        return round_of(line("a", "not well", ("x",))), 1

    def fails() -> tuple[Survey, int]:
        raise Trouble("no host could be read")

    told, status = watched(
        monkeypatch, [lambda: (round_of(line("a")), 0), slow, fails, lambda: (round_of(line("a")), 0)], 0.1
    )
    events = [one["event"] for one in told]
    assert [one for one in events if one != "rounds missed"] == ["begun", "not well", "round failed", "well again"]
    assert "rounds missed" in events and status == 0
    missed = next(one for one in told if one["event"] == "rounds missed")
    assert isinstance(missed["rounds"], int) and missed["rounds"] >= 1


def test_a_watch_is_lines_of_json_with_the_status_of_the_last_round(run: Run, tmp_path: Path) -> None:
    (tmp_path / "one.json").write_bytes(encode(made_fleet(2)[0].snapshot))
    done = run("survey", "--from", "one.json", "--every", "0.1s", "--rounds", "2")
    lines = [json.loads(text) for text in done.out.splitlines()]
    assert lines[0]["event"] == "begun" and lines[0]["says"].startswith("3 hosts: ") and done.status == 1
    assert all(one["event"] in ("begun", "rounds missed") for one in lines)
    hosts = 'format = "hollow-chain/hosts"\nversion = 1\n[hosts.gone]\nsnapshot = "gone.json"\n[hosts.one]\nsnapshot = "one.json"\n'
    (tmp_path / "hosts.toml").write_text(hosts)
    again = run("survey", "--from", "hosts.toml", "--every", "0.1s", "--rounds", "3")
    assert again.err.count("gone could not be read") == 1, again.err
    wrong = run("survey", "nosuch", "--from", "one.json", "--every", "1s")
    assert wrong.status == 2 and "no service fits 'nosuch'" in wrong.err


def test_what_could_not_be_read_is_status_3(tmp_path: Path, run: Run) -> None:
    found = made_fleet(1)[0].snapshot
    found.hosts = [host for host in found.hosts if host.name != "ledger-01"]
    for host in found.hosts:
        host.services, host.events = [], []
    found.unreached = [UnreachedHost(name="quay-0007", why="no answer")]
    (tmp_path / "one.json").write_bytes(encode(found))
    done = run("survey", "--from", "one.json")
    assert done.status == 3 and "1 not read" in done.out and "no answer" in done.out

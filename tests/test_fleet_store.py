"""Readings that are kept: a store of snapshots with an index that any reader of Parquet can ask, whole after whatever happens to it."""

from __future__ import annotations

import gzip
import json
import os
import re
import subprocess
import sys
from collections.abc import Collection, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from hollow_chain.facts.codec import decode, encode
from hollow_chain.facts.host import UnreachedHost
from hollow_chain.fleet.index import Index
from hollow_chain.fleet.keeping import index_anew, keep_round
from hollow_chain.fleet.spread import spreader
from hollow_chain.sources.readings import folder_of, open_store
from tests.conftest import PROGRAM, Run
from tests.made_fleet import made_fleet

DOCS = Path(__file__).parent.parent / "docs/fleet.md"


@pytest.fixture(scope="module")
def snapshot(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("fleet") / "fleet.json"
    path.write_bytes(encode(made_fleet(12)[0].snapshot))
    return path


@pytest.fixture()
def store(run: Run, tmp_path: Path, snapshot: Path) -> Path:
    done = run("capture", "--from", snapshot, "--keep", "st")
    assert done.status == 0 and "13 readings" in done.out, done.err
    return tmp_path / "st"


def rows(store: Path) -> list[list[dict[str, object]]]:
    index = Index(open_store(str(store)))
    tables = (index.hosts(), index.services(["round", "host", "service", "standing", "causes", "definition"]))
    return [
        sorted(table.to_pylist(), key=lambda row: (row["round"], row["host"], row.get("service", "")))
        for table in tables
    ]


def files(store: Path, part: str = "") -> list[Path]:
    return sorted(path for path in (store / part).rglob("*") if path.is_file() and path.name != ".lock")


def test_a_store_is_made_filled_and_told(run: Run, store: Path, snapshot: Path) -> None:
    done = run("keep", "st", "--json")
    assert (done.status, done.json["readings"], done.json["hosts"], done.json["rounds"]) == (0, 13, 13, 1)
    assert (store / "store.json").read_text() == '{"format":"hollow-chain/readings","version":1}\n'
    kept = decode(gzip.decompress(next((store / "readings/quay-0003").iterdir()).read_bytes()))
    assert [host.name for host in kept.hosts] == ["quay-0003"]
    if os.name != "nt":
        assert {path.stat().st_mode & 0o077 for path in files(store)} == {0}
    told = run("capture", "--from", snapshot, "--keep", "st", "--json").json
    assert (told["hosts"], told["not_read"], told["troubles"]) == (13, 0, [])
    assert "26 readings of 13 hosts, kept in 2 rounds" in run("keep", "st").out


def test_other_commands_read_the_newest_of_it(run: Run, store: Path) -> None:
    assert run("why", "ledger", "--host", "ledger-01", "--from", "st").status == 1
    assert "13 hosts" in run("survey", "--from", "st").out


def test_the_index_can_be_made_anew_of_the_snapshots(run: Run, store: Path, snapshot: Path) -> None:
    run("capture", "--from", snapshot, "--keep", "st")
    before = rows(store)
    for path in files(store, "index"):
        path.unlink()
    lacking = run("keep", "st")
    assert lacking.status == 3 and "not in its index" in lacking.err and "--index" in lacking.err
    assert run("keep", "st", "--index").status == 0
    assert rows(store) == before
    # Without the files of rounds, too: what stands in them alone (groups, hosts that were not read) is gone then.
    for path in files(store, "rounds"):
        path.unlink()
    assert run("keep", "st", "--index").status == 0
    assert [row["host"] for row in rows(store)[0]] == [row["host"] for row in before[0]]
    assert rows(store)[1] == before[1]


def test_many_rounds_are_merged_and_none_counts_twice(store: Path) -> None:
    readings = open_store(str(store))
    found = decode(gzip.decompress(next((store / "readings/quay-0003").iterdir()).read_bytes()))
    for minute in range(20):
        moment = datetime(2026, 3, 4, 7, minute, tzinfo=UTC)
        keep_round(readings, found, {"quay-0003": ["north"]}, moment, spreader(), lambda done, of: None)
    assert len(files(store, "index/hosts")) <= 17
    index = Index(readings)
    assert index.hosts().num_rows == 33 and len(index.rounds()) == 21
    assert index.services(["host"]).num_rows == sum(1 for _ in rows(store)[1])
    # A call that was cut off between writing and removing leaves both: they count once.
    merged = next(one for one in index.files("index/hosts") if one.replaces)
    (store / "index/hosts" / merged.replaces[0]).write_bytes((store / "index/hosts" / merged.name).read_bytes())
    assert Index(readings).hosts().num_rows == 33


@pytest.mark.parametrize("bytes_of_a_file", [8 << 20, 1], ids=["one file", "a file a round"])
def test_an_index_made_anew_counts_nothing_twice_wherever_it_is_cut_off(
    store: Path, monkeypatch: pytest.MonkeyPatch, bytes_of_a_file: int
) -> None:
    monkeypatch.setattr("hollow_chain.fleet.index._SMALL", bytes_of_a_file)
    readings = open_store(str(store))
    found = decode(gzip.decompress(next((store / "readings/quay-0003").iterdir()).read_bytes()))
    for minute in range(20):
        moment = datetime(2026, 3, 4, 7, minute, tzinfo=UTC)
        keep_round(readings, found, {"quay-0003": ["north"]}, moment, spreader(), lambda done, of: None)

    def counted() -> tuple[int, int, int]:
        index = Index(readings)
        return index.hosts().num_rows, len(index.rounds()), index.services(["host"]).num_rows

    before = counted()
    removed = []

    def cut_off(self: Index, names: Collection[str]) -> None:
        removed.append(names)
        raise KeyboardInterrupt

    with monkeypatch.context() as patched:
        patched.setattr(Index, "leave", cut_off)
        with pytest.raises(KeyboardInterrupt):
            index_anew(readings, spreader(), lambda done, of: None)
    assert counted() == before
    assert index_anew(readings, spreader(), lambda done, of: None) == [] and counted() == before
    assert len(files(store, "index/hosts")) == len(removed[0]) == (1 if bytes_of_a_file > 1 else 21)


def test_what_is_old_is_dropped(run: Run, store: Path) -> None:
    readings = open_store(str(store))
    found = made_fleet(3)[0].snapshot
    keep_round(readings, found, {}, datetime.now(UTC) - timedelta(days=100), spreader(), lambda done, of: None)
    done = run("keep", "st", "--thin", "90d")
    assert "dropped 4 readings of 1 round" in done.out and done.status == 0
    assert len(Index(readings).rounds()) == 1 and len(files(store, "readings")) == 13
    for everything in ("2030-01-01", "0d"):
        whole = run("keep", "st", "--thin", everything)
        assert whole.status == 2 and "nothing would be left" in whole.err and len(files(store, "readings")) == 13
    keep_round(readings, found, {}, datetime.now(UTC) + timedelta(seconds=1), spreader(), lambda done, of: None)
    gone = run("keep", "st", "--thin", Index(readings).hosts()["kept_at"].to_pylist()[-1].isoformat())
    assert "9 hosts no longer in it" in gone.err and len(files(store, "readings")) == 4


TORN = {
    "a snapshot that breaks off": ("readings/quay-0002", lambda data: data[: len(data) // 2], "quay-0002", 12),
    "a snapshot of a newer version": (
        "readings/quay-0002",
        lambda data: gzip.compress(gzip.decompress(data).replace(b'"version":1', b'"version":9')),
        "of version 9; this program reads up to version 1: update it",
        12,
    ),
    "something else in the place of one": ("readings/quay-0002", lambda data: b"%PDF-1.7", "quay-0002", 12),
    "a round that is damaged": ("rounds", lambda data: data[:20], "its readings are taken without it", 13),
}


@pytest.mark.parametrize("what", TORN)
def test_what_is_torn_costs_no_more_than_itself(run: Run, store: Path, what: str) -> None:
    where, torn, says, left = TORN[what]
    path = files(store, where)[0]
    path.write_bytes(torn(path.read_bytes()))
    done = run("keep", "st", "--index", "--json")
    assert done.status == 3 and says in done.err and done.err.count("\n") == 1, done.err
    assert (done.json["readings"], done.json["hosts"]) == (left, left)
    assert len(files(store, "readings")) == 13, "nothing is taken away"


BAD_INDEX = {
    "torn": (lambda data: data[: len(data) // 2], "cannot be read"),
    "of another kind": (lambda data: b"no parquet at all", "cannot be read"),
    "empty": (lambda data: b"", "cannot be read"),
}


@pytest.mark.parametrize("what", BAD_INDEX)
@pytest.mark.parametrize("part", ("hosts", "services"))
def test_an_index_that_is_damaged_is_said_and_made_anew(
    run: Run, store: Path, snapshot: Path, part: str, what: str
) -> None:
    run("capture", "--from", snapshot, "--keep", "st")
    bad, says = BAD_INDEX[what]
    path = files(store, f"index/{part}")[0]
    path.write_bytes(bad(path.read_bytes()))
    done = run("survey", "--from", "st")
    assert done.status in (1, 3) and says in done.err and "--index" in done.err
    assert run("keep", "st", "--index").status == 0 and "26 readings" in run("keep", "st").out


def test_tables_of_others_in_the_index_are_left_alone(run: Run, store: Path) -> None:
    other = store / "index/services/mine.parquet"
    pq.write_table(pa.table({"a": [1]}), other)
    done = run("survey", "--from", "st")
    assert "is no index of readings: left out" in done.err and "13 hosts" in done.out
    newer = store / "index/hosts/newer.parquet"
    writer = pq.ParquetWriter(newer, pa.schema([("a", pa.int32())]))
    writer.add_key_value_metadata({"format": "hollow-chain/readings-index", "version": "7"})
    writer.close()
    assert "of version 7; this program reads up to 1: update it" in run("survey", "--from", "st").err


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="no pipes in folders here")
def test_what_others_have_put_into_a_store_is_neither_followed_nor_waited_for_nor_removed(
    run: Run, store: Path, snapshot: Path, tmp_path: Path
) -> None:
    mine, precious = store / "index/hosts/mine.parquet", tmp_path / "precious"
    pq.write_table(pa.table({"a": [1]}), mine)
    precious.mkdir()
    (precious / "kept.parquet").write_bytes(b"kept")
    pipe = files(store, "index/hosts")[0].with_name("20260304T060000.000000Z-00000000.parquet")
    os.mkfifo(pipe)
    os.mkfifo(store / "rounds" / pipe.with_suffix("").with_suffix(".000000Z-00000000.json.gz").name)
    done = run("keep", "st", "--index")
    assert done.status == 3 and "it is no file" in done.err and mine.is_file() and not pipe.exists()
    moved = store / "index/services"
    moved.rename(store / "services")
    moved.symlink_to(precious)
    again = run("keep", "st", "--index")
    if os.geteuid() == 0:
        assert again.status == 3 and "leads elsewhere: nothing is written there as root" in again.err
        assert [path.name for path in precious.iterdir()] == ["kept.parquet"]
        store.chmod(0o777)
        assert "others than root can write into" in run("capture", "--from", snapshot, "--keep", "st").err


def test_what_is_made_is_its_owners_alone_whatever_the_umask(run: Run, snapshot: Path, tmp_path: Path) -> None:
    before = os.umask(0)
    try:
        for _ in range(2):
            assert run("capture", "--from", snapshot, "--keep", "deep/down/st").status == 0
    finally:
        os.umask(before)
    folders = [path for path in (tmp_path / "deep").rglob("*") if path.is_dir()]
    assert len(folders) > 15 and all(path.stat().st_mode & 0o077 == 0 for path in folders)


def test_two_who_keep_at_once_lose_nothing(tmp_path: Path, store: Path, snapshot: Path) -> None:
    call = [*PROGRAM, "capture", "--from", str(snapshot), "--keep", "st"]
    both = [subprocess.Popen(call, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE) for _ in range(3)]
    for one in both:
        out, err = one.communicate(timeout=120)
        assert one.returncode == 0 and b"13 readings" in out, err
    index = Index(open_store(str(store)))
    assert len(index.rounds()) == 4 and index.hosts().num_rows == 52 and not index.troubles


@pytest.fixture()
def small_disk(tmp_path: Path) -> Iterator[Path]:
    place = tmp_path / "small"
    place.mkdir()
    made = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=48k", "tmpfs", str(place)], capture_output=True)
    if made.returncode:
        pytest.skip("no file system can be mounted here")
    yield place
    subprocess.run(["umount", "-l", str(place)], check=True)


@pytest.mark.skipif(sys.platform != "linux", reason="tmpfs(5)")
def test_a_full_disk_costs_what_did_not_fit_and_nothing_else(run: Run, small_disk: Path, snapshot: Path) -> None:
    done = run("capture", "--from", snapshot, "--keep", "small/st")
    assert done.status == 3 and done.err.count("\n") == 1, done.err
    assert "of 13 readings were kept, the rest not" in done.err and "no space left on device" in done.err
    kept = len(files(small_disk / "st", "readings"))
    assert 0 < kept < 13 and not [path for path in files(small_disk) if path.name.endswith(".part")]
    subprocess.run(["mount", "-o", "remount,size=4m", str(small_disk)], check=True)
    again = run("keep", "small/st", "--index", "--json")
    assert again.status == 3 and again.json["readings"] == kept
    assert again.err.count("never written, or gone") == len(again.said) == 1


def test_clocks_that_go_back_and_machines_of_one_name_are_said(run: Run, store: Path, tmp_path: Path) -> None:
    found = made_fleet(12)[0].snapshot
    for number, host in enumerate(found.hosts):
        host.machine = f"m{number}"
    found.hosts[7].machine = "m6"
    (tmp_path / "one.json").write_bytes(encode(found))
    doubled = run("capture", "--from", "one.json", "--keep", "st")
    assert "quay-0007 and quay-0006 are one machine" in doubled.err and doubled.status == 0
    found.hosts[2].machine = "two"
    assert found.hosts[3].read_at is not None
    found.hosts[3].read_at -= timedelta(hours=3)
    (tmp_path / "two.json").write_bytes(encode(found))
    done = run("capture", "--from", "two.json", "--keep", "st")
    assert "quay-0003: its clock went back by 3:00:00" in done.err and done.status == 0
    assert "quay-0002: another machine than at its last reading bears this name" in done.err
    keep_round(
        open_store(str(store)), found, {}, datetime.now(UTC) + timedelta(days=1), spreader(), lambda done, of: None
    )
    assert "which is later than now" in run("capture", "--from", "two.json", "--keep", "st").err


def test_hosts_that_were_not_read_are_kept_as_such(run: Run, store: Path) -> None:
    found = made_fleet(2)[0].snapshot
    found.unreached = [UnreachedHost(name="quay-0099", why="no answer", tried_at=datetime(2026, 3, 4, tzinfo=UTC))]
    keep_round(
        open_store(str(store)), found, {"quay-0099": ["north"]}, datetime.now(UTC), spreader(), lambda done, of: None
    )
    told = next(one for one in run("survey", "--from", "st", "--json").json["hosts"] if one["host"] == "quay-0099")
    assert (told["stands"], told["why"], told["groups"]) == ("not read", "no answer", ["north"])


def test_a_store_elsewhere_is_as_good(run: Run, tmp_path: Path, snapshot: Path) -> None:
    address = f"file://{tmp_path}/far"
    assert run("capture", "--from", snapshot, "--keep", address).status == 0
    assert "13 readings of 13 hosts" in run("keep", address).out
    far = run("survey", "--from", address, "--json").json
    run("capture", "--from", snapshot, "--keep", "near")
    assert far["causes"] == run("survey", "--from", "near", "--json").json["causes"]
    assert run("drift", "quay-0001", "--from", address, "--against", "quay-0002").status in (0, 1)
    assert not [path for path in files(tmp_path / "far") if path.name.endswith(".part")]


def test_hosts_whose_names_differ_in_capitals_alone_are_two(run: Run, tmp_path: Path) -> None:
    found = made_fleet(2)[0].snapshot
    found.hosts[1].name = found.hosts[0].name.upper()
    (tmp_path / "two.json").write_bytes(encode(found))
    run("capture", "--from", "two.json", "--keep", "st")
    assert len({path.parent.name.casefold() for path in files(tmp_path / "st", "readings")}) == 3
    assert len(run("survey", "--from", "st", "--json").json["hosts"]) == 3


def queries() -> list[str]:
    return re.findall(r"```sql\n(.+?)```", DOCS.read_text(), re.DOTALL)


@pytest.mark.parametrize("query", queries(), ids=[query.splitlines()[0][:40] for query in queries()])
def test_the_examples_of_the_documentation_run(store: Path, query: str) -> None:
    import duckdb

    found = duckdb.sql(query.replace("readings/index", f"{store}/index")).fetchall()
    assert found and len(queries()) == 3


@pytest.mark.parametrize("name", ("quay", "Kai 7", "../../etc", ".hidden", "a/b\\c:d", "\u6e2f", "x" * 300, "nul\0"))
def test_names_of_hosts_lead_nowhere_else(name: str) -> None:
    made = folder_of(name)
    assert re.fullmatch(r"[A-Za-z0-9_%-][A-Za-z0-9_.%-]{0,99}", made) and made != ".."


WRONG = [
    (["capture", "--keep", "st", "--out", "x.json"], "leave out --out and --compress"),
    (["capture", "--on", "tcp://127.0.0.1:1"], "name a store with --keep"),
    (["capture", "--keep", "file"], "is a file, not a store of readings"),
    (["capture", "--keep", "full"], "holds something else than readings"),
    (["capture", "--keep", "newer"], "newer is of version 9; this program reads up to 1: update it"),
    (["capture", "--keep", "other"], "is of the format 'x/y', not 'hollow-chain/readings'"),
    (["capture", "--keep", "broken"], "store.json is damaged"),
    (["capture", "--keep", "nosuch://x/y"], "nosuch"),
    (["keep", "nowhere"], "is no store of readings; 'hollow-chain capture --keep nowhere' makes one"),
    (["keep", "st", "--thin", "soon"], "--thin takes"),
    (["keep", "st", "--index", "--on", "localhost"], "--on takes the address of a scheduler"),
]


@pytest.mark.parametrize(("words", "says"), WRONG, ids=[" ".join(words) for words, _ in WRONG])
def test_wrong_calls_get_one_line(
    run: Run, store: Path, tmp_path: Path, snapshot: Path, words: list[str], says: str
) -> None:
    (tmp_path / "file").write_text("x")
    for name, text in {
        "newer": {"format": "hollow-chain/readings", "version": 9},
        "other": {"format": "x/y", "version": 1},
    }.items():
        (tmp_path / name).mkdir()
        (tmp_path / name / "store.json").write_text(json.dumps(text))
    for name in ("full", "broken"):
        (tmp_path / name).mkdir()
        (tmp_path / name / ("store.json" if name == "broken" else "other.txt")).write_text("{")
    done = run(*words, *(["--from", snapshot] if words[0] == "capture" else []))
    assert run("capture", "--keep", "never", "--from", "nowhere.json").status == 3 and not (tmp_path / "never").exists()
    assert done.status in (2, 3) and says in done.err and done.err.count("\n") == 1, done.err

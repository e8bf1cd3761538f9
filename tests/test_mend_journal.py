"""The journal of mends: a record is there as a whole or not at all; and what a mend that did not hold has opened is closed again."""

from __future__ import annotations

import os
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hollow_chain.causes.acts import Act, allow, mode, remove, start
from hollow_chain.facts import Host, Service, Snapshot, snapshot
from hollow_chain.facts.host import File
from hollow_chain.facts.runs import LastRun
from hollow_chain.mend import journal as journals
from hollow_chain.mend.carrying import Carrier
from hollow_chain.mend.hands import NotDone
from hollow_chain.mend.journal import FORMAT, VERSION, MendJournal, Record, begin, line_of, read
from hollow_chain.mend.plan import Step
from hollow_chain.trouble import Trouble

NOON = datetime(2026, 3, 4, 12, 0, tzinfo=UTC)


def head(**more: Any) -> Record:
    return Record("begun", NOON, FORMAT, VERSION, id="m", host="quay", machine="m1", target="a.service", **more)


def journal(folder: Path, *notes: str) -> MendJournal:
    made = begin(folder, head())
    for what in notes:
        made.note(what)  # type: ignore[arg-type]
    return made


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_wherever_it_is_cut_off_the_whole_records_are_there(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    made = journal(tmp_path_factory.mktemp("mends"), "before", "after", "before")
    whole = made.path.read_bytes()
    ends = [at + 1 for at, byte in enumerate(whole) if byte == 10]
    # A moment takes a few letters more or less: what is drawn must not hang on that.
    cut = ends[0] + data.draw(st.integers(0, 10_000)) * (len(whole) - ends[0]) // 10_000
    made.path.write_bytes(whole[:cut] + data.draw(st.sampled_from([b"", b"\0" * 30, b'{"length":9', b"}"])))
    found = read(made.path)
    assert len(found.records) == sum(end <= cut for end in ends) and found.whole == max(
        end for end in ends if end <= cut
    )
    assert found.torn == (made.path.stat().st_size > found.whole)
    found.note("undoing")  # what was torn is gone, and the next record stands on its own
    again = read(made.path)
    assert not again.torn and len(again.records) == len(found.records) and again.records[-1].what == "undoing"


def test_a_record_cut_behind_a_brace_is_no_record(tmp_path: Path) -> None:
    made = journal(tmp_path)
    data = line_of(Record("before", NOON, kept={"paths": {"/x": {"kind": "file"}}}))
    with made.path.open("ab") as file:
        file.write(data[: data.index(b"}") + 1])
    assert read(made.path).torn and len(read(made.path).records) == 1


def test_damage_in_the_middle_is_not_guessed_at(tmp_path: Path) -> None:
    made = journal(tmp_path, "before", "after")
    lines = made.path.read_bytes().splitlines(keepends=True)
    made.path.write_bytes(lines[0] + lines[1].replace(b"before", b"closed") + lines[2])
    with pytest.raises(Trouble, match="line 2: the record is damaged, and others follow it"):
        read(made.path)
    with pytest.raises(Trouble, match="move it away"):
        begin(tmp_path, head())


def test_a_journal_of_the_first_version_is_still_read(tmp_path: Path) -> None:
    old = [
        msgspec.json.encode(msgspec.structs.replace(head(), version=1)),
        msgspec.json.encode(Record("before", NOON, kept={"a": 1})),
    ]
    (tmp_path / "m.jsonl").write_bytes(b"\n".join(old) + b"\n")
    found = read(tmp_path / "m.jsonl")
    assert found.standing.begun == (0, 0, {"a": 1})
    found.note("undone")
    assert read(found.path).standing.begun is None


FULL = """
import resource, signal, sys
from pathlib import Path
from tests.test_mend_journal import journal
from hollow_chain.mend.journal import read
from hollow_chain.trouble import Trouble
made = journal(Path(sys.argv[1]))
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
room = made.path.stat().st_size + int(sys.argv[2])
resource.setrlimit(resource.RLIMIT_FSIZE, (room, room))
try:
    made.note("before", kept={"x": "y" * 400})
    print("written")
except Trouble as trouble:
    print(trouble)
found = read(made.path)
print(len(found.records), found.torn, len(made.records))
"""


@pytest.mark.parametrize(("room", "records"), [(0, 1), (1, 1), (200, 1), (4000, 2)])
def test_a_full_disk_stops_before_the_step(room: int, records: int, tmp_path: Path) -> None:
    """A file that may grow by so many bytes only is written like one on a disk that is full: first short, then not at all."""
    call = [sys.executable, "-c", FULL, str(tmp_path), str(room)]
    done = subprocess.run(
        call, capture_output=True, text=True, cwd=Path(__file__).parents[1], check=True
    ).stdout.splitlines()
    assert done[1] == f"{records} False {records}" and (done[0] == "written") == (records == 2)


def test_short_writes_are_gone_on_with(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    whole = os.pwrite
    monkeypatch.setattr(journals.os, "pwrite", lambda handle, data, at: whole(handle, data[:7], at))
    assert len(read(journal(tmp_path, "before", "after").path).records) == 3


def test_a_first_record_that_could_not_be_written_leaves_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*_: object) -> int:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(journals.os, "pwrite", full)
    with pytest.raises(Trouble, match="no space left"):
        begin(tmp_path, head())
    assert list(tmp_path.glob("*.jsonl")) == []


class NoteHands:
    """Hands that note what they are asked to do, on a made-up host."""

    host, machine, named = "quay", "m1", ""

    def __init__(self, place: Path, fails: str = "", up_after: bool = False) -> None:
        self.place, self.fails, self.up_after = place, fails, up_after
        self.did: list[str] = []

    def lacks(self, steps: list[Step]) -> list[str]:
        return []

    def facts(self, with_claims: bool = False, with_packages: bool = False) -> Snapshot:
        up = self.up_after and any(one.startswith("do start") for one in self.did)
        last = LastRun(result="success" if up else "exit-code", exit_status=None if up else 1, started_at=NOON)
        service = Service(name="a.service", state="running" if up else "failed", startup="automatic", last=last)
        return snapshot([Host(name="quay", read_at=NOON, boot_at=NOON, services=[service])])

    def look(self, path: str) -> File | None:
        done = [one for one in self.did if path in one]
        changed = bool(done) and done[-1].startswith("do")
        if path.endswith(".pid"):
            return File(path=path, exists=not changed)
        return File(path=path, mode="0640" if changed else "0600")

    def keep(self, step: Step, mend: str, number: str) -> dict[str, Any]:
        return {"of": step.does}

    def do(self, step: Step, kept: dict[str, Any]) -> None:
        self.did.append(f"do {step.does}")
        if self.fails and self.fails in step.does:
            raise NotDone("it could not be done")

    def settle(self, step: Step, kept: dict[str, Any]) -> None:
        self.did.append(f"settle {step.does}")

    def take_back(self, step: Step, kept: dict[str, Any]) -> None:
        self.did.append(f"back {step.does}")

    def let_pass(self, seconds: float) -> None:
        pass


def step(act: Act, old: str, new: str) -> Step:
    return Step("quay", f"{act.verb} {act.path or act.service}", act=act, old=old, new=new)


STEPS = [
    step(mode("/srv/a", 0o640), "0600", "0640"),
    step(remove("/run/a.pid"), "a file", "not there"),
    step(start("a.service"), "failed", "running"),
]


def carried(hands: NoteHands, steps: list[Step]) -> bool:
    made = begin(hands.place, head(tries=[steps], read_at=NOON))
    outcome = Carrier(hands, lambda _: None, 0.0)._go_on(made, 0)
    return outcome.well


def test_what_was_opened_is_closed_where_it_did_not_help(tmp_path: Path) -> None:
    hands = NoteHands(tmp_path)
    assert not carried(hands, STEPS)
    assert hands.did[-2:] == ["back remove /run/a.pid", "back mode /srv/a"]
    assert not any(one.startswith("settle") for one in hands.did)


def test_a_step_on_a_file_that_fails_is_taken_back_at_once(tmp_path: Path) -> None:
    hands = NoteHands(tmp_path, fails="remove")
    assert not carried(hands, STEPS)
    assert hands.did == ["do mode /srv/a", "do remove /run/a.pid", "back remove /run/a.pid", "back mode /srv/a"]


def test_what_was_kept_for_the_case_is_let_go_once_it_has_held(tmp_path: Path) -> None:
    hands = NoteHands(tmp_path, up_after=True)
    assert carried(hands, STEPS)
    assert [one for one in hands.did if one.startswith("settle")] == [f"settle {one.does}" for one in STEPS]


def test_a_right_in_the_definition_is_taken_back_too(tmp_path: Path) -> None:
    hands = NoteHands(tmp_path, fails="start")
    assert not carried(
        hands, [step(allow("a.service", "ReadWritePaths=/srv/a"), "without /srv/a", "with /srv/a"), STEPS[2]]
    )
    assert hands.did == ["do allow a.service", "back allow a.service"]

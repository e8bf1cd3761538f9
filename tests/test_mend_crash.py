"""A mend that is cut off at any moment can be taken back, and can be gone on with: nothing is lost, nothing is left half done."""

from __future__ import annotations

import os
import shutil
import signal
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from hollow_chain.mend.journal import MendJournal, Record, read, standing_of
from tests.conftest import Run
from tests.forking import Parent
from tests.power_cut import PASSED
from tests.test_mend_lab import definitions, host, mend, running

__all__ = ["host"]
Cut = Callable[..., int]
MEND = "mend LaneCount --apply --yes --json --from host --runs 60"
MOST = 60


@pytest.fixture()
def cut(tmp_path: Path, parent: Parent) -> Cut:
    """Call the program and cut it off at a moment; its exit status."""

    def call(moment: int, *words: str) -> int:
        given = [str(moment), *(words or MEND.split())]
        env = {**os.environ, "HOLLOW_CHAIN_CASES": str(tmp_path / "cases.db")}
        return parent.call(given, tmp_path, env, entry="tests.power_cut")[0]

    return call


def whole(path: Path) -> tuple[Any, set[str]]:
    return definitions(path), running(path)


@pytest.fixture()
def broken(run: Run, host: Path) -> Path:
    """A host whose mend takes two steps: one that sets, one that starts."""
    run("lab", "stop", "host", "LaneCount")
    run("lab", "startup", "host", "LaneCount", "disabled")
    return host


def test_at_every_moment(run: Run, cut: Cut, tmp_path: Path, broken: Path) -> None:
    before = whole(broken)
    shutil.copytree(tmp_path / "host", tmp_path / "kept")
    moment = 0
    while (status := cut(moment)) != PASSED:
        assert status == -signal.SIGKILL, (moment, status)
        shutil.rmtree(tmp_path / "cut", ignore_errors=True)
        shutil.copytree(tmp_path / "host", tmp_path / "cut")
        for first in (("--undo", "--yes"), ("--resume",)):
            back_to(tmp_path, "cut")
            known = list((tmp_path / "host" / "mends").glob("*.jsonl"))
            finished = bool(known) and bool(read(known[0]).standing.closed)
            done = mend(run, tmp_path, *first)
            if not known or ("--resume" in first and finished):
                assert done.status == 2, (moment, first)  # nothing was begun, or all was done
                assert known or whole(broken) == before
            else:
                assert done.status == 0, (moment, first, done.err, done.out)
            if "--resume" in first and known:
                assert "LaneCount" in running(broken), moment
                assert mend(run, tmp_path, "--undo", "--yes").status == 0
            assert whole(broken) == before, (moment, first)
        back_to(tmp_path, "kept")
        moment += 1
        assert moment < MOST
    assert moment >= 12
    assert "LaneCount" in running(broken)


def back_to(tmp_path: Path, name: str) -> None:
    shutil.rmtree(tmp_path / "host")
    shutil.copytree(tmp_path / name, tmp_path / "host")


def test_an_interrupted_mend_bars_the_next_one(run: Run, cut: Cut, tmp_path: Path, broken: Path) -> None:
    assert cut(4) == -signal.SIGKILL
    done = mend(run, tmp_path, "LaneCount", "--apply", "--yes")
    assert done.status == 2 and "was interrupted" in done.err and "--resume" in done.err and "--undo" in done.err
    assert mend(run, tmp_path, "--undo", "--yes").status == 0
    assert mend(run, tmp_path, "LaneCount", "--apply", "--yes").status == 0


def test_an_undo_that_is_cut_off_is_gone_on_with(run: Run, cut: Cut, tmp_path: Path, broken: Path) -> None:
    before = whole(broken)
    assert mend(run, tmp_path, "LaneCount", "--apply", "--yes").status == 0
    assert cut(3, *["mend", "--undo", "--yes", "--from", "host"]) == -signal.SIGKILL
    done = mend(run, tmp_path, "--undo", "--yes")
    assert done.status == 0
    assert whole(broken) == before


def records(path: Path) -> MendJournal:
    return read(next(path.glob("*.jsonl")))


def test_a_record_that_was_cut_off_announced_nothing(run: Run, tmp_path: Path, broken: Path) -> None:
    before = whole(broken)
    assert mend(run, tmp_path, "LaneCount", "--apply", "--yes").status == 0
    path = next((tmp_path / "host" / "mends").glob("*.jsonl"))
    lines = path.read_bytes().splitlines(keepends=True)
    path.write_bytes(b"".join(lines[:-1]) + lines[-1][:20])
    assert records(path.parent).standing.closed == ""
    assert mend(run, tmp_path, "--resume").status == 0
    assert len(records(path.parent).records) == len(lines)
    assert mend(run, tmp_path, "--undo", "--yes").status == 0 and whole(broken) == before


DAMAGE = [
    (b"", "not a mend"),
    (b"{}\n", "line 1"),
    (b'{"what":"closed","at":"2026-03-04T05:00:00Z"}\n', "not a mend"),
    (b"\xff\xfe}\n", "line 1"),
]


@pytest.mark.parametrize(("content", "said"), DAMAGE, ids=["empty", "no record", "no head", "no text"])
def test_a_damaged_journal_is_told_and_nothing_is_done(
    content: bytes, said: str, run: Run, tmp_path: Path, broken: Path
) -> None:
    (tmp_path / "host" / "mends").mkdir()
    (tmp_path / "host" / "mends" / "x.jsonl").write_bytes(content)
    before = broken.read_bytes()
    done = mend(run, tmp_path, "--undo", "--yes", "x")
    assert done.status == 3 and said in done.err and broken.read_bytes() == before


def record(what: str, step: int = 0, **more: Any) -> Record:
    return Record(what=what, at=None, step=step, **more)  # type: ignore[arg-type]


def test_how_far_a_mend_has_come_follows_from_its_records() -> None:
    begun = record("begun")
    assert standing_of([begun, record("before")]).begun == (0, 0, {})
    done = standing_of([begun, record("before"), record("after"), record("before", 1, kept={"up": True})])
    assert [one[1] for one in done.done] == [0] and done.begun == (0, 1, {"up": True})
    skipped = standing_of([begun, record("before"), record("after", skipped=True)])
    assert not skipped.done and skipped.begun is None
    undone = standing_of([begun, record("before"), record("after"), record("undoing"), record("undone")])
    assert undone.undoing and not undone.done
    assert standing_of([begun, record("closed", how="held")]).closed == "held"

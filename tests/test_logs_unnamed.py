"""Log files that nothing names: which are found, by place, name and moment, and which are left alone."""

from __future__ import annotations

import os
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Program, Service
from hollow_chain.reach.here import here
from hollow_chain.sources import logs_unnamed
from hollow_chain.sources.evidence_files import EvidenceReader

STARTED = datetime(2026, 5, 4, 6, 0, tzinfo=UTC)
ENDED = STARTED + timedelta(seconds=2)


def service(program: str, name: str = "ferry-desk.service", **more: object) -> Service:
    return Service(
        name=name, kind="service", state="failed", last=LastRun(started_at=STARTED, ended_at=ENDED),
        program=Program(path=program, arguments=[program, *more.pop("arguments", ())], **more),  # type: ignore[arg-type, misc]
    )  # fmt: skip


def written(path: Path, seconds: float = 1.0) -> str:
    """A file that was last written so many seconds after the start."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text("crew list unreadable\n")
    os.utime(path, (0, (STARTED + timedelta(seconds=seconds)).timestamp()))
    return str(path)


def found(of: Service, *others: Service) -> list[str]:
    with EvidenceReader(here()) as reader:
        return logs_unnamed.written_in_last_run(of, logs_unnamed.own_names([of, *others]), reader)


@pytest.fixture(autouse=True)
def log_root(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    root = tmp_path / "log"
    root.mkdir()
    monkeypatch.setattr(logs_unnamed, "_LOGS", str(root))
    monkeypatch.setattr(logs_unnamed, "_BY_NAME", (str(tmp_path / "lib"),))
    return root


@pytest.mark.parametrize("place", ["desk.log", "logs/today", "log/desk.txt", "error-log.txt", "desk.err"])
def test_beside_the_program(tmp_path: Path, place: str) -> None:
    path = written(tmp_path / "ferry" / place)
    assert found(service(f"{tmp_path}/ferry/desk")) == [path]
    assert found(service("/usr/bin/python3", arguments=[f"{tmp_path}/ferry/desk.py"])) == [path]
    assert found(service(f"{tmp_path}/ferry/bin/desk")) == [path]
    assert found(service("/usr/bin/desk", folder=f"{tmp_path}/ferry")) == [path]
    assert found(service("/usr/bin/desk", own_folders=[f"{tmp_path}/ferry"])) == [path]
    assert found(service("/usr/bin/desk", folder=f"{tmp_path}/ferry", root="/srv/own")) == []


def test_by_the_name_of_the_service(tmp_path: Path) -> None:
    path = written(tmp_path / "lib/ferry-desk/logs/one")
    assert found(service("/usr/bin/desk")) == [path]


@pytest.mark.parametrize("place", ["ferry.log", "ferry/desk.txt", "ferry_desk/out", "Ferry/desk"])
def test_where_logs_lie_by_its_first_word(log_root: Path, place: str) -> None:
    path = written(log_root / place)
    assert found(service("/usr/bin/x")) == [path]


@pytest.mark.parametrize("place", ["harbor.log", "x/ferry.log", "ferry.log.gz", "ferryman/desk.log"])
def test_what_bears_another_name_is_left_alone(log_root: Path, place: str) -> None:
    written(log_root / place)
    assert found(service("/usr/bin/x")) == []


def test_the_folder_of_another_service_is_left_alone(log_root: Path) -> None:
    path = written(log_root / "ferry/desk.log")
    assert found(service("/usr/bin/x"), service("/usr/bin/y", "ferry.service")) == []
    assert found(service("/usr/bin/x", "ferry.service"), service("/usr/bin/y")) == [path]


@pytest.mark.parametrize(("seconds", "is_of_it"), [(-5, False), (-0.5, True), (2, True), (4, True), (60, False)])
def test_only_what_was_written_while_it_ran(tmp_path: Path, seconds: float, is_of_it: bool) -> None:
    path = written(tmp_path / "ferry/desk.log", seconds)
    assert found(service(f"{tmp_path}/ferry/desk")) == ([path] if is_of_it else [])


def test_the_latest_first_and_nothing_of_shared_folders(tmp_path: Path) -> None:
    old, new = written(tmp_path / "ferry/a.log", 0.5), written(tmp_path / "ferry/b.log", 1.5)
    (tmp_path / "ferry/c.log").mkdir()
    written(tmp_path / "ferry/desk.conf")
    assert found(service(f"{tmp_path}/ferry/desk")) == [new, old]
    shared = service("/usr/bin/desk", arguments=["/etc/desk.conf", "/tmp/desk"], folder="/")
    assert not any(one in logs_unnamed._SHARED for one in logs_unnamed._own_folders(shared))
    assert found(Service(name="ferry-desk.service", kind="service")) == []

"""Logs of hosts that are not asked themselves: syslog, JSON lines, CSV; through the program and by form."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hollow_chain.sources.records import Columns, RecordError, read
from tests.conftest import Run

WRITTEN = datetime(2026, 3, 4, 6, 0, tzinfo=UTC)
HOSTS = {
    "quay": {
        "name": "quay",
        "read_at": "2026-03-04T06:12:09Z",
        "services": [
            {"name": "berthd.service", "state": "failed", "startup": "automatic", "program": {"path": "/opt/berthd"},
             "last": {"result": "exit-code", "exit_status": 1, "started_at": "2026-03-04T05:00:00Z"}},
        ],
        "accounts": [{"name": "stoker", "exists": False}],
    },
    "office": {
        "name": "office",
        "manager": "control-manager",
        "read_at": "2026-03-04T06:12:09Z",
        "services": [
            {"name": "TideSvc", "display_name": "Tide Tables", "state": "stopped", "startup": "automatic"},
            {"name": "Other", "display_name": "Other things", "state": "running", "startup": "automatic"},
        ],
    },
}  # fmt: skip
LOGS = {
    "syslog of RFC 5424": ("quay", '<27>1 2026-03-04T05:00:01Z quay berthd 71 - [a b="c\\"]"] can not find user "stoker"\n'),
    "syslog of RFC 3164": ("quay", "<27>Mar  4 05:00:01 quay berthd[71]: can not find user stoker\n"),
    "syslog without a priority": ("quay", "Mar  4 05:00:01 quay berthd: can not find user stoker\n"),
    "JSON lines": ("quay", 'half a line\n{"ts": 1772600401.5, "msg": "can not find user stoker", "app": "berthd"}\n{"broken\n'),
    "CSV": ("quay", "time;source;message\n2026-03-04 05:00:01;berthd;can not find user stoker\n"),
}  # fmt: skip


def facts(folder: Path, host: str) -> Path:
    path = folder / "facts.json"
    path.write_text(json.dumps({"format": "hollow-chain/snapshot", "version": 1, "hosts": [HOSTS[host]]}))
    return path


@pytest.mark.parametrize("form", LOGS)
def test_a_log_of_any_form_is_evidence(run: Run, tmp_path: Path, form: str) -> None:
    host, text = LOGS[form]
    text = text if form != "JSON lines" else text.partition("\n")[2]
    (tmp_path / "own.log").write_text(text)
    done = run("why", "berthd", "--from", facts(tmp_path, host), "--logs", "own.log", "--json")
    first = done.json["causes"][0]
    assert first["cause"] == "account-missing"
    assert "stoker" in first["says"]
    assert any(piece["source"] == "log own.log" for piece in first["evidence"])


def test_an_event_log_with_columns_of_its_own(run: Run, tmp_path: Path) -> None:
    (tmp_path / "events.csv").write_bytes(
        "\ufeffWhen,What,By\r\n03.03.2026 20:01:00,Other things came up.,Manager\r\n"
        '04.03.2026 05:00:31,"The Tide Tables service did not start: error 1069,\r\nlogon failed.",Manager\r\n'.encode(
            "utf-16"
        )
    )
    place = facts(tmp_path, "office")
    call = ("why", "TideSvc", "--from", place, "--logs", "events.csv", "--columns")
    done = run(*call, "at=When|%d.%m.%Y %H:%M:%S,text=What", "--json")
    assert done.json["causes"][0]["cause"] == "account-barred"
    wrong = run(*call, "at=Moment,text=What")
    assert wrong.status == 3
    assert "no column for Moment" in wrong.err
    assert "When, What, By" in wrong.err
    assert run(*call, "when=At").status == 2
    assert run("why", "TideSvc", "--from", place, "--columns", "at=When").status == 2


def test_a_capture_takes_logs_in_masked(run: Run, tmp_path: Path) -> None:
    (tmp_path / "own.log").write_text("Mar  4 05:00:01 quay berthd: password=herring refused\n")
    run("capture", "--from", facts(tmp_path, "quay"), "--logs", "own.log", "--out", "all.json")
    written = (tmp_path / "all.json").read_text()
    assert "refused" in written
    assert "herring" not in written


@pytest.mark.parametrize("data", [b"\x00\x01\x02", b"no form at all\n", b'{"a": 1}\n', b"time,text\n1,\n", b'a,b\n"'])
def test_what_is_no_log_gets_one_line(run: Run, tmp_path: Path, data: bytes) -> None:
    (tmp_path / "own.log").write_bytes(data)
    done = run("why", "berthd", "--from", facts(tmp_path, "quay"), "--logs", "own.log")
    assert done.status == 3
    assert done.err.count("\n") == 1
    assert "own.log" in done.err
    assert run("why", "berthd", "--from", tmp_path / "facts.json", "--logs", tmp_path).status == 3


def test_a_stamp_without_a_year_is_of_the_last_one_that_fits() -> None:
    new_year = datetime(2026, 1, 1, 0, 5, tzinfo=UTC)
    found = read(b"Dec 31 23:59:59 quay a: x\nJan  1 00:00:01 quay a: y\n", "log", Columns(), new_year)
    assert [record.event.at.year for record in found] == [2025, 2026]


@settings(max_examples=60, deadline=None)
@given(st.binary(max_size=300))
def test_no_bytes_do_harm(data: bytes) -> None:
    for head in (b"", b"{", b"time,text\n", b"<3>1 2026-03-04T05:00:01Z a b - - - "):
        try:
            read(head + data, "log", Columns(), WRITTEN)
        except RecordError as error:
            assert str(error)

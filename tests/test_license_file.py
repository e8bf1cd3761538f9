"""License files: what is signed, what may be edited, and all that can be wrong with one, through the program."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hollow_chain.facts.host import Adapter, Firewall, Host
from hollow_chain.license.check import check
from hollow_chain.license.compare import covers, difference
from hollow_chain.license.places import places
from tests.conftest import Run

NOW = datetime(2026, 3, 4, 6, 0, tzinfo=UTC)
ID = "02:54:46:10:20:08"
FACTS = {
    "format": "hollow-chain/snapshot", "version": 1,
    "hosts": [
        {"name": "office-01", "manager": "control-manager", "read_at": "2026-03-04T06:00:00Z",
         "adapters": [{"name": "Ethernet", "hardware_address": ID}, {"name": "Wireless", "hardware_address": "02:54:46:10:20:09", "up": False}],
         "limits": {"reserved_ports": ["7000-7010"]},
         "files": [{"path": "D:/maker.exe", "exists": False}],
         "listeners": [{"port": 7300, "program": "web", "service": "Web"}],
         "firewalls": [{"name": "office wall", "passes_by_default": False}]},
        {"name": "mole", "read_at": "2026-03-04T06:00:00Z", "adapters": [{"name": "eth0", "hardware_address": "02:54:46:10:77:01"}]},
    ],
}  # fmt: skip
TEXT = f"""format = "hollow-chain/license"
version = 1

[server]
host = "office-01"
host_ids = ["{ID}"]
port = 7171

[[daemon]]
name = "chartmaker"
program = "D:/chart.exe"
port = 7172
key = ""

[[entitlement]]
daemon = "chartmaker"
product = "voyage-suite"
feature = "routing"
version = "7.2"
seats = 3
from = 2026-01-01
until = 2026-12-31
signature = ""

[[entitlement]]
daemon = "chartmaker"
product = "voyage-suite"
seats = 1
signature = ""
"""


@pytest.fixture()
def signed(run: Run, tmp_path: Path) -> Path:
    path = tmp_path / "suite.toml"
    path.write_text(TEXT)
    (tmp_path / "facts.json").write_text(json.dumps(FACTS))
    assert run("license", "sign", path, "--key", tmp_path / "key", "--daemon", "chartmaker").status == 0
    return path


def looked(run: Run, path: Path, *more: object) -> dict[str, Any]:
    done = run("license", "check", path, *more, "--from", path.parent / "facts.json", "--host", "office-01", "--json")
    assert done.status == (0 if done.json["right"] else 1)
    return done.json


def found(document: dict[str, Any]) -> dict[str, dict[str, Any]]:
    return {p["problem"]: p for p in document["problems"]}


def test_a_right_file_is_right(run: Run, signed: Path) -> None:
    document = looked(run, signed)
    assert document["right"]
    assert document["problems"] == []
    assert document["entitlements"] == ["voyage-suite/routing@7.2", "voyage-suite"]
    text = run("license", "check", signed, "--from", signed.parent / "facts.json", "--host", "office-01").out
    assert "0 wrong, 0 noted, 2 entitlements hold" in text


# What may be edited stays signed; what may not does not.
EDITS = {
    'host = "office-01"': ('host = "office-01.ternholm.example"', None),
    "port = 7171": ("port = 7181", None),
    "port = 7172": ("port = 7182", None),
    "D:/chart.exe": ("E:/chart.exe", None),
    "seats = 3": ("seats = 30", "signature"),
    "until = 2026-12-31": ("until = 2036-12-31", "signature"),
    'version = "7.2"': ('version = "9.9"', "signature"),
    'feature = "routing"': ('feature = "tides"', "signature"),
    f'"{ID}"': (f'"{ID}", "02:54:46:10:20:99"', "signature"),
}


@pytest.mark.parametrize("before", EDITS)
def test_what_may_be_edited_and_what_may_not(run: Run, signed: Path, before: str) -> None:
    after, problem = EDITS[before]
    signed.write_text(signed.read_text().replace(before, after, 1))
    document = looked(run, signed)
    wrong = [p for p in document["problems"] if not p["warning"]]
    if problem is None:
        assert wrong == []
    else:
        assert {p["problem"] for p in wrong} == {problem}
        assert wrong[0]["cause"] == "license-altered"
        assert wrong[0]["mend"] == "needs a new file from the publisher"
        assert wrong[0]["line"] > 1


WRONGS = {
    "another host": ('host = "office-01"', 'host = "pier"', "host", "made out for the host 'pier'"),
    "another case": ('host = "office-01"', 'host = "Office-01"', "host", "upper and lower case only"),
    "swapped digits": (f'"{ID}"', '"02:54:46:10:02:08"', "host-id", "two digits swapped"),
    "one digit": (f'"{ID}"', '"02:54:46:10:20:07"', "host-id", "one digit wrong"),
    "another's": (f'"{ID}"', '"02:54:46:10:77:01"', "host-id", "is that of mole (adapter eth0)"),
    "an adapter that is down": (f'"{ID}"', '"02-54-46-10-20-09"', "host-id", "that one is down"),
    "no address": (f'"{ID}"', '"herring"', "host-id", "no hardware address"),
    "port too high": ("port = 7171", "port = 71710", "port", "from 1 to 65535"),
    "port negative": ("port = 7171", "port = -1", "port", "from 1 to 65535"),
    "port kept": ("port = 7171", "port = 7005", "port", "kept by the system (7000-7010)"),
    "port held": ("port = 7172", "port = 7300", "port", "held by Web"),
    "port twice": ("port = 7172", "port = 7171", "duplicate", "is that of the server too"),
    "free choice": ("port = 7172", 'port = "any"', "port", "office wall passes only ports"),
    "program gone": ("D:/chart.exe", "D:/maker.exe", "program", "is not there"),
    "misspelled": ("program =", "progam =", "unknown-key", "'program' may be meant"),
    "missing": ('product = "voyage-suite"\nfeature', "feature", "missing", "product is missing in [[entitlement]] number 1"),
    "wrong type": ("seats = 3", 'seats = "three"', "wrong-type", "seats is not a whole number"),
    "no such publisher": ('daemon = "chartmaker"\nproduct = "voyage-suite"\nfeature', 'daemon = "maker"\nproduct = "voyage-suite"\nfeature',
                          "daemon", "no [[daemon]] of the name 'maker'"),
    "syntax": ("seats = 3", "seats = = 3", "syntax", "Invalid value"),
    "version": ("version = 1\n", "version = 2\n", "format", "version is 2"),
}  # fmt: skip


@pytest.mark.parametrize("name", WRONGS)
def test_each_thing_that_can_be_wrong(run: Run, signed: Path, name: str) -> None:
    before, after, problem, says = WRONGS[name]
    signed.write_text(signed.read_text().replace(before, after, 1))
    told = [p for p in looked(run, signed)["problems"] if p["problem"] == problem]
    assert any(says in p["says"] for p in told), told
    assert all(p["line"] >= 1 and p["column"] >= 1 for p in told)


def test_all_that_is_wrong_is_told_in_one_go_with_its_place(run: Run, signed: Path) -> None:
    text = (
        signed.read_text()
        .replace("seats = 3", "seats = 30")
        .replace("port = 7171", "port = 0")
        .replace("D:/chart.exe", "D:/maker.exe")
    )
    signed.write_text(text)
    told = found(looked(run, signed))
    lines = text.splitlines()
    assert set(told) == {"port", "program", "signature"}
    assert lines[told["port"]["line"] - 1] == "port = 0"
    assert lines[told["program"]["line"] - 1].startswith("program")
    assert lines[told["signature"]["line"] - 1].startswith("signature")


@pytest.mark.parametrize(
    ("days", "problem", "says"),
    [
        ("until = 2026-03-01", "expired", "3 days ago"),
        ("until = 2026-03-20", "expires-soon", "in 16 days"),
        ("from = 2026-04-01", "not-yet", "holds from 2026-04-01"),
        ("issued = 2026-05-01", "clock", "the clock was set back"),
        ("from = 2026-06-01\nuntil = 2026-05-01", "days", "before it begins"),
    ],
)
def test_days(run: Run, signed: Path, days: str, problem: str, says: str) -> None:
    text = signed.read_text().replace("from = 2026-01-01\nuntil = 2026-12-31", days)
    signed.write_text(text)
    run("license", "sign", signed, "--key", signed.parent / "key", "--daemon", "chartmaker")
    assert says in found(looked(run, signed))[problem]["says"]


def test_how_it_was_saved(run: Run, signed: Path) -> None:
    text = signed.read_text()
    signed.write_bytes(text.encode("utf-16"))
    assert "UTF-16" in found(looked(run, signed))["encoding"]["says"]
    signed.write_bytes(b"\xef\xbb\xbf" + text.encode())
    document = looked(run, signed)
    assert document["right"]
    assert "byte-order mark" in found(document)["encoding"]["says"]
    other = signed.with_name("suite.toml.txt")
    other.write_text(text)
    assert "an editor has added a second one" in found(looked(run, other))["misnamed"]["says"]
    assert "differs from" in found(looked(run, other, signed))["copies"]["says"]
    assert "copies" not in found(looked(run, other, other))


def test_bad_calls(run: Run, tmp_path: Path) -> None:
    assert run("license", "check", tmp_path / "none.toml").status == 3
    assert run("license", "check", tmp_path).status == 3
    assert run("license", "ask", "localhost:x").status == 2
    assert run("license", "ask", "localhost", "--want", ":0").status == 2
    assert run("license").status == 2
    closed = run("license", "ask", "localhost:1")
    assert closed.status == 1
    assert closed.err.count("\n") == 1


def test_near_misses_and_versions() -> None:
    assert difference("025446102008", "025446100208") == "two digits swapped"
    assert difference("025446102008", "125446102009") == "two digits wrong"
    assert difference("025446102008", "999999999999") == ""
    assert covers("7.2", "7.2.5") and covers("7.10", "7.9") and covers("", "9") and covers("7", "")
    assert not covers("7.2", "7.3") and not covers("7.9", "7.10")


def test_places_of_keys() -> None:
    known = places('a = 1\n[t]\n  b = """\nc = 2\n"""\nd = [\n1,\n]\n[[l]]\ne = 3\n[[l]]\ne = 4\n')
    assert known["a",] == (1, 1)
    assert known["t", "b"] == (3, 3)
    assert ("t", "c") not in known
    assert known["l", 1, "e"] == (12, 1)


HOST = Host(name="office-01", adapters=[Adapter(name="e", hardware_address=ID)], firewalls=[Firewall(name="w")])
KEYS = ["host", "port", "seats", "until", "name", "key", "host_ids", "signature", "daemon", "program"]
VALUES = [
    '""',
    "-1",
    "1e400",
    "9" * 20,
    "true",
    "[]",
    '[""]',
    "{}",
    "2026-01-01",
    "2026-01-01T00:00:00Z",
    '"\\u0000"',
    "nan",
]


@settings(max_examples=80, deadline=None)
@given(st.binary(max_size=400))
def test_no_bytes_do_harm(data: bytes) -> None:
    assert check(data, "x.toml", HOST, NOW).digest


@settings(max_examples=80, deadline=None)
@given(st.sampled_from(KEYS), st.sampled_from(VALUES))
def test_no_value_does_harm(key: str, value: str) -> None:
    import re

    text = re.sub(rf"(?m)^{key} = .*$", lambda _: f"{key} = {value}", TEXT)
    result = check(text.encode(), "x.toml", HOST, NOW)
    assert not result.right
    assert all(p.says and p.place.line >= 0 for p in result.problems)

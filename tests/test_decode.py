"""``decode``: numbers and messages in all their forms; and the same as evidence for ``why``."""

from __future__ import annotations

import errno
from pathlib import Path

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from hollow_chain.causes import catalogue, meanings
from tests.conftest import Run

FIRST = {
    "1053": ("1053", "start-timeout"),
    "1058": ("1058", "disabled"),
    "1067": ("1067", "exits-with-error"),
    "1068": ("1068", "disabled"),
    "1069": ("1069", "account-barred"),
    "1070": ("1070", "start-timeout"),
    "1072": ("1072", "reboot-due"),
    "1075": ("1075", "not-registered"),
    "0x41d": ("1053", "start-timeout"),
    "0x80070005": ("5 (from 0x80070005)", "access-denied"),
    "-2147024891": ("5 (from 0x80070005)", "access-denied"),
    "Error 1053: the service did not respond": ("1053", "start-timeout"),
    "0xC0000005": ("0xC0000005", "killed"),
    "-1073741819": ("0xC0000005", "killed"),
    "0xc0000135": ("126 (from 0xC0000135)", "path-missing"),
    "2148204801": ("0x800B0101", "certificate-expired"),
    "exited with code 0xE0434352": ("0xE0434352", "exits-with-error"),
    "%%-2146762495": ("0x800B0101", "certificate-expired"),
    "error 193": ("193", "wrong-program-format"),
    "10048": ("10048", "port-held"),
    "10061": ("10061", "listener-off"),
    "ECONNREFUSED": ("ECONNREFUSED (111)", "stopped"),
    "open /x: permission denied": ("EACCES (13)", "access-denied"),
    "bind() to 0.0.0.0:80 failed (98: Address already in use)": ("EADDRINUSE (98)", "port-held"),
    "[Errno 28] No space left on device": ("ENOSPC (28)", "disk-full"),
    "status=203/EXEC": ("203/EXEC", "program-missing"),
    "Main process exited, code=exited, status=217/USER": ("217/USER", "account-missing"),
    "226": ("226/NAMESPACE", "path-missing"),
    "exit status 78": ("78/CONFIG", "config-rejected"),
    "oom-kill": ("oom-kill", "killed-for-memory"),
    "Failed with result 'start-limit-hit'.": ("start-limit-hit", "crash-loop"),
    "code=killed, status=9/KILL": ("SIGKILL", "killed-for-memory"),
    "137": ("SIGKILL", "killed-for-memory"),
    "SIGSEGV": ("SIGSEGV", "killed"),
}


@pytest.mark.parametrize("words", FIRST)
def test_the_first_reading_is_the_one_that_is_meant(words: str) -> None:
    what, cause = FIRST[words]
    first = meanings.read(words)[0]
    assert (first.what, first.causes[0]) == (what, cause)


def test_everything_that_has_to_be_known_is_known() -> None:
    for number in (2, 3, 5, 14, 32, 112, 193, 1450, *range(1051, 1080), 10013, 10048, 10049, 10060, 10061):
        assert any(r.family == "control" for r in meanings.read(str(number))), number
    for name in (name for name in errno.errorcode.values() if not name.startswith("WSA")):
        assert meanings.read(name)[0].what.startswith(name)
    for number in (*range(200, 223), *range(224, 234), *range(235, 244), 245):
        assert any(r.family == "manager" for r in meanings.read(str(number))), number
    for number in range(64, 79):
        assert any(r.family == "program" for r in meanings.read(str(number))), number


def test_the_table_is_well_formed_and_names_causes_of_the_catalogue() -> None:
    table = yaml.safe_load((Path(meanings.__file__).parent / "meanings.yaml").read_text())
    later = {
        "limit-unit-slip", "boot-contention", "held-by-peer", "start-race", "listener-off", "path-blocked", "host-unreachable",
        "reboot-due",
    }  # fmt: skip
    known = {rule.cause for rule in catalogue()} | later
    sentences = table.pop("sentences")
    assert set(sentences) <= set(table["control"])
    stand_for = {number: entry["same_as"] for number, entry in table["system"].items() if "same_as" in entry}
    assert set(stand_for.values()) <= set(table["control"])
    table["system"] = {number: entry for number, entry in table["system"].items() if number not in stand_for}
    for entries in table.values():
        for key, entry in entries.items():
            assert set(entry) <= {"means", "causes", "mixed_up", "name", "of_others"}, key
            assert entry["means"].endswith("."), key
            assert set(entry["causes"]) <= known, key


@settings(max_examples=300, deadline=None)
@given(st.text(max_size=200) | st.integers().map(str))
def test_any_text_is_read_without_harm(text: str) -> None:
    for reading in meanings.read(text):
        assert 0 < reading.likely <= 1
    meanings.nearest(text)


def test_a_number_that_is_not_known_says_so_and_helps(run: Run) -> None:
    done = run("decode", "1085")
    assert done.status == 1
    assert "known" in done.out
    assert "1084" in done.out
    assert run("decode", "-2147024891").status == 0
    assert run("decode", "").status == 2


def test_decode_for_programs(run: Run) -> None:
    document = run("decode", "The", "service", "ended,", "error", "1067", "--json").json
    assert document["format"] == "hollow-chain/decoded"
    assert document["readings"][0]["what"] == "1067"
    assert document["readings"][0]["causes"][0] == "exits-with-error"


def test_what_the_user_saw_is_evidence_and_makes_nothing_up(run: Run, tmp_path: Path, demo_facts: Path) -> None:
    (tmp_path / "facts.json").write_text(
        '{"format": "hollow-chain/snapshot", "version": 1, "hosts": [{"name": "pier", "manager": "control-manager", '
        '"read_at": "2026-03-04T06:00:00Z", "services": [{"name": "A", "state": "stopped", "startup": "automatic", '
        '"last": {"error_number": 1066}}]}]}'
    )
    plain = run("why", "A", "--from", "facts.json", "--json").json["causes"][0]
    heard = run("why", "A", "--from", "facts.json", "--json", "--says", "Error 1067").json["causes"][0]
    assert heard["confidence"] > plain["confidence"]
    assert "what the user saw" in [piece["source"] for piece in heard["evidence"]]
    well = run("why", "ChartServer", "--from", demo_facts, "--json", "--says", "Error 1053")
    assert well.status == 0

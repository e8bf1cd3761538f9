"""Log lines that are JSON objects, read as the sentences in them; and a service whose words are such lines."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.sources.systemd.journal import event_of
from hollow_chain.wording.structured import Sentence, spoken, uncolored, unpacked

LINES: dict[str, tuple[dict[str, Any], Sentence]] = {
    "a message and a level": ({"time": "2026-03-04T08:00:00Z", "level": "ERROR", "msg": "no such file"}, Sentence("no such file", "error")),
    "the error stands beside it": (
        {"ts": 1772, "lvl": "fatal", "message": "cannot open store", "error": "open /srv/a.db: permission denied"},
        Sentence("cannot open store: open /srv/a.db: permission denied", "critical"),
    ),
    "it is told once": ({"msg": "bind: in use", "err": "in use"}, Sentence("bind: in use", "")),
    "levels by tens": ({"level": 50, "time": 1, "pid": 7, "hostname": "quay", "msg": "x"}, Sentence("x", "error")),
    "what it is about": (
        {"severity": "warning", "event": "listen failed", "address": "127.0.0.1:80", "logger": "net", "caller": "a.go:3"},
        Sentence("listen failed address=127.0.0.1:80", "warning"),
    ),
    "an error in parts": (
        {"msg": "start", "err": {"type": "Error", "message": "listen EADDRINUSE: address already in use :::80", "stack": "Error\n at x"}},
        Sentence("start: listen EADDRINUSE: address already in use :::80", ""),
    ),
    "only an error": ({"level": "error", "error": "boom"}, Sentence("boom", "error")),
    "lines in a line": ({"msg": "one\ntwo"}, Sentence("one two", "")),
}  # fmt: skip


@pytest.mark.parametrize("name", LINES)
def test_the_sentence_of_a_line(name: str) -> None:
    entry, wanted = LINES[name]
    assert unpacked(json.dumps(entry)) == wanted


NO_SUCH_LINES = [
    "{",
    "{}",
    "[1]",
    "{not json}",
    '{"level": "error"}',
    '{"msg": 3}',
    "",
    "{" * 9000 + "}",
    '{"a":' * 9000 + "1" + "}" * 9000,
]


@pytest.mark.parametrize("line", NO_SUCH_LINES, ids=range(len(NO_SUCH_LINES)))
def test_what_is_no_such_line_stands_as_it_is(line: str) -> None:
    assert unpacked(line) is None


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(),
        lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner),
    )
)
def test_any_object_is_taken(value: Any) -> None:
    said = spoken(json.dumps({"msg": value, "error": value, "x": value}), 300)
    assert len(said.text) <= 300


def test_secrets_are_masked_within_and_beside_the_message() -> None:
    line = json.dumps(
        {"msg": "login with password=hunter2secret", "api_key": "sk-0123456789abcdef0123", "level": "error"}
    )
    said = spoken(line, 500)
    assert "hunter2secret" not in said.text and "0123456789abcdef" not in said.text and said.level == "error"


def test_colors_are_no_part_of_what_a_line_says() -> None:
    colored = (
        "\x1b[33m[11:04] ERRR: no \x1b[1;31mquay\x1b[0m\x1b[K \x1b]8;;http://quay\x1b\\here\x1b]8;;\x07 (a.c:3)\x1b[0m"
    )
    assert spoken(colored, 300).text == "[11:04] ERRR: no quay here (a.c:3)"
    assert spoken(json.dumps({"msg": colored}), 300).text == "[11:04] ERRR: no quay here (a.c:3)"
    assert "hunter2secret" not in spoken("pass\x1b[1mword=hunter2secret", 300).text
    assert uncolored("\x1b]0;" + "a" * 5000) == "\x1b]0;" + "a" * 5000


FRAMED = {
    "\u2570 FareError: no berth is free": "FareError: no berth is free",
    "\u2502 Invalid value for '--port': 'abc'   \u2502": "Invalid value for '--port': 'abc'",
    "  \u2502       if not berths:": "      if not berths:",
    "\u256d\u2500 Error \u2500\u2500\u2500\u256e": "Error",
    "\u251c\u2500\u2500 /srv/quay": "/srv/quay",
    "3 \u2502 port = abc": "3 \u2502 port = abc",
    "\u2500\u2500\u2500\u2500": "\u2500\u2500\u2500\u2500",
    "Prix: 12 \u20ac": "Prix: 12 \u20ac",
}


@pytest.mark.parametrize("line", FRAMED)
def test_a_frame_is_no_part_of_what_a_line_says(line: str) -> None:
    assert spoken(line, 200).text == FRAMED[line]


def test_a_record_of_the_journal_says_what_its_object_says() -> None:
    fields = {
        "MESSAGE": '{"level":"error","msg":"open store","err":"open /srv/a.db: no such file"}',
        "PRIORITY": "6",
        "_PID": "7",
    }
    event = event_of(fields, "tide.service", datetime(2026, 3, 4, tzinfo=UTC))
    assert (event.text, event.level) == ("open store: open /srv/a.db: no such file", "error")

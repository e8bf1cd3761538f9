"""Bounds on a number, by the words of a line, and the settings that are beyond them."""

import math

import pytest

from hollow_chain.wording.ranges import bounds_in, lies_outside, lines_outside


@pytest.mark.parametrize(
    ("line", "least", "most", "word"),
    [
        ("OverflowError: bind(): port must be 0-65535.", 0, 65535, "port"),
        ("worker count must be between 1 and 64", 1, 64, "worker"),
        ("expected depth from 2 to 8, got something else", 2, 8, "depth"),
        ("keepalive: valid range is [5, 600]", 5, 600, "keepalive"),
        ("pool size must be at least 2", 2, math.inf, "pool"),
        ("retries may be at most 9", -math.inf, 9, "retries"),
        ("fatal: invalid listen port", 0, 65535, "port"),
        ("RangeError [ERR_SOCKET_BAD_PORT]: options.port should be >= 0 and < 65536", 0, 65536, "port"),
        ("the tide level should be -20..30", -20, 30, "tide"),
    ],
)
def test_bounds_are_read_in_the_words_of_programs(line: str, least: float, most: float, word: str) -> None:
    bounds = bounds_in(line)
    assert bounds is not None
    assert (bounds.least, bounds.most) == (least, most)
    assert word in bounds.words


@pytest.mark.parametrize(
    "line",
    [
        "2026-03-04 05:00:00 stopped",
        "must be 1.2.3-4 or newer",
        "must be a number",
        "waits from 10:00 to 11:00",
        "port 80800 is not one",
        "no answer within 30-60 s",
        "retries from 1 to 5 came to nothing",
        "waited for at most 30 s",
        "",
    ],
)
def test_other_numbers_are_no_bounds(line: str) -> None:
    assert bounds_in(line) is None


def test_a_setting_is_told_by_its_name_and_its_number() -> None:
    bounds = bounds_in("port must be 0-65535")
    assert bounds is not None
    assert lies_outside(bounds, "BERTH_PORT", "80800")
    assert lies_outside(bounds, "listenPort", "-1")
    assert not lies_outside(bounds, "BERTH_PORT", "8080")
    assert not lies_outside(bounds, "EXPORTER_ROWS", "80800")
    assert not lies_outside(bounds, "BERTH_PORT", "eighty")
    text = "[server]\nport = 80800\nreport = 90000\n# port = 99999\nstore: {port: 70000}\nlisten.port: 70001\nport=127.0.0.1\n"
    assert lines_outside(text, bounds) == [2, 6]

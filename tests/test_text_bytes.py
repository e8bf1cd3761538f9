"""Texts of others in the encodings that they come in."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.facts.service import Program, Service
from hollow_chain.reach.here import here
from hollow_chain.sources.evidence_files import EvidenceReader
from hollow_chain.sources.logs import records_of
from hollow_chain.sources.text_bytes import text_of

LINE = "2031-03-04 06:12:09 ERROR cannot open /srv/chart.ini\n"


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le"])
def test_a_text_is_read_in_its_encoding(encoding: str) -> None:
    assert text_of((LINE * 3).encode(encoding)) == LINE * 3


@pytest.mark.parametrize("cut", range(1, 9))
def test_the_end_of_a_wide_text_is_read_wherever_it_was_cut(cut: int) -> None:
    whole = (LINE * 3).encode("utf-16")
    assert text_of(whole[cut:]).endswith(LINE * 2)


@pytest.mark.parametrize("data", [b"", b"\0", b"\0" * 9, b"a\0b", bytes(range(256)), b"\x7fELF\2\1\1\0\0\0\0\0"])
def test_what_is_no_wide_text_stays_what_it_is(data: bytes) -> None:
    assert text_of(data) == data.decode("utf-8", "replace")


@given(st.binary(max_size=200))
def test_any_bytes_are_read_without_harm(data: bytes) -> None:
    assert len(text_of(data)) <= len(data)


def test_a_log_of_two_bytes_a_character_is_evidence(tmp_path: Path) -> None:
    log = tmp_path / "desk.log"
    log.write_bytes((LINE * 2000).encode("utf-16"))
    service = Service(name="desk.service", program=Program(path="/opt/desk", log_files=[str(log)]))
    with EvidenceReader(here()) as reader:
        text = reader.text(service, str(log), 1 << 14, from_end=True)
    assert text is not None
    events = records_of(text, "desk.service", datetime(2031, 3, 4, tzinfo=UTC))
    assert events and all(event.text.endswith("cannot open /srv/chart.ini") for event in events)

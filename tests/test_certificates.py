"""How long certificates are valid, and looking into those that a service names which complains of one."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from functools import cache
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from hypothesis import given
from hypothesis import strategies as some

from hollow_chain.facts.host import Event, Host
from hollow_chain.facts.service import Program, Service
from hollow_chain.reach.here import here
from hollow_chain.sources import certificates
from hollow_chain.sources.reading import Asked, FamilyReaders, HostReading
from hollow_chain.wording.x509 import Validity, validity
from tests.conftest import Run

_SINCE = datetime(2025, 3, 4, 5, 6, 7, tzinfo=UTC)
_NAMES = {"short": "kiosk", "long": "k" * 60}


@cache
def made(since: datetime, until: datetime, name: str = "kiosk") -> tuple[bytes, bytes, bytes]:
    """A certificate of a ferry's kiosk, as text and in bytes, and its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    who = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, name)])
    made = (
        x509.CertificateBuilder(who, who, key.public_key(), x509.random_serial_number(), since, until)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    text = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    return made.public_bytes(Encoding.PEM), made.public_bytes(Encoding.DER), text


@pytest.mark.parametrize(
    "until", [_SINCE + timedelta(days=90), datetime(2049, 12, 31, tzinfo=UTC), datetime(2077, 1, 1, tzinfo=UTC)]
)
@pytest.mark.parametrize("name", _NAMES.values(), ids=_NAMES)
def test_both_forms_tell_how_long_they_are_valid(until: datetime, name: str) -> None:
    text, data, _ = made(_SINCE, until, name)
    assert validity(text) == validity(data) == Validity(_SINCE, until)


def test_the_first_of_a_chain_counts_behind_a_key_and_words_of_people() -> None:
    own, key = made(_SINCE, _SINCE + timedelta(days=1))[::2]
    above = made(_SINCE, _SINCE + timedelta(days=9999))[0]
    found = validity(b"subject=CN = kiosk\n" + key + own + above)
    assert found is not None and found.until == _SINCE + timedelta(days=1)


def test_a_year_of_the_last_century_is_one() -> None:
    early = datetime(1999, 1, 1, tzinfo=UTC)
    assert validity(made(early, _SINCE)[1]) == Validity(early, _SINCE)


@given(some.binary(max_size=400))
def test_any_bytes_are_survived(data: bytes) -> None:
    assert validity(data) is None or data


@given(some.integers(0, 399), some.integers(0, 255), some.integers(1, 400))
def test_a_certificate_that_is_changed_or_cut_off_is_survived(at: int, byte: int, length: int) -> None:
    data = bytearray(made(_SINCE, _SINCE + timedelta(days=90))[1])
    data[at % len(data)] = byte
    found = validity(bytes(data[:length]))
    assert found is None or found.until.tzinfo is UTC


def _reading(settings: Path, *words: str) -> HostReading:
    reading = HostReading(here(), Asked(), FamilyReaders((), unit_of=lambda _: ""))
    services = [
        Service(name=f"{n}.service", program=Program(settings_paths=[str(settings)])) for n in ("kiosk", "quay")
    ]
    events = [Event(service="kiosk.service", at=_SINCE, source="journal (kiosk)", text=text) for text in words]
    reading.host = Host(name="pier", services=services, events=events)
    return reading


@pytest.mark.parametrize(("words", "looks"), [("TLS: certificate has expired", True), ("sailing on time", False)])
def test_only_what_a_service_names_that_complains_is_looked_into(tmp_path: Path, words: str, looks: bool) -> None:
    own = tmp_path / "own.pem"
    own.write_bytes(made(_SINCE, _SINCE + timedelta(days=90))[0])
    reading = _reading(own, words)
    certificates.add(reading)
    assert [file.valid_until for file in reading.looker.seen.values()] == (
        [_SINCE + timedelta(days=90)] if looks else []
    )


def test_a_file_that_is_none_and_one_that_is_not_there_are_passed_over(tmp_path: Path) -> None:
    (tmp_path / "own.pem").write_text("no certificate")
    reading = _reading(tmp_path / "own.pem", f"{tmp_path}/gone.pem: certificate has expired")
    certificates.add(reading)
    assert {file.valid_until for file in reading.looker.seen.values()} == {None}


_HOST = """
- name: quay
  family: systemd
  read_at: 2026-03-04T06:00:00Z
  services:
  - {name: kiosk.service, state: failed, startup: automatic, last: {result: exit-code, exit_status: 1},
     program: {path: /usr/bin/kiosk, settings_paths: [/etc/kiosk/own.pem]}}
  files: [{path: /etc/kiosk/own.pem, valid_from: 2025-01-01T00:00:00Z, valid_until: 2026-01-01T00:00:00Z}]
  events: [{at: 2026-03-04T05:00:01Z, service: kiosk.service, source: journal (kiosk), text: "tls: certificate has expired"}]
"""


def test_the_certificate_is_named_with_its_last_moment(run: Run, facts: Callable[[str], Path]) -> None:
    said = run("why", "kiosk", "--from", facts(_HOST)).out
    assert "/etc/kiosk/own.pem was valid until 2026-01-01 00:00:00" in " ".join(said.split())

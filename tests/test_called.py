"""What nothing but the words of a service ties to another one: the verdict leads there, and quotes them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Run

_HOST = """
- name: quay
  family: systemd
  read_at: 2026-03-04T06:00:00Z
  boot_at: 2026-03-03T20:00:00Z
  services:
  - {{name: kiosk.service, state: failed, startup: automatic, last: {{result: exit-code, exit_status: 1}}}}
  - {{name: berths.service, state: stopped, startup: automatic, claims: [{{port: 5432, protocol: tcp}}], last: {{started_at: 2026-03-04T03:00:00Z,
      up_at: 2026-03-04T03:00:01Z, left_up_at: 2026-03-04T04:00:00Z, ended_at: 2026-03-04T04:00:00Z, result: success}}}}
  - {{name: anchor.service, state: stopped, startup: manual}}
  files: [{{path: /run/berths/desk.sock, exists: false}}]
  events: [{{at: 2026-03-04T05:00:01Z, service: kiosk.service, source: journal (kiosk), text: "{}"}}]
"""
_WORDS = {
    "port": "connect to 127.0.0.1:5432 failed: Connection refused",
    "socket": "connect to /run/berths/desk.sock: No such file or directory",
}


@pytest.mark.parametrize("words", _WORDS.values(), ids=_WORDS)
def test_the_words_that_lead_to_another_service_are_quoted_there(
    run: Run, facts: Callable[[str], Path], words: str
) -> None:
    said = " ".join(run("why", "kiosk", "--from", facts(_HOST.format(words))).out.split())
    assert "because of berths.service: berths.service is stopped" in said and words in said

"""The manager's queue on a real host: what waits, what was given up, what waits for each other, what was called off."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from typing import Any

import pytest

from tests.live.conftest import needs_a_host
from tests.live.realhost import RealHost

pytestmark = pytest.mark.live
UNITS = {
    "slow": "[Service]\nType=oneshot\nExecStart=/bin/sleep infinity\n",
    "waits": "[Unit]\nAfter=slow.service\nWants=slow.service\n[Service]\nExecStart=/bin/sleep infinity\n",
    "given-up": "[Unit]\nJobTimeoutSec=1\nAfter=slow.service\nRequires=slow.service\n[Service]\nExecStart=/bin/sleep infinity\n",
    "above": "[Unit]\nAfter=given-up.service\nRequires=given-up.service\n[Service]\nExecStart=/bin/sleep infinity\n",
    "asks": "[Service]\nType=oneshot\nExecStart=/bin/systemctl start asked.service\nTimeoutStartSec=600\n",
    "between": "[Unit]\nAfter=asks.service\n[Service]\nExecStart=/bin/sleep infinity\n",
    "asked": "[Unit]\nAfter=between.service\nRequires=between.service\n[Service]\nExecStart=/bin/sleep infinity\n",
    "called-off": "[Service]\nType=oneshot\nExecStart=/bin/sleep infinity\n",
    "desk": "[Unit]\nWants=desk@a.service\n[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart=/bin/true\n",
    "flaps": "[Unit]\nStartLimitIntervalSec=0\n[Service]\nRestart=always\nRestartSec=700ms\nExecStart=/opt/flaps\n",
    "desk@": "[Service]\nExecStart=/opt/desk/%i\n",
}
SCRIPT = "".join(f"cat > /etc/systemd/system/{name}.service <<'E'\n{text}E\n" for name, text in UNITS.items())
SCRIPT += """cat > /opt/flaps <<'E'
#!/bin/sh
sleep 0.6; echo "error: cannot open /etc/flaps.conf: No such file or directory" >&2; exit 1
E
chmod 755 /opt/flaps
ln -s /usr/lib/systemd/system/gone.service /etc/systemd/system/alias.service
systemctl daemon-reload
systemctl start --no-block above waits asks called-off desk flaps
for i in $(seq 100); do
  systemctl list-jobs --plain --no-legend | grep -q between && journalctl -q -u given-up | grep -q 'Timed out' && break; sleep 0.1
done
systemctl stop called-off
"""


@pytest.fixture(scope="module")
def host() -> Iterator[RealHost]:
    needs_a_host()
    with RealHost("queue", keep=()) as made:
        made.run(SCRIPT)
        yield made


def asked(host: RealHost, name: str) -> dict[str, Any]:
    verdict: dict[str, Any] = json.loads(host.program(f"why {name} --json").stdout)
    return verdict


@pytest.mark.parametrize(
    ("name", "cause", "place"),
    [
        ("given-up", "start-waits", "given-up"),
        ("above", "start-waits", "given-up"),
        ("asks", "waiting-loop", "asks"),
        ("between", "waiting-loop", "asks"),
        ("asked", "waiting-loop", "asks"),
        ("called-off", "stopped", "called-off"),
        ("desk", "program-missing", "desk@a"),
        ("alias", "not-registered", "alias"),
    ],
)
def test_what_the_queue_tells(host: RealHost, name: str, cause: str, place: str) -> None:
    first = asked(host, name)["causes"][0]
    assert (first["cause"], first["service"]) == (cause, f"{place}.service")
    assert first["confidence"] >= 0.85


def test_a_start_that_waits_is_no_fault_and_is_not_called_a_lack_of_one(host: RealHost) -> None:
    verdict = asked(host, "waits")
    assert verdict["causes"] == [] and [note["cause"] for note in verdict["notes"]] == ["start-waits"]
    assert "slow.service" in verdict["notes"][0]["says"]


def test_ten_looks_a_second_apart_name_the_same(host: RealHost) -> None:
    looks = []
    for _ in range(10):
        first = asked(host, "flaps")["causes"][0]
        looks.append((first["cause"], first["service"]))
        time.sleep(1)
    assert looks == [("path-missing", "flaps.service")] * 10

"""What a service's own words lead to, on a real host: the socket of another service, a certificate, a folder that it may not make."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from tests.live.conftest import needs_a_host
from tests.live.realhost import RealHost
from tests.test_certificates import made

pytestmark = pytest.mark.live
CALLER = """
import os, socket, sys
what, place = sys.argv[1:]
try:
    if what == "call":
        socket.socket(socket.AF_UNIX).connect(place)
    elif what == "make":
        os.makedirs(place)
    else:
        open(place).read()
        sys.exit("TLS: cannot use the certificate of this kiosk: certificate has expired")
except OSError as error:
    sys.exit(f"cannot {'connect to' if what == 'call' else 'use'} {place}: {error.strerror}")
"""
SOCKET = "/run/redis/redis-server.sock"


@pytest.fixture(scope="module")
def quay() -> Iterator[RealHost]:
    """A host with a store that listens at a socket in the file system."""
    needs_a_host()
    with RealHost("quay", ("redis-server",)) as host:
        host.run(f"cat > /opt/caller.py <<'END'\n{CALLER}\nEND\necho 'unixsocket {SOCKET}' >> /etc/redis/redis.conf")
        yield host


def _why(host: RealHost, what: str, place: str) -> dict[str, Any]:
    """The first cause, after a start of a kiosk that does *what* with a *place* has failed."""
    unit = f"[Service]\\nUser=daemon\\nExecStart=/usr/bin/python3 /opt/caller.py {what} {place}\\n"
    host.run(
        f"printf '{unit}' > /etc/systemd/system/kiosk.service; systemctl daemon-reload; systemctl start kiosk\n"
        "for n in $(seq 100); do systemctl is-failed -q kiosk && break; sleep 0.1; done"
    )
    return dict(json.loads(host.program("why kiosk --json").stdout)["causes"][0])


@pytest.mark.parametrize(("act", "cause"), [("stop", "stopped"), ("mask --runtime --now", "disabled")])
def test_the_socket_of_a_service_that_is_down_leads_to_it(quay: RealHost, act: str, cause: str) -> None:
    quay.run(f"systemctl {act} redis-server")
    try:
        found = _why(quay, "call", SOCKET)
        assert (found["cause"], found["service"]) == (cause, "redis-server.service"), found["says"]
    finally:
        quay.run("systemctl unmask --runtime redis-server; systemctl start redis-server")


def test_a_socket_that_is_spelled_otherwise_is_told_beside_who_is_up(quay: RealHost) -> None:
    found = _why(quay, "call", SOCKET.replace("server", "svr"))
    assert (found["cause"], found["service"]) == ("path-missing", "kiosk.service")
    assert "redis-server.service" in found["says"] and "Put" not in " ".join(found["mends"])


def test_a_certificate_whose_time_is_over_is_named_with_its_last_moment(quay: RealHost) -> None:
    until = datetime.now(UTC).replace(microsecond=0) - timedelta(days=3)
    text = made(until - timedelta(days=90), until)[0].decode()
    quay.run(f"cat > /etc/kiosk.pem <<'END'\n{text}END\nchmod 644 /etc/kiosk.pem")
    found = _why(quay, "read", "/etc/kiosk.pem")
    assert found["cause"] == "certificate-expired" and found["confidence"] > 0.9, found["says"]
    assert f"{until:%Y-%m-%d %H:%M:%S}" in found["says"]


def test_errors_in_another_language_are_read(quay: RealHost) -> None:
    quay.run("localedef -i de_DE -f UTF-8 de_DE.UTF-8", check=False)
    quay.run(
        "printf '[Service]\\nEnvironment=LANG=de_DE.UTF-8\\nExecStart=/bin/cat /srv/kai/plan\\n' > /etc/systemd/system/kai.service\n"
        "systemctl daemon-reload; systemctl start kai; sleep 0.5"
    )
    assert "Datei oder Verzeichnis" in quay.run("journalctl -u kai -o cat").stdout
    found = json.loads(quay.program("why kai --json").stdout)["causes"][0]
    assert found["cause"] == "path-missing" and "/srv/kai/plan" in found["says"], found["says"]


def test_a_folder_that_it_may_not_make_is_told_by_the_one_above(quay: RealHost) -> None:
    found = _why(quay, "make", "/srv/tides")
    assert found["cause"] == "access-denied" and "/srv belongs to root:root" in found["says"], found["says"]

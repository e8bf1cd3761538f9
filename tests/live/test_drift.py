"""Pairs of readings of a real host, before and after one change, under the usual noise: the change stands first."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator
from typing import NamedTuple

import pytest

from tests.live.realhost import RealHost

pytestmark = pytest.mark.live
READINGS = "/var/tmp/readings"
OWN = """
mkdir -p /etc/quay /opt/quay
for name in tide-board fog-horn; do
printf '#!/bin/sh\\necho started with $1\\nexec sleep 1000000\\n' > /opt/quay/$name; chmod 755 /opt/quay/$name
printf 'berths = 7\\nlamp = green\\n' > /etc/quay/$name.conf
printf '[Unit]\\nDescription=%s of the quay\\n[Service]\\nExecStart=/opt/quay/%s /etc/quay/%s.conf\\n[Install]\\nWantedBy=multi-user.target\\n' \
  $name $name $name > /etc/systemd/system/$name.service
done
systemctl daemon-reload; systemctl enable -q --now tide-board fog-horn
"""
SERVICES = {
    "tide-board": "/etc/quay/tide-board.conf",
    "fog-horn": "/etc/quay/fog-horn.conf",
    "redis-server": "/etc/redis/redis.conf",
    "mosquitto": "/etc/mosquitto/mosquitto.conf",
}


class Pair(NamedTuple):
    """A change, how it is taken back, and what it should be called."""

    change: str
    back: str
    about: tuple[str, ...]


def drop_in(section: str, setting: str, *about: str) -> Pair:
    folder = "/etc/systemd/system/$S.service.d"
    change = f"mkdir -p {folder}; printf '[{section}]\\n{setting}\\n' > {folder}/50-quay.conf; systemctl daemon-reload"
    return Pair(change, f"rm -rf {folder}; systemctl daemon-reload", (*about, "definition files"))


KINDS = {
    "disabled": Pair("systemctl disable -q $S", "systemctl enable -q $S", ("startup type", "started at boot by")),
    "a condition": drop_in("Unit", "ConditionPathExists=/nowhere", "conditions"),
    "a start limit": drop_in("Service", "TimeoutStartSec=3", "start limit, s"),
    "a stop limit": drop_in("Service", "TimeoutStopSec=4", "stop limit, s"),
    "another restart": drop_in("Service", "RestartSec=17", "restart after, s"),
    "a variable": drop_in("Service", "Environment=QUAY=7", "environment"),
    "less memory": drop_in("Service", "MemoryMax=300M", "memory limit, bytes"),
    "read-only places": drop_in("Service", "ReadOnlyPaths=/opt", "read only (confinement)"),
    "another order": drop_in("Unit", "After=dbus.service", "starts after"),
    "a soft need": drop_in("Unit", "Wants=cron.service", "starts along"),
    "fewer files": drop_in("Service", "LimitNOFILE=512", "lowered limits"),
    "a word in its settings": Pair("cp -a $C /root/kept; echo '# quay' >> $C", "cp -a /root/kept $C", ("content of $C",)),
    "its settings closed": Pair("stat -c %a $C > /root/mode; chmod 0600 $C", "chmod $(cat /root/mode) $C", ("mode of $C",)),
    "its settings of another": Pair("stat -c %U:%G $C > /root/owner; chown games:games $C", "chown $(cat /root/owner) $C",
                                    ("owner of $C", "group of $C")),
    "its settings gone": Pair("mv $C $C.away", "mv $C.away $C", ("presence of $C",)),
}  # fmt: skip
NOISE = """
logger -t cron 'nothing of importance'; systemctl restart dbus 2>/dev/null; systemd-run -q --collect sh -c 'sleep 0.2'
systemctl restart $O; echo noise >> /var/log/quay.log; sync
"""
ALL = "HOLLOW_CHAIN_ALL" in os.environ
"""Whether all sixty pairs are tried, which take several minutes; else each kind of change on two services."""
PAIRS = [
    (service, kind)
    for number, kind in enumerate(KINDS)
    for at, service in enumerate(SERVICES)
    if ALL or (number + at) % 2 == 0
]


@pytest.fixture(scope="module")
def quay() -> Iterator[RealHost]:
    with RealHost("drift", keep=("redis-server", "mosquitto", "memcached")) as host:
        host.run(OWN)
        yield host


def test_the_change_stands_first_in_nearly_all_pairs(quay: RealHost) -> None:
    wrong = [f"{kind} of {service}: {said}" for service, kind in PAIRS if (said := _pair(quay, service, KINDS[kind]))]
    assert len(PAIRS) == (60 if ALL else 30) and len(wrong) <= len(PAIRS) // 20, "\n".join(wrong)


def _pair(host: RealHost, service: str, pair: Pair) -> str:
    """What stood first where it was something else than the change; empty where it was that."""
    other = "memcached" if service != "memcached" else "redis-server"
    settings = SERVICES[service]

    def filled(script: str) -> str:
        return f"S={service}; C={settings}; O={other}\n{script}"

    _kept(host)
    host.run(filled(NOISE))
    host.run(filled(pair.change))
    try:
        _kept(host)
        done = host.program(f"drift drift --from {READINGS} --json")
        if done.returncode not in (0, 1):
            return done.stderr
        found = json.loads(done.stdout)["differences"]
    finally:
        host.run(filled(pair.back))
    if not found:
        return "nothing"
    first = found[0]
    named = [about.replace("$C", settings) for about in pair.about]
    of_service = first["service"] in (f"{service}.service", None)
    return (
        "" if of_service and first["about"] in named else f"{first['service']} {first['about']} ({len(found)} in all)"
    )


def _kept(host: RealHost) -> None:
    done = host.program(f"capture --keep {READINGS}")
    assert done.returncode == 0, done.stderr

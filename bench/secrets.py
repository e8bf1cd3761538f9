"""How much leaks, and how much is hidden that is no secret: the forms of the tests, and the journal of a real host."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path

import yaml
from tests.live.realhost import RealHost, why_not
from tests.test_secrets import DATA, leaks

from hollow_chain.wording.secrets import mask_text

DAEMONS = (
    "nginx",
    "redis-server",
    "memcached",
    "mariadb",
    "postgresql",
    "mosquitto",
    "haproxy",
    "ssh",
    "squid",
    "dnsmasq",
    "cron",
)
_NEAR = 1000
"""Characters of a line that are ever read of a log."""


def measure(_: Path) -> Iterator[tuple[str, float, float]]:
    """The share of forms that leak, and of harmless lines that are masked."""
    forms = sum(map(len, yaml.safe_load((DATA / "secret_forms.yaml").read_text()).values()))
    leaking = leaks()
    print(f"forms of secrets: {forms - len(leaking)} of {forms} masked{': ' if leaking else ''}{'; '.join(leaking)}")
    yield "forms of secrets that leak / forms", len(leaking) / forms, 4 / 102
    lines = (DATA / "journal_lines.txt").read_text().splitlines() + _of_a_host()
    began = time.process_time()
    masked = [line for line in lines if mask_text(line[:_NEAR]) != line[:_NEAR]]
    took = time.process_time() - began
    print(
        f"harmless lines of real journals: {len(masked)} of {len(lines)} masked, {took / len(lines) * 1e6:.0f} us a line"
    )
    for line in masked[:10]:
        print(f"  {line[:150]}")
    yield "harmless lines masked / lines", len(masked) / len(lines), 1 / 500


def _of_a_host() -> list[str]:
    """The journal and the logs of a host that has just been booted with real daemons."""
    if why_not():
        return []
    with RealHost("words", DAEMONS) as host:
        host.run("sleep 2; systemctl restart nginx redis-server ssh; sleep 1", check=False)
        said = host.run("journalctl -o cat; cat /var/log/*/*.log /var/log/*.log", check=False).stdout
    return [line for line in said.splitlines() if line.strip()]

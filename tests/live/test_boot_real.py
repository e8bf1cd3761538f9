"""The rehearsal against reality: what is foreseen from the facts of one boot is what the next boots of that host bring."""

from __future__ import annotations

import json
import statistics
import textwrap
from pathlib import Path

import pytest
from scipy.stats import spearmanr

from tests.live.conftest import needs_a_host
from tests.live.realhost import RealHost

pytestmark = pytest.mark.live
BOOTS = 3
_READY = "exec /bin/sh -c 'sleep {}; systemd-notify --ready; exec sleep 1000'"
_BIND = (
    "import socket,subprocess,sys,time; time.sleep({}); s=socket.socket(); s.bind(('127.0.0.1', 7441)); s.listen(); "
    "subprocess.run(['systemd-notify','--ready']); time.sleep(1000)"
)
_BURN = "import time; [None for _ in iter(lambda: time.process_time() < {}, False)]"


def unit(service: str = "", section: str = "", wanted: str = "WantedBy=multi-user.target") -> str:
    """The text of a unit file."""
    return f"[Unit]\n{section}\n[Service]\n{service}\n[Install]\n{wanted}\n"


def once(seconds: float, **more: str) -> str:
    """A service that is up when it has slept."""
    return unit(f"Type=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sleep {seconds}\n{more.get('service', '')}", more.get("section", ""),
                more.get("wanted", "WantedBy=multi-user.target"))  # fmt: skip


def ready(seconds: float, section: str = "") -> str:
    """A service that says when it is up."""
    return unit(f"Type=notify\nNotifyAccess=all\nExecStart={_READY.format(seconds).removeprefix('exec ')}", section)


def units() -> dict[str, str]:
    """Some forty units: chains, races, a rate limit, a conflict, a loop, a masked need, and more."""
    found: dict[str, str] = {}
    for n in range(10):  # a chain of needs, the longest way through the boot
        need = f"Requires=chain-{n - 1}.service\nAfter=chain-{n - 1}.service" if n else ""
        found[f"chain-{n}"] = once(0.5 + 0.12 * n, section=need)
    for n in range(8):
        found[f"alone-{n}"] = once(0.2 + 0.55 * n)
    for n in range(5):
        found[f"ready-{n}"] = ready(0.45 + 0.7 * n, section="After=alone-0.service" if n % 2 else "")
    for n in range(3):
        found[f"fork-{n}"] = unit(f"Type=forking\nExecStart=/bin/sh -c 'sleep {0.35 + 0.8 * n}; sleep 1000 &'")
    for n in range(3):
        found[f"burn-{n}"] = unit(
            f'Type=oneshot\nRemainAfterExit=yes\nExecStart=/usr/bin/python3 -c "{_BURN.format(0.5 + 0.3 * n)}"'
        )
    for name, seconds in (("race-first", 0.4), ("race-second", 2.0)):
        found[name] = unit(f'Type=notify\nNotifyAccess=all\nExecStart=/usr/bin/python3 -c "{_BIND.format(seconds)}"')
    found["barred"] = unit("ExecStart=/bin/sh -c 'echo no berth; exit 3'\nRestart=on-failure\nRestartSec=200ms",
                           "StartLimitBurst=3\nStartLimitIntervalSec=60")  # fmt: skip
    found["on-barred"] = once(0.2, section="BindsTo=late-fails.service\nAfter=late-fails.service")
    found["late-fails"] = unit("Type=oneshot\nExecStart=/bin/sh -c 'sleep 0.3; exit 4'")
    found["wants-failed"] = once(0.3, section="Wants=late-fails.service\nAfter=late-fails.service")
    found["clash-wins"] = once(0.3, section="Conflicts=clash-loses.service")
    found["clash-loses"] = once(0.3)
    found["loop-vital"] = once(0.3, section="After=loop-cut.service", wanted="RequiredBy=multi-user.target")
    found["loop-cut"] = once(0.3, section="After=loop-vital.service")
    found["masked-need"] = once(0.3)
    found["needs-masked"] = once(0.3, section="Requires=masked-need.service")
    found["wants-masked"] = once(0.4, section="Wants=masked-need.service")
    found["deep-masked"] = once(0.3, section="Requires=needs-masked.service\nAfter=needs-masked.service")
    found["needs-missing"] = once(0.3, section="Requires=not-there.service\nAfter=not-there.service")
    found["passed-over"] = once(0.3, section="ConditionPathExists=/srv/not-there")
    found["too-slow"] = once(9.0, service="TimeoutStartSec=1500ms")
    found["on-slow"] = once(0.2, section="Requires=too-slow.service\nAfter=too-slow.service")
    found["off"] = once(0.2, wanted="")
    found["pulled-in"] = once(0.6, wanted="")
    found["pulls-in"] = once(0.2, section="Requires=pulled-in.service\nAfter=pulled-in.service")
    return found


def lay_out(folder: Path) -> list[str]:
    """Write the units, and the links that enable them, into the host's places under *folder*."""
    place = folder / "etc/systemd/system"
    for target in ("multi-user.target.wants", "multi-user.target.requires"):
        (place / target).mkdir(parents=True)
    made = units()
    for name, text in made.items():
        (place / f"{name}.service").write_text(textwrap.dedent(text))
        for word, target in (("WantedBy", "wants"), ("RequiredBy", "requires")):
            if f"{word}=multi-user.target" in text and name != "masked-need":
                (place / f"multi-user.target.{target}/{name}.service").symlink_to(f"../{name}.service")
    (place / "masked-need.service").unlink()
    (place / "masked-need.service").symlink_to("/dev/null")
    return [f"{name}.service" for name in made]


def actual(host: RealHost, names: list[str]) -> tuple[set[str], dict[str, float]]:
    """Which of *names* are up by the manager's own word, and how long after it began to boot."""
    host.run(
        "for i in $(seq 150); do systemctl list-jobs --no-legend | grep -q . || break; sleep 0.1; done; sleep 1",
        check=False,
    )
    began = int(host.run("systemctl show -p UserspaceTimestampMonotonic --value").stdout)
    shown = host.run(f"systemctl show -p Id,ActiveState,ActiveEnterTimestampMonotonic {' '.join(names)}").stdout
    moments = {}
    for block in shown.strip().split("\n\n"):
        words = dict(line.split("=", 1) for line in block.splitlines())
        if words["ActiveState"] == "active":
            moments[words["Id"]] = (int(words["ActiveEnterTimestampMonotonic"]) - began) / 1e6
    return set(moments), moments


def test_the_next_boots_are_as_rehearsed(tmp_path: Path) -> None:
    needs_a_host()
    names = lay_out(tmp_path / "extra")
    assert len(names) >= 30
    with RealHost("quay", (), tmp_path / "extra") as host:
        actual(host, names)
        document = json.loads(host.program("rehearse --json --runs 400").stdout)
    foreseen = {one["service"]: one for one in document["services"] if one["service"] in names}
    assert set(foreseen) >= set(names) - {"off.service", "masked-need.service"}
    boots = []
    for _ in range(BOOTS):
        with RealHost("quay", (), tmp_path / "extra") as host:
            boots.append(actual(host, names))
    up = {name for name, one in foreseen.items() if one["up"] + one["late"] >= 0.5}
    assert {name for name in names if sum(name in found for found, _ in boots) > BOOTS / 2} == up
    seen = sorted(up)
    middle = {name: statistics.median(moments[name] for _, moments in boots if name in moments) for name in seen}
    medians = [foreseen[name]["up_seconds"]["p50"] for name in seen]
    assert spearmanr(medians, [middle[name] for name in seen]).statistic >= 0.95
    last = statistics.median(max(moments.values()) for _, moments in boots)
    assert max(medians) == pytest.approx(last, rel=0.15)

"""``make shots``: run the main commands on the demo data in a terminal on a virtual screen and keep a picture of each.

Needs Debian's xvfb, xterm, imagemagick (for ``import``) and chromium.
"""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent / "screenshots"
PROGRAM = Path(sys.executable).parent / "hollow-chain"
SHOTS = {
    "why": "why kiosk --from facts",
    "roster": "roster --from facts --host office-01",
    "links": "links TimetableStore --from facts",
    "why-all": "why --all --from facts",
    "ports": "ports --from facts --host pierhead",
    "license-check": "license check suite.toml.txt --from facts --host pierhead",
    "decode": "decode 1053; hollow-chain decode 'bind() failed (98: Address already in use)'; hollow-chain case list --store taught.db",
    "rehearse": "rehearse --from facts --host voyage-ws",
    "suppose": "suppose 'limit all 60s' 'fails PositionFeed' --from facts --host voyage-ws",
    "mend": "mend kiosk --from facts",
    "register": "register /opt/tide/board --name tide-board --describe 'How high the water stands' --port 80 --needs boarding-list "
    "--from facts --host gate-03 -- --ramps 3",
    "survey": "survey --from readings; hollow-chain drift counter-05 --from readings",
    "about": "about barrier --from facts",
    "changes": "changes --from facts --host office-01; hollow-chain changes --between facts/office-01.yaml mended/office-01.json",
}
DISPLAY = ":77"
_LONGEST = 30.0
"""Seconds for which the end of a call is waited for before the picture is taken."""


def shoot(name: str, call: str, folder: Path, inside: str = "", seconds: float = 3.5, typed: str = "") -> None:
    """Run one call in a terminal window and keep a picture of the window; *inside*: what leads into another host,
    *typed*: what is shown in the place of the call."""
    program = f"{inside} {PROGRAM}" if inside else "hollow-chain"
    ended = folder / f".{name}-ended"
    script = f"clear; echo {shlex.quote(f'$ hollow-chain {typed or call}')}; echo; {program} {call}; touch {shlex.quote(str(ended))}; sleep 60"
    env = {**os.environ, "DISPLAY": DISPLAY, "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}", "LC_ALL": "C.UTF-8"}
    terminal = subprocess.Popen(
        ["xterm", "-u8", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x48+0+0", "-bg", "#10151c", "-fg", "#d8dee6",
         "-xrm", "xterm*color1: #ff7b72", "-xrm", "xterm*color6: #79c0ff", "-xrm", "xterm*color2: #7ee787", "-e", "bash", "-c", script],
        cwd=folder, env=env,
    )  # fmt: skip
    until = time.monotonic() + _LONGEST
    time.sleep(seconds)
    while not ended.exists() and time.monotonic() < until:  # a machine that has much to do takes longer
        time.sleep(0.2)
    time.sleep(0.3)
    ended.unlink(missing_ok=True)
    subprocess.run(["import", "-window", "root", str(HERE / f"{name}.png")], env=env, check=True)
    terminal.kill()
    terminal.wait()


SILENT = """
mkdir -p /opt/berthplan /var/lib/berthplan; install -m 640 /dev/null /var/lib/berthplan/plan.db
cat > /opt/berthplan/berthplan <<'END'
#!/usr/bin/python3
import sys, time
print('berthplan 4.2', flush=True)
time.sleep(0.5)
try:
    open('/var/lib/berthplan/plan.db', 'r+')
except OSError:
    sys.exit(1)
END
chmod 755 /opt/berthplan/berthplan
printf '[Unit]\\nDescription=Berth plan\\n[Service]\\nType=notify\\nUser=daemon\\nExecStart=/opt/berthplan/berthplan\\n' \\
  > /etc/systemd/system/berthplan.service
printf '[Install]\\nWantedBy=multi-user.target\\n' >> /etc/systemd/system/berthplan.service
systemctl daemon-reload; systemctl enable --quiet berthplan
"""
"""A service that does not say what it lacks."""


def shoot_observed(folder: Path) -> None:
    """A start that is watched, on a throwaway host."""
    sys.path.insert(0, str(HERE.parents[1]))
    from tests.live.realhost import RealHost

    with RealHost("berth-02") as host:
        host.run(SILENT)
        shoot(
            "observe",
            "observe berthplan --yes",
            folder,
            f"nsenter -t {host.init} -a env TERM=xterm-256color LC_ALL=C.UTF-8",
        )


LICENSE = """format = "hollow-chain/license"
version = 1

[server]
host = "{host}"
host_ids = ["{host_id}"]
port = 7199

[[daemon]]
name = "chartmaker"
program = "hollow-chain-license-daemon"
key = ""

[[entitlement]]
daemon = "chartmaker"
product = "voyage-suite"
feature = "routing"
version = "7.2"
seats = 3
until = 2099-12-31
signature = ""

[[entitlement]]
daemon = "chartmaker"
product = "voyage-suite"
feature = "weather"
seats = 2
until = 2026-02-28
signature = ""
"""


def shoot_hosts() -> None:
    """A file of hosts, checked from the chair of the technician: throwaway hosts with real SSH servers, and one that is not there."""
    from tests.live.far_faults import NEEDS, set_up
    from tests.live.harbor import Harbor

    with Harbor("quay", "office") as harbor:
        for name in ("office", "quay"):
            harbor.hosts[name].run(set_up(name))
        harbor.hosts_file('[hosts.mole]\nat = "ssh://root@10.77.0.99"\n' + NEEDS)
        harbor.hosts["office"].run("systemctl stop timetable")
        harbor.hosts["quay"].run("systemctl restart kiosk; sleep 1", check=False)
        inside = f"env HOME={harbor.home} ip netns exec {harbor.chair}"
        both = f"hosts check hosts.toml; {inside} {PROGRAM} why kiosk --from hosts.toml"
        typed = "hosts check hosts.toml; hollow-chain why kiosk --from hosts.toml"
        shoot("hosts", both, harbor.home, inside, 20, typed)


def _license_file(folder: Path) -> None:
    """A license file with much that is wrong."""
    wrong = folder / "suite.toml.txt"
    wrong.write_text(LICENSE.format(host="pierhead.ternholm.example", host_id="02:54:46:10:02:08"))
    sign = [PROGRAM, "license", "sign", wrong, "--key", folder / "key", "--daemon", "chartmaker"]
    subprocess.run(sign, check=True, stdout=subprocess.DEVNULL)
    wrong.write_text(
        wrong.read_text()
        .replace("seats = 3", "seats = 30")
        .replace("port = 7199", "port = 5004")
        .replace("program", "progam")
    )


def _readings(folder: Path) -> None:
    """A store of readings of the counters of the demo."""
    whole = [PROGRAM, "demo", "--all-troubles", "--out", "whole"]
    subprocess.run(whole, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    (folder / "whole/readings").rename(folder / "readings")


def _taught(folder: Path) -> None:
    """A store with some cases, most of them judged."""
    for target, cause in (
        ("kiosk", ""),
        ("LaneCount", "start-race"),
        *(("TideClock", "access-denied"),) * 4,
        ("LogBook", ""),
    ):
        call = [PROGRAM, "why", target, "--from", "facts", "--keep", "--store", "taught.db"]
        said = subprocess.run(call, cwd=folder, capture_output=True, text=True).stderr
        number = said.split("case ")[1].split(";")[0]
        if cause:
            subprocess.run([PROGRAM, "case", "correct", number, cause, "--store", "taught.db"], cwd=folder, check=True)


def shoot_page(folder: Path) -> None:
    """A page to hand on, as a browser shows it."""
    page = folder / "mend.html"
    subprocess.run(
        [PROGRAM, "mend", "kiosk", "--from", "facts", "--out", page], cwd=folder, check=False, stdout=subprocess.DEVNULL
    )
    browser = ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--no-first-run",
               "--disable-background-networking", f"--user-data-dir={folder / 'browser'}"]  # fmt: skip
    picture = [f"--screenshot={HERE / 'ticket.png'}", "--window-size=1280,1400", page.as_uri()]
    subprocess.run([*browser, *picture], check=True, stderr=subprocess.DEVNULL)


def main() -> None:
    """Take all pictures, or those that are named."""
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            subprocess.run([PROGRAM, "demo", "--out", "."], cwd=folder, check=True, stdout=subprocess.DEVNULL)
            _readings(folder)
            _license_file(folder)
            undo = [PROGRAM, "mend", "--undo", "--yes", "--from", "office"]
            subprocess.run(undo, cwd=folder, check=True, stdout=subprocess.DEVNULL)
            _taught(folder)
            for name, call in SHOTS.items():
                if len(sys.argv) < 2 or name in sys.argv[1:]:
                    shoot(name, call, folder)
            if len(sys.argv) < 2 or "observe" in sys.argv[1:]:
                shoot_observed(folder)
            if len(sys.argv) < 2 or "hosts" in sys.argv[1:]:
                shoot_hosts()
            if len(sys.argv) < 2 or "ticket" in sys.argv[1:]:
                shoot_page(folder)
            subprocess.run(
                [PROGRAM, "links", "TimetableStore", "--from", "facts", "--out", HERE / "links-picture.png"],
                cwd=folder,
                check=True,
            )
            subprocess.run(
                [PROGRAM, "rehearse", "--from", "facts", "--host", "pierhead", "--out", HERE / "rehearse-timeline.png"],
                cwd=folder,
                check=False,
            )
    finally:
        screen.kill()


if __name__ == "__main__":
    main()

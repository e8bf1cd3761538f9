"""Faults of the license chain: the stand-in server as a systemd service, an application service that needs seats."""

from __future__ import annotations

import sys
from pathlib import Path

from tests.live.faults import RELOAD, Fault, start, unit

PROGRAM = Path(sys.executable).parent / "hollow-chain"
FILE = "/etc/ferry/suite.toml"
_TEXT = """format = "hollow-chain/license"
version = 1

[server]
host = "$(hostname)"
host_ids = ["02:54:46:10:20:08"]
port = 7171

[[daemon]]
name = "chartmaker"
program = "/usr/local/bin/chartmaker"
key = ""

[[entitlement]]
daemon = "chartmaker"
product = "voyage-suite"
feature = "routing"
version = "7.2"
seats = 2
until = 2099-12-31
signature = ""
"""
SIGN = f"{PROGRAM} license sign {FILE} --key /root/k --daemon chartmaker >/dev/null\n"
SETUP = (
    "ip link add ferry0 type veth peer name ferry1; ip link set ferry0 address 02:54:46:10:20:08; ip link set ferry0 up\n"
    f"ln -sf {PROGRAM.parent}/hollow-chain-license-daemon /usr/local/bin/chartmaker; mkdir -p /etc/ferry\n"
    f"cat > {FILE} <<TOML\n{_TEXT}TOML\n"
    + SIGN
    + unit("license-desk.service", f"Type=notify\nNotifyAccess=all\nRuntimeDirectory=license-desk\nRuntimeDirectoryPreserve=yes\n"
           f"ExecStart={PROGRAM} license serve {FILE} --heartbeat 1")
    + unit("planner.service", f"Type=notify\nNotifyAccess=all\nExecStart={PROGRAM} license hold localhost:7171 --want voyage-suite/routing@7.1",
           "Wants=license-desk.service\nAfter=license-desk.service")
    + RELOAD
)  # fmt: skip
UP = (
    SETUP
    + "systemctl start license-desk; for i in $(seq 50); do grep -q up <(journalctl -u license-desk -o cat) && break; sleep 0.1; done\n"
)
PLAN = start("planner") + "sleep 0.5\n"


def fault(name: str, script: str, cause: str, place: str = "license-desk.service", target: str = "planner") -> Fault:
    """A fault on a host with nothing but the license chain."""
    return Fault(f"license: {name}", script, target, cause, place, (), ())


def edited(before: str, after: str) -> str:
    """Shell words that change a line of the license file."""
    return f"sed -i 's|{before}|{after}|' {FILE}\n"


LICENSE_FAULTS = [
    fault("file gone", SETUP + f"mv {FILE} /root/\n" + start("license-desk") + PLAN, "license-file-missing"),
    fault("file with a second extension", SETUP + f"mv {FILE} {FILE}.txt\n" + start("license-desk") + PLAN, "license-file-misnamed"),
    fault("file saved as UTF-16",
          SETUP + f"iconv -f utf-8 -t utf-16 {FILE} > /root/x; printf 'junk' >> /root/x; cp /root/x {FILE}\n" + start("license-desk") + PLAN,
          "license-file-misnamed"),
    fault("made out for another host", SETUP + edited("^host = .*", 'host = "mole-77"') + start("license-desk") + PLAN, "license-host-mismatch"),
    fault("a host ID with two digits swapped",
          SETUP + edited("^host_ids = .*", 'host_ids = ["02:54:46:10:02:08"]') + SIGN + start("license-desk") + PLAN, "license-hostid-mismatch"),
    fault("program of the daemon gone", SETUP + "rm /usr/local/bin/chartmaker\n" + start("license-desk") + "sleep 1\n" + PLAN,
          "license-daemon-missing"),
    fault("program of the daemon mistyped, server asked", SETUP + edited("/usr/local/bin/chartmaker", "/usr/local/bin/chart-maker")
          + start("license-desk") + "sleep 1\n", "license-daemon-missing", target="license-desk"),
    fault("server stopped", UP + "systemctl stop license-desk\n"
          + "sed -i '/^Wants/d' /etc/systemd/system/planner.service\n" + RELOAD + PLAN, "license-server-down"),
    fault("server killed", UP + "sed -i '/^Wants/d' /etc/systemd/system/planner.service\n" + RELOAD
          + "systemctl kill -s KILL license-desk; sleep 0.5\n" + PLAN, "license-server-down"),
    fault("server hangs", UP + "kill -STOP $(systemctl show -P MainPID license-desk)\n"
          + "timeout 15 systemctl start planner\n", "license-server-down"),
    fault("server masked", UP + "systemctl stop license-desk; rm /etc/systemd/system/license-desk.service\n"
          + unit("license-desk.service", f"ExecStart={PROGRAM} license serve {FILE}").replace("/etc/systemd", "/lib/systemd")
          + "systemctl mask license-desk\n" + RELOAD + PLAN, "disabled"),
    fault("daemon cannot run", SETUP + "rm /usr/local/bin/chartmaker; printf '#!/bin/sh\\nexit 9\\n' > /usr/local/bin/chartmaker\n"
          "chmod +x /usr/local/bin/chartmaker\n" + start("license-desk") + "sleep 1\n" + PLAN, "license-daemon-down"),
    fault("the daemon's fixed port is held", SETUP + edited("^key = ", "port = 7300\\nkey = ")
          + "(setsid python3 -m http.server 7300 --bind 127.0.0.1 >/dev/null 2>&1 &); sleep 1\n" + start("license-desk") + "sleep 1\n" + PLAN,
          "port-held"),
    fault("the server's port is held", SETUP + "(setsid python3 -m http.server 7171 --bind 127.0.0.1 >/dev/null 2>&1 &); sleep 1\n"
          + start("license-desk") + PLAN, "port-held"),
    fault("a second server", UP + unit("license-two.service", f"ExecStart={PROGRAM} license serve {FILE} --state /run/license-desk")
          + RELOAD + start("license-two") + "sleep 1\n", "license-second-server", "license-two.service", "license-two"),
    fault("expired", SETUP + edited("^until = .*", "until = 2020-01-31") + SIGN + start("license-desk") + "sleep 1\n" + PLAN, "license-expired"),
    fault("feature not entitled", UP + "sed -i 's|/routing@7.1|/tides|' /etc/systemd/system/planner.service\n" + RELOAD + PLAN,
          "license-entitlement-missing"),
    fault("version not entitled", UP + "sed -i 's|@7.1|@8.0|' /etc/systemd/system/planner.service\n" + RELOAD + PLAN,
          "license-entitlement-missing"),
    fault("all seats taken", UP + f"({PROGRAM} license hold localhost --want voyage-suite/routing:2 >/dev/null 2>&1 &); sleep 1\n" + PLAN,
          "license-seats-taken"),
    fault("seats raised by hand", SETUP + edited("^seats = 2", "seats = 200") + start("license-desk") + "sleep 1\n" + PLAN, "license-altered"),
    fault("new file not reloaded", UP + edited("routing", "tides") + SIGN + "sed -i s,/routing@7.1,/tides@7.1, /etc/systemd/system/planner.service\n"
          + RELOAD + PLAN, "license-not-reloaded"),
    fault("copies differ", SETUP + edited("^port = 7171", 'port = 7171\\ncopies = ["/srv/suite.toml"]')
          + f"cp {FILE} /srv/suite.toml; echo '# older' >> /srv/suite.toml; systemctl mask planner\n" + edited("^host = .*", 'host = "$(hostname)"')
          + start("license-desk") + "sleep 1; systemctl stop license-desk\n", "license-copies-differ", target="license-desk"),
    fault("issued tomorrow", SETUP + edited("^until = .*", "until = 2099-12-31\\nissued = 2098-01-01") + SIGN + start("license-desk") + "sleep 1\n"
          + PLAN, "license-clock-wrong"),
    fault("a lock file left by a crash is no obstacle, a wrong account is",
          SETUP + "useradd -m stoker; chmod 600 /etc/ferry/suite.toml\n"
          "sed -i 's/^Type=notify/User=stoker\\nType=notify/' /etc/systemd/system/license-desk.service\n" + RELOAD + start("license-desk") + PLAN,
          "access-denied"),
]  # fmt: skip

"""Faults of services whose chain leads to another host: how each is made and undone, and what is right."""

from __future__ import annotations

from typing import NamedTuple

TIMETABLE = r"""
import signal, socket, sys
settings = dict(line.split("=", 1) for line in open("/etc/timetable.conf").read().split() if "=" in line)
host, port = settings["listen"].rsplit(":", 1)
try:
    sailings = open(settings["sailings"]).read().splitlines()
except OSError as error:
    sys.exit(f"timetable: cannot open {settings['sailings']}: {error.strerror}")
desk = socket.socket()
desk.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
try:
    desk.bind((host, int(port)))
except OSError as error:
    sys.exit(f"timetable: cannot listen on {host}:{port}: {error.strerror}")
desk.listen()
while True:
    caller, _ = desk.accept()
    caller.sendall(b"\n".join(line.encode() for line in sailings))
    caller.close()
"""
KIOSK = r"""
import socket, sys, time
place = open("/etc/kiosk.conf").read().split()[0]
host, port = place.rsplit(":", 1)
try:
    desk = socket.create_connection((host, int(port)), 2)
except socket.gaierror:
    sys.exit(f"kiosk: cannot resolve host {host}: Name or service not known")
except TimeoutError:
    sys.exit(f"kiosk: connect to {place}: Connection timed out")
except OSError as error:
    sys.exit(f"kiosk: connect to {place}: {error.strerror}")
try:
    if not desk.recv(100):
        sys.exit("kiosk: the desk has no sailings")
except OSError:
    sys.exit("kiosk: the desk says nothing that is a sailing")
print("kiosk: showing sailings", flush=True)
while True:
    time.sleep(60)
"""
UNIT = """[Unit]
Description={about}
[Service]
ExecStart=/usr/bin/python3 /opt/{name}.py
{more}
[Install]
WantedBy=multi-user.target
"""
PLACE = "/usr/local/lib/systemd/system"
SET_UP = {
    "office": f"mkdir -p {PLACE}; printf '[Service]\\nExecStart=/usr/bin/python3 -m http.server 7400 --directory /srv\\n' >"
    f" {PLACE}/ticker.service;"
    "useradd -r timetable; mkdir -p /var/lib/timetable; echo 08:00 Holm > /var/lib/timetable/sailings.csv;"
    " chown -R timetable: /var/lib/timetable;"
    " printf 'listen=0.0.0.0:7400\\nsailings=/var/lib/timetable/sailings.csv\\n' > /etc/timetable.conf",
    "quay": "echo office:7400 > /etc/kiosk.conf",
}
"""What each host has beside its program and definition."""


def set_up(host: str) -> str:
    """The script that puts the service of *host* there, and starts it."""
    name, text, more = {"office": ("timetable", TIMETABLE, "User=timetable"), "quay": ("kiosk", KIOSK, "")}[host]
    unit = UNIT.format(about=f"{name.title()} of the ferries", name=name, more=more)
    return (
        f"{SET_UP[host]}\nmkdir -p {PLACE}\ncat > /opt/{name}.py <<'END'\n{text}\nEND\ncat > {PLACE}/{name}.service <<'END'\n{unit}\nEND\n"
        f"systemctl daemon-reload; systemctl enable -q --now {name}; sleep 0.5"
    )


NEEDS = '[[needs]]\nservice = "kiosk"\non = "quay"\nneeds = "timetable"\nat = "office"\n'


class FarFault(NamedTuple):
    """One fault across hosts."""

    on: str
    """The host that it is made on."""
    make: str
    undo: str
    cause: str
    host: str
    service: str
    declared: str = ""
    """What the file of hosts says beside the hosts and the need."""
    may_be: tuple[str, ...] = ()
    """Other names that are as right."""
    mended: bool = False
    """Whether the plan is carried out over SSH, and undone."""
    then: str = ""
    """What is done to the kiosk in the end."""
    options: tuple[str, ...] = ()
    """What the plan has to be agreed to with."""


_RESTART = "systemctl reset-failed timetable 2>/dev/null; systemctl restart timetable || true; sleep 0.3"
_WELL = (
    "systemctl unmask timetable >/dev/null 2>&1; systemctl enable timetable >/dev/null 2>&1; systemctl reset-failed timetable;"
    " systemctl restart timetable"
)

_SLOW = (
    "mkdir -p /etc/systemd/system/timetable.service.d; printf '[Service]\\nExecStartPre=/bin/sleep 3\\n' >"
    " /etc/systemd/system/timetable.service.d/slow.conf"
)
FAULTS: dict[str, FarFault] = {
    "masked": FarFault(
        "office", "systemctl stop timetable; systemctl mask timetable", _WELL, "disabled", "office", "timetable.service",
        mended=True,
    ),
    "stopped": FarFault("office", "systemctl stop timetable", _WELL, "stopped", "office", "timetable.service", mended=True),
    "port held": FarFault(
        "office",
        "systemctl stop timetable; systemctl start ticker; sleep 0.7;" + _RESTART, f"systemctl stop ticker; {_WELL}",
        "port-held", "office", "timetable.service", mended=True,
        options=("--may-stop", "ticker"),
    ),
    "data gone": FarFault(
        "office", f"mv /var/lib/timetable/sailings.csv /root/; {_RESTART}", f"mv /root/sailings.csv /var/lib/timetable/; {_WELL}",
        "path-missing", "office", "timetable.service",
    ),
    "data of another": FarFault(
        "office", f"chown root:root /var/lib/timetable; chmod 700 /var/lib/timetable; {_RESTART}",
        f"chown timetable: /var/lib/timetable; chmod 755 /var/lib/timetable; {_WELL}",
        "access-denied", "office", "timetable.service", mended=True,
    ),
    "its own store down": FarFault(
        "office",
        "mkdir -p /etc/systemd/system/timetable.service.d; printf '[Unit]\\nRequires=redis-server.service\\nAfter=redis-server.service\\n' >"
        " /etc/systemd/system/timetable.service.d/store.conf; systemctl daemon-reload; systemctl stop redis-server; chown root:"
        f" /var/lib/redis; {_RESTART}",
        f"rm -r /etc/systemd/system/timetable.service.d; chown redis: /var/lib/redis; systemctl daemon-reload; {_WELL}", "access-denied",
        "office", "redis-server.service", mended=True,
    ),
    "listens for itself only": FarFault(
        "office", f"sed -i s/0.0.0.0/127.0.0.1/ /etc/timetable.conf; {_RESTART}",
        f"sed -i s/127.0.0.1/0.0.0.0/ /etc/timetable.conf; {_WELL}", "listener-off", "office", "timetable.service",
    ),
    "listens on another port": FarFault(
        "office", f"sed -i s/:7400/:7401/ /etc/timetable.conf; {_RESTART}",
        f"sed -i s/:7401/:7400/ /etc/timetable.conf; {_WELL}", "exits-with-error", "quay", "kiosk.service",
    ),
    "limit too short": FarFault(
        "office",
        f"{_SLOW}; systemctl daemon-reload; for i in 1 2; do systemctl restart timetable; done; printf 'TimeoutStartSec=2\\n' >>"
        f" /etc/systemd/system/timetable.service.d/slow.conf; systemctl daemon-reload; {_RESTART}",
        f"rm -r /etc/systemd/system/timetable.service.d; systemctl daemon-reload; {_WELL}", "start-timeout", "office",
        "timetable.service", mended=True,
    ),
    "folder gone": FarFault(
        "office",
        "mkdir -p /etc/systemd/system/timetable.service.d; printf '[Service]\\nWorkingDirectory=/var/lib/timetable/desk\\n' >"
        f" /etc/systemd/system/timetable.service.d/desk.conf; systemctl daemon-reload; {_RESTART}",
        f"rm -r /etc/systemd/system/timetable.service.d; systemctl daemon-reload; {_WELL}", "workdir-missing", "office", "timetable.service",
    ),
    "working folder gone": FarFault(
        "office",
        "mkdir -p /etc/systemd/system/timetable.service.d; printf '[Service]\\nWorkingDirectory=/var/lib/timetable-desk\\n' >"
        f" /etc/systemd/system/timetable.service.d/desk.conf; systemctl daemon-reload; {_RESTART}",
        f"rm -r /etc/systemd/system/timetable.service.d /var/lib/timetable-desk; systemctl daemon-reload; {_WELL}", "workdir-missing", "office",
        "timetable.service", mended=True,
    ),
    "loaded from an older file": FarFault(
        "office",
        f"mkdir -p {PLACE}/timetable.service.d; printf '[Service]\\nEnvironment=DESK=1\\nExecStart=\\nExecStart=/usr/bin/nowhere\\n' >"
        f" {PLACE}/timetable.service.d/desk.conf; systemctl daemon-reload; {_RESTART}; rm {PLACE}/timetable.service.d/desk.conf",
        f"rm -r {PLACE}/timetable.service.d; systemctl daemon-reload; {_WELL}", "stale-definition", "office", "timetable.service",
        mended=True,
    ),
    "the kiosk itself stopped": FarFault(
        "office", "true", "true", "stopped", "quay", "kiosk.service", mended=True, then="systemctl stop kiosk",
    ),
    "account gone": FarFault(
        "office", f"systemctl stop timetable; usermod -l steward timetable; {_RESTART}",
        f"systemctl stop timetable; usermod -l timetable steward; {_WELL}", "account-missing", "office",
        "timetable.service",
    ),
    "firewall in between": FarFault(
        "office", "nft add table inet quayside; nft add chain inet quayside in '{ type filter hook input priority 0; }';"
        " nft add rule inet quayside in tcp dport 7400 drop",
        "nft delete table inet quayside", "path-blocked", "office", "timetable.service",
        declared='[[firewalls]]\nname = "quayside"\nbetween = ["quay", "office"]\n[[firewalls.rules]]\npasses = false\nprotocol = "tcp"\n'
        "first_port = 7400\nlast_port = 7400\n",
    ),
    "name resolves wrongly": FarFault(
        "quay", "sed -i 's/.* office$/10.77.0.99 office/' /etc/hosts", "sed -i 's/.* office$/10.77.0.3 office/' /etc/hosts",
        "host-unreachable", "quay", "kiosk.service",
    ),
    "name not known": FarFault(
        "quay", "sed -i s/office:/offfice:/ /etc/kiosk.conf", "sed -i s/offfice:/office:/ /etc/kiosk.conf", "host-unreachable", "quay",
        "kiosk.service",
    ),
    "host down": FarFault(
        "", "", "", "host-unreachable", "quay", "kiosk.service",
    ),
}  # fmt: skip
